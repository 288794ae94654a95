"""Approaches that run in Apache Spark: SQL over views of the tables, or Python with a session."""

from __future__ import annotations

import ast
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal

from ivrell.core.engines.base import Approach, Engine, Needs, Problem, Seen
from ivrell.core.engines.python import PythonEngine, problem_of
from ivrell.core.engines.python_task import PythonTask
from ivrell.core.engines.sql_text import Statement, statements
from ivrell.core.records.wire import EXECUTORS_LOST, Job, RemoteUse, StatementPlan
from ivrell.core.spark.event_log import INPUT_BYTES, PYTHON_MEMORY
from ivrell.core.spark.failures import lost_executors, said
from ivrell.core.spark.install import INSTALL, java_version
from ivrell.core.tasks.task import ApproachFailed, Counted, Stage, Task

if TYPE_CHECKING:
    import pyarrow as pa

    from ivrell.core.base.waits import WantedStop
    from ivrell.core.engines.workspace import RunWorkspace, WorkspaceRequest

_READERS = {"csv": "csv", "csv.gz": "csv", "jsonl": "json", "parquet": "parquet", "orc": "orc"}
_PYTHON = re.compile(r"^(async\s+)?def\s+\w+\s*\(", re.MULTILINE)
_KNOB = re.compile(r"\{knobs\.(\w+)\}")
_SETTINGS = {
    "partitions": "spark.sql.shuffle.partitions",
    "executors": "spark.executor.instances",
    "cores": "spark.executor.cores",
    "memory": "spark.executor.memory",
}
"""Fields of an approach that are settings of its session."""

_VECTORED = ("parquet",)
UNCOUNTED = (
    "Spark counts of such files, read from a folder, those parts alone that it reads one by one: "
    "hardly more than their footers"
)
NO_LOG = "the settings of its session turn the event log off, which tells of its tasks"
UNREPORTED = (
    "the driver is elsewhere: what it and its executors used is not told to those who reach it by "
    "Spark Connect"
)


@dataclass(frozen=True, kw_only=True)
class SparkApproach(Approach):
    """SQL over a view a table, whose last query gives the answer; or a function
    ``answer(data, knobs, stage, spark)``, whose ``data`` names a DataFrame a table.

    ``at`` names the place that its session runs at, this machine's cores unless given;
    ``partitions`` of a shuffle, ``executors``, ``cores`` of each and ``memory`` of each (of the
    driver, where that does the work) and ``settings`` may name knobs, ``{knobs.cores}``.
    ``delivery`` says whether rows of the answer are brought to the driver inside the clock
    ("rows"), written by the executors ("written"), or only computed and counted ("discard").
    """

    engine: Literal["spark"]
    code: str
    input: Any = "parquet"
    at: str = ""
    delivery: Literal["rows", "written", "discard"] = "rows"
    partitions: int | str | None = None
    executors: int | str | None = None
    cores: int | str | None = None
    memory: str | None = None
    settings: Mapping[str, str | int | float | bool] = field(default_factory=dict)

    def text(self) -> str:
        return self.code

    @property
    def needs(self) -> Needs:
        return Needs(at=self.at, session=True)


def in_python(code: str) -> bool:
    """Whether an approach's code is Python, not SQL: it defines a function."""
    return _PYTHON.search(code) is not None


def session_settings(approach: Mapping[str, Any], knobs: Mapping[str, Any]) -> dict[str, str]:
    """What an approach asks of its session, with knobs in place. Raises ApproachFailed."""

    def placed(value: object) -> str:
        def of(found: re.Match[str]) -> str:
            if found[1] not in knobs:
                known = ", ".join(knobs) or "none"
                raise ApproachFailed(
                    "bad setting", f"There is no knob “{found[1]}”; there are: {known}"
                )
            return str(knobs[found[1]])

        if isinstance(value, bool):
            return str(value).lower()
        return _KNOB.sub(of, str(value))

    asked = {name: approach.get(field) for field, name in _SETTINGS.items()}
    found = {name: placed(value) for name, value in asked.items() if value is not None}
    return found | {name: placed(value) for name, value in approach.get("settings", {}).items()}


