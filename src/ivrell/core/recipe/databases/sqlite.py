"""Tables in an SQLite file."""

import sqlite3
from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa

from ivrell.core.recipe.databases.base import Columns, Loader
from ivrell.core.recipe.forms.base import in_seconds


class SqliteLoader(Loader):
    """Loads row by row, the only way SQLite takes them; days and moments as text, truth as 0
    and 1, since it has no types for them."""

    engine = "sqlite"
    types = {
        "boolean": "INTEGER", "integer": "INTEGER", "float": "REAL", "date": "TEXT",
        "timestamp": "TEXT", "text": "TEXT",
    }  # fmt: skip

    def __init__(self, place: Path) -> None:
        super().__init__(place)
        self._db = sqlite3.connect(place, isolation_level=None, check_same_thread=False)
        for setting in ("journal_mode = OFF", "synchronous = OFF", "cache_size = -65536"):
            self._db.execute(f"PRAGMA {setting}")

    def load(self, table: str, schema: pa.Schema, blocks: Iterator[pa.RecordBatch]) -> None:
        marks = ", ".join("?" for _ in schema)
        insert = f'INSERT INTO "{table}" VALUES ({marks})'
        self._db.execute("BEGIN")
        for block in blocks:
            columns = [_plain(column) for column in in_seconds(block).columns]
            self._db.executemany(insert, zip(*columns, strict=True))
        self._db.execute("COMMIT")

    def add_key(self, columns: Columns) -> None:
        # SQLite cannot add a primary key to a table that is there; this is what one would be.
        name = f"{columns.table}_key"
        self.execute(f'CREATE UNIQUE INDEX "{name}" ON "{columns.table}" ({columns.quoted})')

    def analyse(self) -> None:
        self.execute("ANALYZE")

    def sizes(self, tables: list[str]) -> dict[str, int | None]:
        return dict.fromkeys(tables)

    def execute(self, sql: str) -> None:
        self._db.execute(sql)

    def interrupt(self) -> None:
        self._db.interrupt()

    def close(self) -> None:
        self._db.close()


def _plain(column: pa.Array) -> list[object]:
    kind = column.type
    if pa.types.is_temporal(kind):
        column = column.cast(pa.string())
    elif pa.types.is_decimal(kind):
        column = column.cast(pa.float64())
    found: list[object] = column.to_pylist()
    return found
