"""Approaches written as SQL for PostgreSQL, over tables of the private cluster."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING, Any, Literal

from ivrell.core.engines.base import Engine, Needs, Problem, Scope
from ivrell.core.engines.explain import from_postgres
from ivrell.core.engines.postgres_counters import Counting
from ivrell.core.engines.sql import SessionTask, SqlApproach
from ivrell.core.engines.sql_text import Statement
from ivrell.core.records.wire import Counted, DatabasePlace, Job, Step
from ivrell.core.tasks.rows import Rows, fetched
from ivrell.core.tasks.sessions import tell_session
from ivrell.core.tasks.task import ApproachFailed

if TYPE_CHECKING:
    import psycopg

LOADED = "postgres"


@dataclass(frozen=True, kw_only=True)
class PostgresApproach(SqlApproach):
    """SQL over tables loaded into a private PostgreSQL cluster; ``settings`` are set in the
    session, such as work_mem or max_parallel_workers_per_gather. ``at`` names a registered
    server of the user's own instead of the private one."""

    engine: Literal["postgres"]
    input: str = LOADED
    at: str = ""

    @property
    def needs(self) -> Needs:
        return replace(super().needs, at=self.at)


def connected(
    database: DatabasePlace, settings: Mapping[str, Any], *, raw: bool = True
) -> "psycopg.Connection[Any]":
    """A session on the run's database with an approach's settings, each statement on its own;
    ``raw`` numbers bound values as the server does ($1), else they are marked %s.

    Raises ApproachFailed for a setting that the server does not take.
    """
    import psycopg

    from ivrell.core.engines.postgres_session import Session

    cursor = psycopg.RawCursor if raw else psycopg.Cursor
    address = database.address
    session = Session.connect(address, autocommit=True, cursor_factory=cursor)
    session.address = address
    for name, value in settings.items():
        marks = "$1, $2" if raw else "%s, %s"
        try:
            session.execute(f"SELECT set_config({marks}, false)", [name, str(value)])
        except psycopg.Error as error:
            raise ApproachFailed("bad setting", f"settings.{name}: {error}") from error
    return session


def executed(
    session: "psycopg.Connection[Any]",
    statement: Statement,
    knobs: Mapping[str, Any],
    *,
    fetch: bool = True,
) -> Rows | None:
    """Run one statement, whose bound values are numbered; its rows when asked.

    Raises ApproachFailed with the line.
    """
    import psycopg

    values = [knobs[name] for name in statement.bound]
    try:
        cursor = psycopg.RawCursor(session)
        cursor.execute(statement.text, values or None, binary=fetch)
        return fetched(cursor, statement.line) if fetch else None
    except psycopg.Error as error:
        place = getattr(getattr(error, "diag", None), "statement_position", None)
        before = statement.text[: int(place) - 1] if place else ""
        line = statement.line + before.count("\n")
        message = str(error).strip()
        if isinstance(error, psycopg.errors.InsufficientPrivilege):
            message += _MAY_NOT
        raise ApproachFailed(type(error).__name__, message, line) from error


_MAY_NOT = (
    "\nTables that runs share can only be read: an approach that changes or makes tables says "
    "writes = true, and finds a copy of its own. Temporary tables are free to all."
)


class PostgresSession:
    """A session on a run's database, and what the server counts of it.

    Attributes:
        db: the connection, each statement on its own.
    """

    def __init__(self, job: Job, *, raw: bool) -> None:
        self.db = connected(job.loaded, job.approach.get("settings", {}), raw=raw)
        tell_session(job.folder, self.db.info.backend_pid)
        self._counting = Counting(job.loaded)

    def executed(
        self, statement: Statement, knobs: Mapping[str, Any], *, fetch: bool
    ) -> Rows | None:
        """Run one statement; its rows when asked. Raises ApproachFailed with the line."""
        return executed(self.db, statement, knobs, fetch=fetch)

    def begin(self) -> None:
        """Look at the counters before the clock starts."""
        self._counting.begin(self.db)

    def since(self) -> Counted:
        """What was counted since then."""
        return self._counting.since(self.db)

    def close(self) -> None:
        """Close the session."""
        self._counting.close()
        self.db.close()


class _Task(SessionTask[PostgresSession]):
    def __init__(self, job: Job) -> None:
        super().__init__(job, "", partial(PostgresSession, raw=True))

    def explain(self, statement: Statement) -> Step:
        text = f"EXPLAIN (ANALYZE, BUFFERS, FORMAT JSON) {statement.text}"
        rows = self.session.executed(replace(statement, text=text), self.knobs, fetch=True)
        assert rows is not None
        return from_postgres(rows.rows[0][0])


class PostgresEngine(Engine[PostgresApproach]):
    """Runs SQL in a session on a private cluster; the server's work is the run's."""

    name = "postgres"
    language = "sql"
    approach = PostgresApproach
    packages = ("psycopg", "pyarrow")
    forms = (LOADED,)

    def outside(self) -> tuple[dict[str, str], tuple[str, ...], str]:
        """The server's programs on this machine."""
        from ivrell.core.servers.postgresql import server_version

        version = server_version()
        if version is None:
            return {}, ("the PostgreSQL server",), "apt-get install postgresql"
        return {"PostgreSQL": version}, (), ""

    def scope(self, approach: PostgresApproach) -> Scope:
        return Scope.SERVER

    def problem(self, approach: PostgresApproach) -> Problem | None:
        if not approach.code.strip():
            return Problem("There is no statement in the code.", hint="Write a SELECT.")
        return None

    def prepare(self, job: Job) -> _Task:
        return _Task(job)