def _on_this_machine(files: str | list[str]) -> bool:
    return (files if isinstance(files, str) else files[0]).startswith("/")


class SparkTask(Task):
    """One approach in a session of its own; what differs between SQL and Python is below."""

    works_on = True

    hands_over_as_is = False

    def __init__(self, job: Job) -> None:
        # Loaded only here: pyspark is a part of Ivrell that not everybody has.
        from ivrell.core.spark.session import Watch, is_connect, is_local, open_session

        place = job.spark
        if place is None:
            raise ApproachFailed("no session", "No place was named that a session runs at.")
        self._job, self._place = job, place
        self._delivery = job.approach.get("delivery", "rows")
        settings = session_settings(job.approach, job.knobs)
        self._local = is_local(place)
        if self._local and (memory := job.approach.get("memory")):
            settings.setdefault("spark.driver.memory", str(memory))
        try:
            self.spark = open_session(place, job.folder, settings)
        except Exception as error:
            raise _failure(error, None) from error
        self._watch = None if is_connect(place) else Watch(self.spark, job.folder)
        for name in job.tables:
            try:
                self._table(name).createOrReplaceTempView(name)
            except Exception as error:
                raise ApproachFailed(
                    "file cannot be read", f"Table {name}: {said(error)}"
                ) from error

    def _table(self, name: str) -> Any:
        """A table of the job as a DataFrame over its files."""
        from ivrell.core.spark.tables import reader_for

        job = self._job
        path = job.tables[name]
        paths = [path] if isinstance(path, str) else list(path)
        shape = job.shapes.get(name)
        reader = reader_for(self.spark, _READERS[job.form], shape, job.styles.get(name), paths)
        return reader.load(paths)

    def before_each(self) -> None:
        self.spark.catalog.clearCache()
        if self._watch:
            self._watch.begin()

    def produced(self, stage: Stage) -> object:
        """The approach's answer, lazy or not; timed."""
        raise NotImplementedError

    def run(self, stage: Stage) -> object:
        try:
            return self._computed(stage)
        except ApproachFailed as error:
            raise self._lost(error) or error from error

    def _lost(self, error: ApproachFailed) -> ApproachFailed | None:
        """An error as that of executors that were lost, where it is one."""
        tally = None
        if self._watch:
            self._watch.settle()
            tally = self._watch.tally
        words = lost_executors(f"{error.message}\n{error.trace}", tally)
        return ApproachFailed(EXECUTORS_LOST, words, error.line, error.trace) if words else None

    def _computed(self, stage: Stage) -> object:
        answer = self.produced(self._grouped(stage))
        frame = as_frame(answer)
        if frame is None:
            return answer
        # A query of SQL has its stage already.
        with self._grouped(stage)(self.forcing):
            try:
                return self._forced(frame)
            except Exception as error:
                raise self.failure(error) from error

    forcing = "compute what was lazy"

    def failure(self, error: Exception) -> ApproachFailed:
        """An error of Spark's as the approach's."""
        return _failure(error, None)

    def _grouped(self, stage: Stage) -> Stage:
        """Stages whose jobs Spark knows by the stage's name."""

        @contextmanager
        def named(name: str) -> Iterator[None]:
            if self._watch is None:
                with stage(name):
                    yield
                return
            context = self.spark.sparkContext
            before = context.getLocalProperty("spark.jobGroup.id")
            with stage(name):
                context.setJobGroup(name, name)
                try:
                    yield
                finally:
                    context.setLocalProperty("spark.jobGroup.id", before)

        return named

    def _forced(self, frame: Any) -> object:
        from ivrell.core.spark.answers import count_rows, written

        if self._delivery == "written":
            return written(frame, self._job.folder, self._place.storage)
        if self._delivery == "discard":
            return [{"rows": count_rows(frame)}]
        return frame.toArrow()

    def hand_over(self, answer: object) -> pa.Table:
        from ivrell.core.spark.answers import Written, described

        if isinstance(answer, Written):
            return described(self.spark, answer)
        return super().hand_over(answer)

    def counted(self) -> Counted:
        if self._watch is None:
            unknown = dict.fromkeys(("cpu_user_s", "peak_memory_bytes"), UNREPORTED)
            return Counted(unknown=unknown)
        if self._watch.tally is None:
            return Counted(unknown={"Spark: tasks": NO_LOG})
        self._watch.settle()
        counters = self._watch.tally.counters()
        unknown = {}
        if not counters[PYTHON_MEMORY]:
            del counters[PYTHON_MEMORY]
            unknown[PYTHON_MEMORY] = "no executor told of its Python workers meanwhile"
        if self._job.form in _VECTORED and all(map(_on_this_machine, self._job.tables.values())):
            del counters[INPUT_BYTES]
            unknown[INPUT_BYTES] = UNCOUNTED
        return Counted(counters, unknown, self._remote())

    def _remote(self) -> RemoteUse | None:
        """What executors on other machines used."""
        if self._local or self._place.seen or self._watch is None or self._watch.tally is None:
            return None
        used = self._watch.tally.used
        return RemoteUse(used.executor_cpu_s, 0.0, sum(used.held_bytes.values()))

    def explained(self) -> list[StatementPlan]:
        if self._watch is None or self._watch.tally is None:
            raise ApproachFailed("no plan", UNREPORTED)

        @contextmanager
        def unnamed(name: str) -> Iterator[None]:
            yield

        self._watch.begin()
        self.run(unnamed)
        self._watch.settle()
        return [
            StatementPlan(words, line, plan)
            for (words, plan), line in zip(self._watch.tally.plans(), self._lines(), strict=False)
        ]

    def _lines(self) -> Iterator[int]:
        """Line that each query stands in, as far as that is known."""
        while True:
            yield 1

    def close(self) -> None:
        """What belongs to the session ends with the run's processes, sooner than by asking it."""


