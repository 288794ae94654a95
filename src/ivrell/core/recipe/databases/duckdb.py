"""Tables in a DuckDB file."""

from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa

from ivrell.core.recipe.databases.base import Loader


class DuckdbLoader(Loader):
    """Loads by scanning the Arrow blocks themselves."""

    engine = "duckdb"
    types = {
        "boolean": "BOOLEAN", "integer": "BIGINT", "float": "DOUBLE", "date": "DATE",
        "timestamp": "TIMESTAMP", "text": "VARCHAR",
    }  # fmt: skip

    def __init__(self, place: Path) -> None:
        import duckdb

        super().__init__(place)
        self._db = duckdb.connect(str(place))
        self._db.execute("SET enable_progress_bar = false")

    def load(self, table: str, schema: pa.Schema, blocks: Iterator[pa.RecordBatch]) -> None:
        for block in blocks:
            self._db.register("__block", pa.Table.from_batches([block]))
            self._db.execute(f'INSERT INTO "{table}" SELECT * FROM __block')
            self._db.unregister("__block")

    def analyse(self) -> None:
        self.execute("ANALYZE")
        self.execute("CHECKPOINT")

    def sizes(self, tables: list[str]) -> dict[str, int | None]:
        return dict.fromkeys(tables)

    def execute(self, sql: str) -> None:
        self._db.execute(sql)

    def interrupt(self) -> None:
        self._db.interrupt()

    def close(self) -> None:
        self._db.close()
