"""Approaches written in Python: dataframe libraries, plain loops, parallel processes."""

import ast
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from ivrell.core.engines.base import Approach, Engine, Needs, Problem, Scope, path_words
from ivrell.core.engines.python_task import DrivingTask, PythonTask
from ivrell.core.engines.python_ways import WAYS
from ivrell.core.recipe.input import Input
from ivrell.core.records.wire import Job


@dataclass(frozen=True, kw_only=True)
class PythonApproach(Approach):
    """A function ``answer(data, knobs, stage)`` in ``code``; where it also defines
    ``setup(data, knobs)``, that is called before each timed call, outside the clock, and what
    it returns is ``data.ready``. (With a server it may take the connection as a third.)

    With ``server = "postgres"`` the tables are loaded there, and answer takes an open
    connection as a fourth argument ``db``, that of the server's driver; keys, indexes, writes,
    settings, ``answer``, ``buckets`` and ``at`` are as for SQL. ``runtime`` names another
    interpreter of this machine.
    """

    engine: Literal["python"]
    code: str
    runtime: str | None = None
    server: Literal["postgres", "mariadb", "sql"] | None = None
    at: str = ""
    answer: str = ""
    buckets: Mapping[str, str] = field(default_factory=dict)
    keys: tuple[str, ...] = ()
    indexes: tuple[str, ...] = ()
    writes: bool = False
    settings: Mapping[str, str | int | float | bool] = field(default_factory=dict)

    def text(self) -> str:
        return self.code

    @property
    def needs(self) -> Needs:
        return Needs(
            self.keys, self.indexes, self.writes, server=self.server or "", at=self.at,
            runtime=self.runtime or "",
        )  # fmt: skip

    @property
    def wanted(self) -> Input:
        """Its input in full, which is the server's tables where it drives one."""
        return Input(form=self.server) if self.server else super().wanted


def problem_of(code: str, wanted: list[str]) -> Problem | None:
    """What is wrong with code that is to define ``answer`` with these arguments."""
    try:
        tree = ast.parse(code)
    except SyntaxError as error:
        return Problem(f"Python cannot read this: {error.msg}.", error.lineno)
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef) and node.name == "answer":
            if len(node.args.args) == len(wanted) or node.args.vararg:
                return None
            return Problem(
                f"answer takes {len(node.args.args)} arguments here.",
                node.lineno,
                f"Write it as answer({', '.join(wanted)}).",
            )
    return Problem(
        "The code defines no function answer.",
        hint=f"Add one: def answer({', '.join(wanted)}): ...",
    )


_STARTING = """import polars as pl


def answer(data, knobs, stage):
    with stage("read"):
        {table} = pl.scan_csv(data.{table})
    return {table}.select(pl.len().alias("rows"))
"""


class PythonEngine(Engine[PythonApproach]):
    """Runs ``answer(data, knobs, stage)`` in the worker's own interpreter."""

    takes_runtime = True
    ways = tuple(way.name for way in WAYS)
    how = (
        "Write a function answer(data, knobs, stage). What stands outside it, such as imports, is "
        'not timed. With server = "postgres" in the settings it has a fourth argument db, an open '
        "session: each statement commits by itself, several together are with db.transaction(): "
        "and db.address opens more sessions."
    )
    stage = 'with stage("read"):'
    answer = (
        "The answer is a table of pandas, Polars or PyArrow, a list of dicts, or the path of a "
        "file. Lazy ones are computed before the clock stops."
    )

    name = "python"
    language = "python"
    approach = PythonApproach
    packages = ("pandas", "polars", "pyarrow", "numpy")
    forms = None

    def starting(self, table: str, column: str) -> dict[str, Any]:
        return {"code": _STARTING.format(table=table)}

    def starting_in(self, way: str, table: str) -> dict[str, Any]:
        found = WAYS[self.ways.index(way)]
        return {"input": found.form, "code": found.at(table)}

    def table_name(self, table: str) -> str:
        return f"data.{table}"

    def knob_name(self, knob: str) -> str:
        return f"knobs.{knob}"

    def table_words(self, approach: PythonApproach) -> str:
        if approach.server:
            return "a table on the server"
        return path_words(approach.wanted)

    def scope(self, approach: PythonApproach) -> Scope:
        return Scope.SERVER if approach.server else Scope.RUN

    def problem(self, approach: PythonApproach) -> Problem | None:
        wanted = ["data", "knobs", "stage", *(["db"] if approach.server else [])]
        return problem_of(approach.code, wanted)

    def prepare(self, job: Job) -> PythonTask:
        return DrivingTask(job) if job.database else PythonTask(job)
