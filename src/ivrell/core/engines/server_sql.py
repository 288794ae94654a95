"""Approaches written as SQL for a server that is reached by its driver: the private MariaDB, and
any other that is registered by its URL."""

from dataclasses import dataclass, replace
from typing import Literal, TypeVar

from ivrell.core.engines.base import Engine, Needs, Problem, Scope
from ivrell.core.engines.driver import DriverSession
from ivrell.core.engines.explain import from_lines
from ivrell.core.engines.sql import SessionTask, SqlApproach
from ivrell.core.engines.sql_text import Statement
from ivrell.core.records.wire import Job, Step
from ivrell.core.servers.dialects.session import MARK


@dataclass(frozen=True, kw_only=True)
class MariaDbApproach(SqlApproach):
    """SQL over tables on the private MariaDB server, or on a registered one that ``at`` names;
    ``settings`` are variables of the session."""

    engine: Literal["mariadb"]
    input: str = "mariadb"
    at: str = ""

    @property
    def needs(self) -> Needs:
        return replace(super().needs, at=self.at)


@dataclass(frozen=True, kw_only=True)
class ServerSqlApproach(SqlApproach):
    """SQL over tables on the registered server that ``at`` names, in its own dialect."""

    engine: Literal["sql"]
    input: str = "sql"
    at: str = ""

    @property
    def needs(self) -> Needs:
        return replace(super().needs, at=self.at)


class _Task(SessionTask[DriverSession]):
    def __init__(self, job: Job) -> None:
        super().__init__(job, MARK, DriverSession)

    def explain(self, statement: Statement) -> Step:
        lines, done = self.session.explained(statement, self.knobs)
        if not done:
            self.execute(statement)
        return from_lines(lines)


OwnSql = TypeVar("OwnSql", bound=SqlApproach)


class _ServerEngine(Engine[OwnSql]):
    language = "sql"

    def scope(self, approach: OwnSql) -> Scope:
        return Scope.SERVER

    def problem(self, approach: OwnSql) -> Problem | None:
        if not approach.code.strip():
            return Problem("There is no statement in the code.", hint="Write a SELECT.")
        return None

    def prepare(self, job: Job) -> _Task:
        return _Task(job)


class MariaDbEngine(_ServerEngine[MariaDbApproach]):
    """Runs SQL in a session on the private server; the server's work is the run's."""

    name = "mariadb"
    approach = MariaDbApproach
    packages = ("mariadb", "sqlalchemy", "pyarrow")
    forms = ("mariadb",)
    arrives_behind = True

    def outside(self) -> tuple[dict[str, str], tuple[str, ...], str]:
        """The server's programs on this machine."""
        from ivrell.core.servers.mariadb import INSTALL, server_version

        version = server_version()
        if version is None:
            return {}, ("the MariaDB server",), INSTALL
        return {"MariaDB": version}, (), ""


class ServerSqlEngine(_ServerEngine[ServerSqlApproach]):
    """Runs SQL in a session on a server of the user's own."""

    name = "sql"
    approach = ServerSqlApproach
    packages = ("sqlalchemy", "pyarrow")
    forms = ("sql",)
    how = (
        "Write SQL in the dialect of the server that the settings name with at = “its name”; the "
        "rows of the last statement are the answer, fetched inside the clock."
    )

    def problem(self, approach: ServerSqlApproach) -> Problem | None:
        if not approach.at:
            return Problem(
                "The lane names no server.",
                hint='Register one on the machine page, and say at = "its name" in the settings.',
            )
        return super().problem(approach)
