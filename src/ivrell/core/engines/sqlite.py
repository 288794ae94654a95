"""Approaches written as SQL for SQLite, over loaded tables."""

import shutil
import sqlite3
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from ivrell.core.engines.base import Engine, Problem
from ivrell.core.engines.explain import from_sqlite
from ivrell.core.engines.sql import SqlApproach, SqlTask, counted
from ivrell.core.engines.sql_text import Statement
from ivrell.core.records.wire import Job, Step
from ivrell.core.tasks.rows import Rows, fetched
from ivrell.core.tasks.task import ApproachFailed, Counted

LOADED = "sqlite"


@dataclass(frozen=True, kw_only=True)
class SqliteApproach(SqlApproach):
    """SQL over tables loaded into an SQLite file; ``settings`` are its pragmas."""

    engine: Literal["sqlite"]
    input: str = LOADED


class _Task(SqlTask):
    def __init__(self, job: Job) -> None:
        super().__init__(job, mark=":")
        self._job = job
        self._place = job.loaded.file
        self.open()

    def connect(self) -> None:
        mode = "rw" if self.writes else "ro&immutable=1"
        address = f"file:{self._place}?mode={mode}"
        self._db = sqlite3.connect(address, uri=True, isolation_level=None)
        for name, value in self._job.approach.get("settings", {}).items():
            try:
                self._db.execute(f"PRAGMA {name} = {value}")
            except sqlite3.Error as error:
                raise ApproachFailed("bad setting", f"settings.{name}: {error}") from error

    def disconnect(self) -> None:
        self._db.close()

    def put_back(self, restore: Callable[[], None]) -> None:
        for beside in ("-wal", "-shm", "-journal"):
            Path(f"{self._place}{beside}").unlink(missing_ok=True)
        shutil.copyfile(self._job.loaded.pristine, self._place)

    def before_each(self) -> None:
        self._changes = self._db.total_changes

    def execute(self, statement: Statement, fetch: bool = False) -> object:
        text = counted(statement.text) if fetch and self.discard else statement.text
        try:
            cursor = self._db.execute(text, self.values(statement))
            return fetched(cursor, statement.line) if fetch else None
        except sqlite3.Error as error:
            raise ApproachFailed(
                type(error).__name__, str(error), statement.line, str(error)
            ) from error

    def explain(self, statement: Statement) -> Step:
        text = f"EXPLAIN QUERY PLAN {statement.text}"
        rows = self.execute(replace(statement, text=text), fetch=True)
        assert isinstance(rows, Rows)
        self.execute(statement)
        return from_sqlite(rows.rows)

    def counted(self) -> Counted:
        return Counted({"rows changed": float(self._db.total_changes - self._changes)})


class SqliteEngine(Engine[SqliteApproach]):
    """Runs SQL on a file of loaded tables, read-only unless the approach writes."""

    name = "sqlite"
    language = "sql"
    approach = SqliteApproach
    packages = ("pyarrow",)
    forms = (LOADED,)

    def outside(self) -> tuple[dict[str, str], tuple[str, ...], str]:
        """The library that Python brings."""
        return {"SQLite": sqlite3.sqlite_version}, (), ""

    def problem(self, approach: SqliteApproach) -> Problem | None:
        if not approach.code.strip():
            return Problem("There is no statement in the code.", hint="Write a SELECT.")
        return None

    def prepare(self, job: Job) -> _Task:
        return _Task(job)
