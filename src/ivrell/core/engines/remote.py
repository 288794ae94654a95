"""Approaches that ask a remote compute service, which a stand-in on this machine plays."""

import ast
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from ivrell.core.engines.base import Approach, Engine, Needs, Problem, Scope, path_words
from ivrell.core.engines.python import PythonEngine, problem_of
from ivrell.core.engines.python_task import PythonTask
from ivrell.core.records.wire import Job
from ivrell.core.service.settings import ServiceSettings
from ivrell.core.tasks.task import Counted


@dataclass(frozen=True, kw_only=True)
class RemoteApproach(Approach):
    """A function ``answer(data, knobs, stage, service)`` in ``code``: ``service.call(rows)``
    waits for results, ``service.later(rows)`` gives a ticket for ``service.wait(ticket)``,
    ``service.another()`` a connection for another thread, ``service.url`` the address.
    """

    engine: Literal["remote"]
    code: str
    service: ServiceSettings = field(kw_only=True)

    def text(self) -> str:
        return self.code

    @property
    def needs(self) -> Needs:
        return Needs(service=self.service)


class _Task(PythonTask):
    def __init__(self, job: Job) -> None:
        from ivrell.core.service.client import Connection

        self._service = Connection(job.service)
        super().__init__(job, Connection(job.service))
        self._before: Mapping[str, float] = {}

    def before_each(self) -> None:
        super().before_each()
        self._before = self._service.counters()

    def counted(self) -> Counted:
        now = self._service.counters()
        return Counted({f"service: {name}": now[name] - self._before.get(name, 0) for name in now})

    def close(self) -> None:
        self._service.close()


_STARTING = """import csv


def answer(data, knobs, stage, service):
    with open(data.{table}, newline="") as file:
        rows = list(csv.DictReader(file))
    with stage("ask"):
        counted = service.call(rows)
    return [{{"rows": sum(counted)}}]
"""


class RemoteEngine(Engine[RemoteApproach]):
    """Runs client code against the stand-in, whose own CPU time is kept apart."""

    how = (
        "Write a function answer(data, knobs, stage, service): service.call(rows) gives the "
        "service's results for rows, service.later(rows) a ticket for service.wait(ticket). Its "
        "rule and its delays stand in the settings."
    )
    stage = PythonEngine.stage
    answer = PythonEngine.answer

    name = "remote"
    language = "python"
    approach = RemoteApproach
    packages = ("pyarrow",)
    forms = None

    def starting(self, table: str, column: str) -> dict[str, Any]:
        rule = "def rule(row):\n    return 1\n"
        return {
            "service": {"rule": rule, "latency_ms": 1.0},
            "code": _STARTING.format(table=table),
        }

    def table_name(self, table: str) -> str:
        return f"data.{table}"

    def knob_name(self, knob: str) -> str:
        return f"knobs.{knob}"

    def table_words(self, approach: RemoteApproach) -> str:
        return path_words(approach.wanted)

    def scope(self, approach: RemoteApproach) -> Scope:
        return Scope.SERVICE

    def problem(self, approach: RemoteApproach) -> Problem | None:
        try:
            tree = ast.parse(approach.service.rule)
        except SyntaxError as error:
            return Problem(f"Python cannot read the service's rule: {error.msg}.")
        names = {node.name for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)}
        if "rule" not in names:
            return Problem(
                "The service's rule defines no function rule.", hint="Add one: def rule(row): ..."
            )
        return problem_of(approach.code, ["data", "knobs", "stage", "service"])

    def prepare(self, job: Job) -> Any:
        return _Task(job)
