"""Approaches written as SQL for SQLite, over loaded tables."""

import sqlite3
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

from ivrell.core.engines.base import ApproachFailed, Job, Problem
from ivrell.core.engines.sql import SqlApproach, SqlTask, counted
from ivrell.core.engines.sql_text import Statement

if TYPE_CHECKING:
    import pyarrow as pa

LOADED = "sqlite"


@dataclass(frozen=True, kw_only=True)
class SqliteApproach(SqlApproach):
    """SQL over tables loaded into an SQLite file; ``settings`` are its pragmas."""

    engine: Literal["sqlite"]
    input: str = LOADED


class Rows:
    """Rows as an engine's client gives them, with the names of their columns."""

    def __init__(self, names: list[str], rows: list[Any]) -> None:
        self.names = names
        self.rows = rows

    def to_arrow(self) -> "pa.Table":
        """As an Arrow table; a column of mixed values becomes text."""
        import pyarrow as pa

        columns = list(zip(*self.rows, strict=True)) or [()] * len(self.names)
        return pa.table(
            {name: _column(list(values)) for name, values in zip(self.names, columns, strict=True)}
        )


def _column(values: list[Any]) -> "pa.Array":
    import pyarrow as pa

    try:
        return pa.array(values)
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        try:
            return pa.array(values, pa.float64())
        except (pa.ArrowInvalid, pa.ArrowTypeError):
            return pa.array([None if value is None else str(value) for value in values])


class _Task(SqlTask):
    def __init__(self, job: Job) -> None:
        super().__init__(job, mark=":")
        place = job.database["place"]
        mode = "rw" if job.approach.get("writes") else "ro&immutable=1"
        self._db = sqlite3.connect(f"file:{place}?mode={mode}", uri=True, isolation_level=None)
        for name, value in job.approach.get("settings", {}).items():
            try:
                self._db.execute(f"PRAGMA {name} = {value}")
            except sqlite3.Error as error:
                raise ApproachFailed("bad setting", f"settings.{name}: {error}") from error
        self.set_up()

    def execute(self, statement: Statement, fetch: bool = False) -> object:
        text = counted(statement.text) if fetch and self.discard else statement.text
        try:
            cursor = self._db.execute(text, self.values(statement))
            if not fetch:
                return None
            if cursor.description is None:
                raise ApproachFailed(
                    "no answer",
                    "The last statement gives no rows. End with a SELECT, or name one in `answer`.",
                    statement.line,
                )
            return Rows([column[0] for column in cursor.description], cursor.fetchall())
        except sqlite3.Error as error:
            raise ApproachFailed(
                type(error).__name__, str(error), statement.line, str(error)
            ) from error

    def hand_over(self, answer: object) -> "pa.Table":
        rows = self.read_answer(answer)
        assert isinstance(rows, Rows)
        return super().hand_over(rows.to_arrow())

    def close(self) -> None:
        self.tear_down()
        self._db.close()


class SqliteEngine:
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
            return Problem("There is no statement in the code.", cure="Write a SELECT.")
        return None

    def prepare(self, job: Job) -> _Task:
        return _Task(job)