class SparkSqlTask(SparkTask):
    """Statements of SQL."""

    forcing = "query"

    def __init__(self, job: Job) -> None:
        self._code = statements(job.approach["code"], job.knobs, mark=":")
        if not self._code:
            raise ApproachFailed("no answer", "There is no statement in the code. Write a SELECT.")
        self.forcing = self._stage_of(self._code[-1])
        super().__init__(job)

    def _stage_of(self, statement: Statement) -> str:
        named = any(other.stage for other in self._code)
        return (statement.stage or "first") if named else "query"

    def produced(self, stage: Stage) -> object:
        answer: Any = None
        for statement in self._code[:-1]:
            with stage(self._stage_of(statement)):
                answer = self._query(statement)
                if answer.columns:
                    answer.collect()
        return self._query(self._code[-1])

    def _query(self, statement: Statement) -> Any:
        values = {name: self._job.knobs[name] for name in statement.bound}
        try:
            return self.spark.sql(statement.text, args=values or None)
        except Exception as error:
            raise _failure(error, statement.line) from error

    def failure(self, error: Exception) -> ApproachFailed:
        return _failure(error, self._code[-1].line)

    def _lines(self) -> Iterator[int]:
        for statement in self._code:
            yield statement.line
        yield from super()._lines()


class SparkPythonTask(SparkTask):
    """A function of Python that is given the session."""

    def __init__(self, job: Job) -> None:
        super().__init__(job)
        frames = {name: self.spark.table(name) for name in job.tables}
        self._python = _Given(job, frames, self.spark)
        self.sets_up_each = self._python.sets_up_each

    def before_each(self) -> None:
        super().before_each()
        self._python.before_each()

    def produced(self, stage: Stage) -> object:
        return self._python.run(stage)

    def failure(self, error: Exception) -> ApproachFailed:
        return self._python.failed(error)


class _Given(PythonTask):
    """The function, whose tables are DataFrames and not files."""

    def __init__(self, job: Job, frames: Mapping[str, Any], spark: Any) -> None:
        from ivrell.core.engines.python_task import Named

        super().__init__(job, spark)
        self._data = Named("table", frames)

    def lazy(self, answer: object) -> Callable[[], object] | None:
        # What Spark is to do with one of its own is this engine's to say: the driver may be too
        # small to hold it.
        if type(answer).__module__.startswith("pyspark"):
            return None
        return super().lazy(answer)

    def failed(self, error: Exception) -> ApproachFailed:
        """An error of the function's, with its line; what Spark says of it in short."""
        from ivrell.core.engines.python_task import failure

        found = failure(error, self._source)
        return ApproachFailed(found.kind, said(error), found.line, found.trace)


