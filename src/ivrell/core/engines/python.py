"""Approaches written in Python: dataframe libraries, plain loops, parallel processes."""

import ast
import linecache
import traceback
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from ivrell.core.engines.answers import how_to_force
from ivrell.core.engines.base import Approach, ApproachFailed, Job, Problem, Stage, Task


@dataclass(frozen=True, kw_only=True)
class PythonApproach(Approach):
    """A function ``answer(data, knobs, stage)`` in ``code``; where it also defines
    ``setup(data, knobs)``, that is called before each timed call, outside the clock, and what
    it returns is ``data.ready``.

    With ``server = "postgres"`` the tables are loaded there, and answer takes an open
    connection as a fourth argument ``db``; keys, indexes, writes and settings are as for SQL.
    """

    engine: Literal["python"]
    code: str
    server: Literal["postgres"] | None = None
    keys: tuple[str, ...] = ()
    indexes: tuple[str, ...] = ()
    writes: bool = False
    settings: Mapping[str, str | int | float | bool] = field(default_factory=dict)

    def text(self) -> str:
        return self.code


class Named:
    """Values reached as attributes: ``data.passages``, ``knobs.batch``."""

    def __init__(self, what: str, values: Mapping[str, Any]) -> None:
        self.__dict__.update(values)
        self.__dict__["_what"] = what
        self.__dict__["_names"] = tuple(values)

    def __getattr__(self, name: str) -> Any:
        known = ", ".join(self.__dict__["_names"]) or "none"
        raise AttributeError(f"there is no {self.__dict__['_what']} “{name}”; there are: {known}")


def failure(error: BaseException, source: str) -> ApproachFailed:
    """An error of user code, with the deepest line of that code it passed through."""
    line = None
    if isinstance(error, SyntaxError) and error.filename == source:
        line = error.lineno
    for frame in traceback.extract_tb(error.__traceback__):
        if frame.filename == source:
            line = frame.lineno
    shown = traceback.TracebackException.from_exception(error, limit=-20)
    shown.stack = traceback.StackSummary.from_list(
        [frame for frame in shown.stack if "/ivrell/core/" not in frame.filename]
    )
    message = str(error) or "no message"
    return ApproachFailed(type(error).__name__, message, line, "".join(shown.format())[-8000:])


class _Task(Task):
    def __init__(self, job: Job) -> None:
        code = job.approach["code"]
        self._source = f"<approach {job.approach['id']}>"
        linecache.cache[self._source] = (len(code), None, code.splitlines(True), self._source)
        module: dict[str, Any] = {"__name__": "approach"}
        try:
            exec(compile(code, self._source, "exec"), module)  # noqa: S102 - the user's own code
        except Exception as error:
            raise failure(error, self._source) from error
        answer: Callable[..., object] | None = module.get("answer")
        if not callable(answer):
            raise ApproachFailed(
                "no answer function",
                "The code defines no function answer(data, knobs, stage). Add one.",
            )
        self._answer = answer
        self._setup: Callable[[Any, Any], object] | None = module.get("setup")
        self.sets_up_each = self._setup is not None
        self._data = Named("table", job.tables)
        self._knobs = Named("knob", job.knobs)
        self._more: tuple[Any, ...] = ()
        self._counting: Any = None
        if job.database:
            # Loaded only where it is needed, for what it would weigh.
            from ivrell.core.engines.postgres import Counting, connected

            self._counting = Counting(job.database["address"])
            self._more = (connected(job.database, job.approach.get("settings", {}), raw=False),)

    def before_each(self) -> None:
        if self._counting:
            self._counting.begin()
        if self._setup:
            try:
                self._data.__dict__["ready"] = self._setup(self._data, self._knobs)
            except Exception as error:
                raise failure(error, self._source) from error

    def run(self, stage: Stage) -> object:
        try:
            answer = self._answer(self._data, self._knobs, stage, *self._more)
            if compute := how_to_force(answer):
                with stage("compute what was lazy"):
                    answer = compute()
            return answer
        except Exception as error:
            raise failure(error, self._source) from error

    def run_many(self, stage: Stage, times: int) -> object:
        call, data, knobs, more = self._answer, self._data, self._knobs, self._more
        try:
            answer = call(data, knobs, stage, *more)
            if how_to_force(answer):
                return super().run_many(stage, times)
            for _ in range(times - 1):
                answer = call(data, knobs, stage, *more)
            return answer
        except Exception as error:
            raise failure(error, self._source) from error

    def counters(self) -> dict[str, float]:
        return self._counting.since(self._more[0]) if self._counting else {}

    def close(self) -> None:
        if self._counting:
            self._counting.close()
            self._more[0].close()


class PythonEngine:
    """Runs ``answer(data, knobs, stage)`` in the worker's own interpreter."""

    name = "python"
    language = "python"
    approach = PythonApproach
    packages = ("pandas", "polars", "pyarrow", "numpy")
    forms = None

    def problem(self, approach: PythonApproach) -> Problem | None:
        try:
            tree = ast.parse(approach.code)
        except SyntaxError as error:
            return Problem(f"Python cannot read this: {error.msg}.", error.lineno)
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef) and node.name == "answer":
                wanted = ["data", "knobs", "stage", *(["db"] if approach.server else [])]
                if len(node.args.args) == len(wanted) or node.args.vararg:
                    return None
                return Problem(
                    f"answer takes {len(node.args.args)} arguments here.",
                    node.lineno,
                    f"Write it as answer({', '.join(wanted)}).",
                )
        return Problem(
            "The code defines no function answer.",
            cure="Add one: def answer(data, knobs, stage): ...",
        )

    def prepare(self, job: Job) -> _Task:
        return _Task(job)
