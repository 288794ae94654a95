"""What a PostgreSQL server counted of one session's work, and of nobody else's."""

import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ivrell.core.records.wire import Counted, DatabasePlace

if TYPE_CHECKING:
    import psycopg

_SESSIONS_END_S = 2.0
_LOOK_AGAIN_S = 0.02
_OWN_TRANSACTIONS = 2
"""Transactions of Ivrell's own between its two readings of the session's number: the first
reading is behind it already, the flush of the statistics and the second reading are not."""

_OF_TABLES = {
    "rows scanned": "seq_tup_read",
    "rows fetched by index": "idx_tup_fetch",
    "rows inserted": "n_tup_ins",
    "rows updated": "n_tup_upd",
    "rows deleted": "n_tup_del",
    "blocks read": "heap_blks_read + idx_blks_read + toast_blks_read + tidx_blks_read",
    "blocks found in buffers": "heap_blks_hit + idx_blks_hit + toast_blks_hit + tidx_blks_hit",
}
"""Counters summed over the user's tables with their indexes: what the server's total for the
database holds besides is its catalogue's, mostly for planning."""

_BY_TABLE = ("blocks read", "blocks found in buffers")
_MOST_TABLES = 100
_OF_DATABASE = {
    "rollbacks": "xact_rollback",
    "temporary files": "temp_files",
    "temporary bytes": "temp_bytes",
}
_OF_LOG = {
    "log records": "wal_records",
    "log full pages": "wal_fpi",
    "log bytes": "wal_bytes",
    "log writes": "wal_write",
    "log flushes": "wal_sync",
}
COUNTERS = ("commits", *_OF_DATABASE, *_OF_LOG, *_OF_TABLES)


def _zero_for_null(sum_of_columns: str) -> str:
    return " + ".join(f"coalesce({name.strip()}, 0)" for name in sum_of_columns.split("+"))


_TABLES = f"""
SELECT s.relid::bigint, s.relname, {", ".join(map(_zero_for_null, _OF_TABLES.values()))}
FROM pg_stat_user_tables s JOIN pg_statio_user_tables b USING (relid)
"""
_RELATIONS = """
SELECT n_tup_ins, n_tup_del, (SELECT count(*) FROM pg_class)
FROM pg_stat_sys_tables WHERE relid = 'pg_class'::regclass
"""
_OTHER_SESSIONS = """
SELECT count(*) FROM pg_stat_activity
WHERE datname = current_database() AND backend_type = 'client backend' AND pid <> ALL (%s)
"""
_NUMBER = """
SELECT split_part(virtualxid, '/', 2)::bigint FROM pg_locks
WHERE pid = pg_backend_pid() AND locktype = 'virtualxid'
"""

_DROPPED = "a table was dropped meanwhile, and what was counted of it went with it"
_OPEN_TRANSACTION = "the approach left a transaction open, which the server has not counted yet"
_GONE = "the approach closed its session"
_OPEN_SESSIONS = "sessions that the approach opened besides are still open and have not told all"
_MORE_SESSIONS = "the approach opened more sessions, whose commits the server does not tell apart"
_SHARED_LOG = "the log of a server of your own is shared with its other databases"


@dataclass
class _Look:
    """One look: of the database, of the log, of each table by its number, of all relations."""

    database: dict[str, float]
    log: dict[str, float]
    sessions: int
    tables: dict[int, tuple[str, dict[str, float]]] = field(default_factory=dict)
    relations: tuple[int, int, int] = (0, 0, 0)