def as_frame(answer: Any) -> Any | None:
    """An answer of Spark's own, or of pandas on Spark, as a DataFrame; None for any other."""
    module = type(answer).__module__
    if module.startswith("pyspark.pandas"):
        frame = answer.to_frame() if type(answer).__name__ == "Series" else answer
        named = any(name is not None for name in frame.index.names)
        return (frame.reset_index() if named else frame).to_spark()
    if module.startswith("pyspark.sql") and type(answer).__name__ == "DataFrame":
        return answer
    return None


def _failure(error: Exception, line: int | None) -> ApproachFailed:
    if isinstance(error, ApproachFailed):
        return error
    words = said(error)
    at = re.search(r"line (\d+), pos", words)
    if line is not None and at:
        line += int(at[1]) - 1
    return ApproachFailed(type(error).__name__, words, line, str(error)[-8000:])


_STARTING = "SELECT count(*) AS rows\nFROM {table}\n"
_IN_PYTHON = """from pyspark.sql import functions as F


def answer(data, knobs, stage, spark):
    return data.{table}.agg(F.count("*").alias("rows"))
"""


class SparkEngine(Engine[SparkApproach]):
    """Runs an approach in a session of Apache Spark, which starts outside the clock."""

    name = "spark"
    language = "sql"
    approach = SparkApproach
    packages = ("pyspark", "pyarrow")
    install = INSTALL
    forms = tuple(_READERS)
    given_shapes = True
    warm_up_calls = 1
    ways = ("DataFrame in Python",)
    how = (
        "Write SQL over views of the tables, or a function answer(data, knobs, stage, spark), "
        "whose data.TABLE are DataFrames. What is lazy is computed before the clock stops. The "
        "session starts outside the clock; its first call is told apart."
    )
    answer = (
        "The answer is a DataFrame of Spark, of pandas on Spark, or a small table of another "
        "library. With delivery = “written” it stays where the executors write it."
    )

    def language_of(self, approach: SparkApproach) -> str:
        return "python" if in_python(approach.code) else "sql"

    def outside(self) -> tuple[dict[str, str], tuple[str, ...], str]:
        """Java on this machine."""
        version = java_version()
        return ({"Java": version}, (), INSTALL) if version else ({}, ("Java",), INSTALL)

    def sees(
        self, approach: SparkApproach, tables: Iterable[str], knobs: Iterable[str]
    ) -> list[Seen]:
        if not in_python(approach.code):
            return super().sees(approach, tables, knobs)
        words = self.table_words(approach)
        return [
            *(Seen(f"data.{table}", words) for table in tables),
            *(Seen(f"knobs.{knob}", "a knob's value") for knob in knobs),
            Seen(PythonEngine.stage, "names a part of the run, timed on its own"),
        ]

    def table_words(self, approach: SparkApproach) -> str:
        return "a DataFrame over its files" if in_python(approach.code) else "a view over its files"

    def workspace(self, asked: WorkspaceRequest, wanted_stop: WantedStop) -> RunWorkspace:
        """Beside its session, at the place that the trial knows by the name of ``at``."""
        from ivrell.core.engines.spark_workspace import SessionWorkspace

        return SessionWorkspace(asked, wanted_stop)

    def problem(self, approach: SparkApproach) -> Problem | None:
        if not approach.code.strip():
            return Problem("There is no statement in the code.", hint="Write a SELECT.")
        if not in_python(approach.code):
            return None
        wanted = ["data", "knobs", "stage", "spark"]
        try:
            ast.parse(approach.code)
        except SyntaxError as error:
            return Problem(f"Python cannot read this: {error.msg}.", error.lineno)
        return problem_of(approach.code, wanted)

    def starting(self, table: str, column: str) -> dict[str, Any]:
        return {"code": _STARTING.format(table=table)}

    def starting_in(self, way: str, table: str) -> dict[str, Any]:
        return {"input": "parquet", "code": _IN_PYTHON.format(table=table)}

    def prepare(self, job: Job) -> SparkTask:
        return SparkPythonTask(job) if in_python(job.approach["code"]) else SparkSqlTask(job)
