"""Approaches written as SQL for PostgreSQL, over tables of the private cluster."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Literal

from ivrell.core.engines.base import Problem
from ivrell.core.engines.explain import Step, from_postgres
from ivrell.core.engines.rows import Rows, fetched
from ivrell.core.engines.sql import SqlApproach, SqlTask, counted
from ivrell.core.engines.sql_text import Statement
from ivrell.core.engines.task import ApproachFailed, Job

if TYPE_CHECKING:
    import psycopg

LOADED = "postgres"
_DATABASE_COUNTERS = (
    "xact_commit", "xact_rollback", "blks_read", "blks_hit", "tup_returned", "tup_fetched",
    "tup_inserted", "tup_updated", "tup_deleted", "temp_files", "temp_bytes",
)  # fmt: skip
_LOG_COUNTERS = ("wal_records", "wal_fpi", "wal_bytes", "wal_write", "wal_sync")
_BY_TABLE = """
SELECT relname,
       coalesce(heap_blks_read, 0) + coalesce(idx_blks_read, 0),
       coalesce(heap_blks_hit, 0) + coalesce(idx_blks_hit, 0)
FROM pg_statio_user_tables
"""
"""Blocks of each table with its indexes."""

_NAMES = {
    "xact_commit": "commits",
    "xact_rollback": "rollbacks",
    "blks_read": "blocks read",
    "blks_hit": "blocks found in buffers",
    "tup_returned": "rows scanned",
    "tup_fetched": "rows fetched by index",
    "tup_inserted": "rows inserted",
    "tup_updated": "rows updated",
    "tup_deleted": "rows deleted",
    "temp_files": "temporary files",
    "temp_bytes": "temporary bytes",
    "wal_records": "log records",
    "wal_fpi": "log full pages",
    "wal_bytes": "log bytes",
    "wal_write": "log writes",
    "wal_sync": "log flushes",
}


@dataclass(frozen=True, kw_only=True)
class PostgresApproach(SqlApproach):
    """SQL over tables loaded into a private PostgreSQL cluster; ``settings`` are set in the
    session, such as work_mem or max_parallel_workers_per_gather. ``at`` names a registered
    server of the user's own instead of the private one."""

    engine: Literal["postgres"]
    input: str = LOADED
    at: str = ""


class Counting:
    """What the server counted between two looks, from a connection of its own.

    Backends tell their counts about once a second; the session that worked is made to tell
    them at once after the clock has stopped.
    """

    def __init__(self, address: str) -> None:
        import psycopg

        self._db = psycopg.connect(address, autocommit=True)
        # Its own looks are counted in another database than the approach's.
        self._name = psycopg.conninfo.conninfo_to_dict(address)["dbname"]
        self._before: dict[str, float] = {}

    def begin(self, session: "psycopg.Connection[Any]") -> None:
        """Look before the clock starts, once that session has told what it did until then."""
        self._told_by(session)
        self._before = self._look()

    def since(self, session: "psycopg.Connection[Any]") -> dict[str, float]:
        """What was counted since then, by plain names."""
        self._told_by(session)
        now = self._look()
        counted = {name: now[name] - self._before.get(name, 0.0) for name in now}
        # Of tables only what they had a part in: there may be many.
        return {
            _NAMES.get(name, name): value
            for name, value in counted.items()
            if name in _NAMES or value
        }

    @staticmethod
    def _told_by(session: "psycopg.Connection[Any]") -> None:
        session.execute("SELECT pg_stat_force_next_flush()")
        # The flush happens when that session becomes idle, which it is after this.
        session.execute("SELECT 1")

    def _look(self) -> dict[str, float]:
        self._db.execute("SELECT pg_stat_clear_snapshot()")
        database = self._db.execute(
            f"SELECT {', '.join(_DATABASE_COUNTERS)} FROM pg_stat_database WHERE datname = %s",
            [self._name],
        ).fetchone()
        log = self._db.execute(f"SELECT {', '.join(_LOG_COUNTERS)} FROM pg_stat_wal").fetchone()
        found = dict(zip(_DATABASE_COUNTERS, database or (), strict=False))
        found |= dict(zip(_LOG_COUNTERS, log or (), strict=False))
        for table, read, hit in self._db.execute(_BY_TABLE).fetchall():
            found |= {f"{table}: blocks read": read, f"{table}: blocks found in buffers": hit}
        return {name: float(value) for name, value in found.items()}

    def close(self) -> None:
        self._db.close()


def connected(
    database: Mapping[str, str], settings: Mapping[str, Any], *, raw: bool = True
) -> "psycopg.Connection[Any]":
    """A session on the run's database with an approach's settings, each statement on its own;
    ``raw`` numbers bound values as the server does ($1), else they are marked %s.

    Raises ApproachFailed for a setting that the server does not take.
    """
    import psycopg

    cursor = psycopg.RawCursor if raw else psycopg.Cursor
    session = psycopg.connect(database["address"], autocommit=True, cursor_factory=cursor)
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
        raise ApproachFailed(type(error).__name__, str(error).strip(), line) from error


class _Task(SqlTask):
    def __init__(self, job: Job) -> None:
        super().__init__(job, mark="")
        self._session = connected(job.database, job.approach.get("settings", {}))
        self._counting = Counting(job.database["address"])
        self.set_up()

    def before_each(self) -> None:
        self._counting.begin(self._session)

    def execute(self, statement: Statement, fetch: bool = False) -> object:
        if fetch and self.discard:
            statement = replace(statement, text=counted(statement.text))
        return executed(self._session, statement, self.knobs, fetch=fetch)

    def explain(self, statement: Statement) -> Step:
        text = f"EXPLAIN (ANALYZE, BUFFERS, FORMAT JSON) {statement.text}"
        rows = executed(self._session, replace(statement, text=text), self.knobs)
        assert rows is not None
        return from_postgres(rows.rows[0][0])

    def counters(self) -> dict[str, float]:
        return self._counting.since(self._session)

    def close(self) -> None:
        self.tear_down()
        self._counting.close()
        self._session.close()


class PostgresEngine:
    """Runs SQL in a session on a private cluster; the server's work is the run's."""

    name = "postgres"
    language = "sql"
    approach = PostgresApproach
    packages = ("psycopg", "pyarrow")
    forms = (LOADED,)

    def outside(self) -> tuple[dict[str, str], tuple[str, ...], str]:
        """The server's programs on this machine."""
        from ivrell.core.cluster import server_version

        version = server_version()
        if version is None:
            return {}, ("the PostgreSQL server",), "apt-get install postgresql"
        return {"PostgreSQL": version}, (), ""

    def problem(self, approach: PostgresApproach) -> Problem | None:
        if not approach.code.strip():
            return Problem("There is no statement in the code.", cure="Write a SELECT.")
        return None

    def prepare(self, job: Job) -> _Task:
        return _Task(job)