class Counting:
    """What the server counted between two looks, from a connection of its own.

    Backends tell their counts now and then only; the session that worked is made to tell them
    at once after the clock has stopped. Commits are counted by the session's own transaction
    numbers: the server's figure holds the starts of parallel workers too.

    Args:
        database: where the run finds its tables.
    """

    def __init__(self, database: DatabasePlace) -> None:
        import psycopg

        self._db = psycopg.connect(database.address, autocommit=True)
        self._shared = database.shared
        self._before: _Look | None = None
        self._number = 0

    def begin(self, session: "psycopg.Connection[Any]") -> None:
        """Look before the clock starts, once that session has told what it did until then."""
        self._flush(self._db)
        # Once for nothing: the first time it reads the catalogue.
        self._transaction(session)
        self._number = self._transaction(session)
        self._flush(session)
        self._before = self._look()

    def since(self, session: "psycopg.Connection[Any]") -> Counted:
        """What was counted since then."""
        from psycopg.pq import TransactionStatus

        if session.closed:
            return _nothing(_GONE)
        if session.info.transaction_status != TransactionStatus.IDLE:
            return _nothing(_OPEN_TRANSACTION)
        assert self._before
        transactions = self._transaction(session) - self._number - _OWN_TRANSACTIONS
        self._flush(session)
        if self._others(session):
            return _nothing(_OPEN_SESSIONS)
        now, before = self._look(), self._before
        values = _differences(now.database, before.database)
        unknown: dict[str, str] = {}
        if now.sessions > before.sessions:
            unknown["commits"] = _MORE_SESSIONS
        else:
            values["commits"] = transactions - values["rollbacks"]
        if self._shared:
            unknown |= dict.fromkeys(_OF_LOG, _SHARED_LOG)
        else:
            values |= _differences(now.log, before.log)
        of_tables, by_table = _tables_since(before, now)
        if _relations_went(before, now):
            unknown |= dict.fromkeys(_OF_TABLES, _DROPPED)
        else:
            values |= of_tables
        return Counted(values | by_table, unknown)

    def _others(self, session: "psycopg.Connection[Any]") -> int:
        """Other client sessions on the database; those that are ending are waited for."""
        own = [self._db.info.backend_pid, session.info.backend_pid]
        deadline = time.monotonic() + _SESSIONS_END_S
        while (found := self._one(_OTHER_SESSIONS, [own])[0]) and time.monotonic() < deadline:
            time.sleep(_LOOK_AGAIN_S)
        return int(found)

    @staticmethod
    def _flush(session: "psycopg.Connection[Any]") -> None:
        # It is done before the session says that it is ready for the next statement.
        session.execute("SELECT pg_stat_force_next_flush()")

    @staticmethod
    def _transaction(session: "psycopg.Connection[Any]") -> int:
        """Number of the session's transaction that asks."""
        import psycopg

        # Whatever the session's own rows look like, and never as a prepared statement.
        with psycopg.Cursor(session) as cursor:
            row = cursor.execute(_NUMBER, prepare=False).fetchone()
        assert row
        return int(row[0])

    def _one(self, sql: str, values: list[Any] | None = None) -> tuple[Any, ...]:
        row = self._db.execute(sql, values).fetchone()
        assert row
        return row

    def _look(self) -> _Look:
        self._db.execute("SELECT pg_stat_clear_snapshot()")
        *database, sessions = self._one(
            f"SELECT {', '.join(_OF_DATABASE.values())}, sessions FROM pg_stat_database "
            "WHERE datname = current_database()"
        )
        log = self._one(f"SELECT {', '.join(_OF_LOG.values())} FROM pg_stat_wal")
        tables = {
            number: (name, dict(zip(_OF_TABLES, map(float, counts), strict=True)))
            for number, name, *counts in self._db.execute(_TABLES).fetchall()
        }
        return _Look(
            dict(zip(_OF_DATABASE, map(float, database), strict=True)),
            dict(zip(_OF_LOG, map(float, log), strict=True)),
            int(sessions),
            tables,
            self._one(_RELATIONS),
        )

    def close(self) -> None:
        """Close the connection."""
        self._db.close()


def _nothing(reason: str) -> Counted:
    return Counted({}, dict.fromkeys(COUNTERS, reason))


def _differences(now: Mapping[str, float], before: Mapping[str, float]) -> dict[str, float]:
    return {name: now[name] - before[name] for name in now}


def _tables_since(before: _Look, now: _Look) -> tuple[dict[str, float], dict[str, float]]:
    """Sums over the tables there are, and blocks of each that had a part in the work; tables
    are told apart by their numbers, since names may be given anew."""
    sums = dict.fromkeys(_OF_TABLES, 0.0)
    by_table: dict[str, float] = {}
    for number, (name, counts) in now.tables.items():
        _, first = before.tables.get(number, ("", dict.fromkeys(counts, 0.0)))
        for counter, value in _differences(counts, first).items():
            sums[counter] += value
            if counter in _BY_TABLE and value:
                by_table[f"{name}: {counter}"] = by_table.get(f"{name}: {counter}", 0.0) + value
    most = sorted(by_table, key=by_table.__getitem__, reverse=True)[:_MOST_TABLES]
    return sums, {name: by_table[name] for name in by_table if name in most}


def _relations_went(before: _Look, now: _Look) -> bool:
    """Whether a table or an index that was there, or was made meanwhile, is gone: dropped, or
    made in a transaction that was rolled back."""
    made, dropped, there = (b - a for a, b in zip(before.relations, now.relations, strict=True))
    return dropped > 0 or made - dropped > there
