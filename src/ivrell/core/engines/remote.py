"""Approaches that ask a remote compute service, which a stand-in on this machine plays."""

import ast
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

from pydantic import Field

from ivrell.core.engines.base import Approach, Engine, Problem
from ivrell.core.engines.python import problem_of
from ivrell.core.engines.python_task import PythonTask
from ivrell.core.tasks.task import Counted, Job


@dataclass(frozen=True, kw_only=True)
class ServiceSettings:
    """How the service behaves.

    ``rule`` is Python that defines ``rule(row)``, computed for each row of a call. Every call
    takes ``latency_ms`` and up to ``jitter_ms`` more, drawn with ``seed``; more calls than
    ``calls_per_second`` (0: as many as come) are turned away with the time to wait;
    ``most_rows`` bounds one call; with ``cache`` rows asked before are answered at once.
    """

    __pydantic_config__ = {"extra": "forbid", "allow_inf_nan": False, "str_max_length": 200_000}

    rule: str
    latency_ms: Annotated[float, Field(ge=0, le=60_000)] = 2.0
    jitter_ms: Annotated[float, Field(ge=0, le=60_000)] = 0.0
    calls_per_second: Annotated[float, Field(ge=0, le=1e6)] = 0.0
    most_rows: Annotated[int, Field(ge=1, le=10_000_000)] = 10_000
    cache: bool = False
    seed: Annotated[int, Field(ge=0, lt=2**63)] = 1


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


class RemoteEngine(Engine):
    """Runs client code against the stand-in, whose own CPU time is kept apart."""

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

    def problem(self, approach: RemoteApproach) -> Problem | None:
        try:
            tree = ast.parse(approach.service.rule)
        except SyntaxError as error:
            return Problem(f"Python cannot read the service's rule: {error.msg}.")
        names = {node.name for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)}
        if "rule" not in names:
            return Problem(
                "The service's rule defines no function rule.", cure="Add one: def rule(row): ..."
            )
        return problem_of(approach.code, ["data", "knobs", "stage", "service"])

    def prepare(self, job: Job) -> Any:
        return _Task(job)
