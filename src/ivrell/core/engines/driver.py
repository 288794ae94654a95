"""A run's session on a server by its driver, and what the server counted of it. Standard library
only, beside the driver."""

import importlib
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from ivrell.core.engines.sql_text import Statement
from ivrell.core.records.wire import Counted, Job
from ivrell.core.servers.dialects import dialect_of
from ivrell.core.servers.dialects.session import ask_of, bound, opened
from ivrell.core.tasks.rows import Rows, fetched
from ivrell.core.tasks.sessions import tell_session
from ivrell.core.tasks.task import ApproachFailed

if TYPE_CHECKING:
    import pyarrow as pa

_SHARED = "a server of your own counts the work of all its sessions together"
_GONE = "the session did not answer any more: it was closed, or has a result that nobody read"
_MORE_SESSIONS = "more sessions were opened meanwhile, whose rows are not told apart"
_GRACE_S = 5.0
"""How much longer than a run a statement may last: the run's own end is what is told."""


@dataclass(frozen=True)
class _Look:
    session: Mapping[str, float]
    server: Mapping[str, float]


class DriverSession:
    """A session on a run's database.

    Attributes:
        db: the driver's own connection, each statement on its own.
    """

    def __init__(self, job: Job) -> None:
        place = job.loaded
        assert place.client
        self._dialect = dialect_of(place.client.dialect)
        self._style = str(importlib.import_module(place.client.driver).paramstyle)
        if place.client.driver.startswith("adbc_"):
            # What it says of itself (PEP 249 has no word for it) is not what the server takes.
            self._style = "numeric_dollar"
        self._shared = place.shared
        self.db = opened(place.client)
        self._ask = ask_of(self.db)
        if number := self._dialect.session():
            tell_session(job.folder, int(self._ask(number)[0][0]))
        if place.seconds and (limit := self._dialect.limit(place.seconds + _GRACE_S)):
            self._ask(limit)
        for name, value in job.approach.get("settings", {}).items():
            try:
                self._ask(self._dialect.setting(name, value))
            except Exception as error:
                raise ApproachFailed("bad setting", f"settings.{name}: {error}") from error
        self._before: _Look | None = None
        self._of_looking: Mapping[str, float] = {}
        self._connections = 0

    def executed(
        self, statement: Statement, knobs: Mapping[str, Any], *, fetch: bool
    ) -> "Rows | pa.Table | None":
        """Run one statement; its rows when asked, as Arrow where the driver gives them so.

        Raises ApproachFailed with the line on which the statement begins.
        """
        text, values = bound(self._style, statement.text, statement.bound, knobs)
        cursor = self.db.cursor()
        try:
            cursor.execute(text, values) if values else cursor.execute(text)
            if not fetch:
                return None
            if hasattr(cursor, "fetch_arrow_table") and cursor.description is not None:
                table: pa.Table = cursor.fetch_arrow_table()
                return table
            return fetched(cursor, statement.line)
        except ApproachFailed:
            raise
        except Exception as error:
            # Each driver has errors of its own.
            raise ApproachFailed(
                type(error).__name__, str(error).strip(), statement.line
            ) from error
        finally:
            cursor.close()

    def explained(self, statement: Statement, knobs: Mapping[str, Any]) -> tuple[list[str], bool]:
        """The lines in which the server explains a statement, none where it cannot; whether it
        carried it out. Raises ApproachFailed."""
        if not self._dialect.explain:
            return [], False
        asked = replace(statement, text=self._dialect.explain + statement.text)
        rows = self.executed(asked, knobs, fetch=True)
        if not isinstance(rows, Rows):
            assert rows is not None
            rows = Rows(rows.column_names, [tuple(row.values()) for row in rows.to_pylist()])
        lines = [_line(rows.names, row) for row in rows.rows]
        return lines, self._dialect.explaining_runs

    def begin(self) -> None:
        """Look at the counters before the clock starts; twice, for what looking itself adds."""
        first = self._look()
        self._connections = self._dialect.connections(self._ask)
        self._before = self._look()
        self._of_looking = _apart(self._before.session, first.session)

    def since(self) -> Counted:
        """What was counted since then."""
        assert self._before
        try:
            now = self._look()
            connections = self._dialect.connections(self._ask)
        except Exception:
            return Counted({}, dict.fromkeys([*self._before.session, *self._before.server], _GONE))
        values: dict[str, float] = {}
        unknown: dict[str, str] = {}
        if connections > self._connections:
            unknown |= dict.fromkeys(now.session, _MORE_SESSIONS)
        else:
            values |= _apart(_apart(now.session, self._before.session), self._of_looking)
        if self._shared:
            unknown |= dict.fromkeys(now.server, _SHARED)
        else:
            values |= _apart(now.server, self._before.server)
        return Counted(values, unknown)

    def _look(self) -> _Look:
        return _Look(*self._dialect.counts(self._ask))

    def close(self) -> None:
        """Close the session."""
        try:
            self.db.close()
        except Exception:
            # The approach closed it, or the server did.
            return


def _apart(now: Mapping[str, float], before: Mapping[str, float]) -> dict[str, float]:
    return {name: now[name] - before.get(name, 0.0) for name in now}


def _line(names: list[str], row: Any) -> str:
    if len(names) == 1:
        return str(row[0])
    told = [f"{name} {value}" for name, value in zip(names, row, strict=True) if value is not None]
    return ", ".join(told)
