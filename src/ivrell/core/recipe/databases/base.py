"""What loading tables into a database has in common, whatever the engine."""

import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

import pyarrow as pa

from ivrell.core.base.errors import BadInput

_PLACE = re.compile(r"(\w+)\s*\(\s*(\w+(?:\s*,\s*\w+)*)\s*\)")


@dataclass(frozen=True)
class Columns:
    """Columns of a table that a key or an index is over."""

    table: str
    names: tuple[str, ...]

    @property
    def quoted(self) -> str:
        """The columns as SQL writes them."""
        return ", ".join(f'"{name}"' for name in self.names)


def columns_of(text: str, schemas: dict[str, pa.Schema], where: str) -> Columns:
    """Read ``passages(lock, passed_at)``. Raises BadInput when it names nothing that is there."""
    found = _PLACE.fullmatch(text.strip())
    if not found:
        raise BadInput(
            f'"{text}" does not name columns of a table.',
            where=where,
            hint='Write it as "passages(lock)" or "passages(lock, passed_at)".',
        )
    table, names = found[1], tuple(name.strip() for name in found[2].split(","))
    if table not in schemas:
        raise BadInput(
            f'There is no table "{table}".', where=where, hint=f"Tables: {', '.join(schemas)}."
        )
    for name in names:
        if name not in schemas[table].names:
            raise BadInput(
                f'Table {table} has no column "{name}".',
                where=where,
                hint=f"Its columns: {', '.join(schemas[table].names)}.",
            )
    return Columns(table, names)


class Loader:
    """Makes one database: tables from blocks, then keys and indexes, then statistics.

    Subclasses say how. ``place`` is a file for embedded engines and the name of a database
    for a server.
    """

    engine: ClassVar[str]
    on_server: ClassVar[bool] = False
    types: ClassVar[dict[str, str]]

    def __init__(self, place: Path) -> None:
        self.place = place
        self.typed: dict[str, dict[str, str]] = {}
        """The engine's type of each column, by table, as they were made."""

    def create(self, table: str, schema: pa.Schema) -> None:
        """Make an empty table with the engine's own type for each column."""
        self.typed[table] = {field.name: self.type_of(field.type) for field in schema}
        columns = ", ".join(f'"{name}" {word}' for name, word in self.typed[table].items())
        self.execute(f'CREATE TABLE "{table}" ({columns})')

    def type_of(self, kind: pa.DataType) -> str:
        """The engine's word for an Arrow type."""
        for test, word in (
            (pa.types.is_boolean, "boolean"),
            (pa.types.is_integer, "integer"),
            (pa.types.is_floating, "float"),
            (pa.types.is_decimal, "float"),
            (pa.types.is_date, "date"),
            (pa.types.is_timestamp, "timestamp"),
        ):
            if test(kind):
                return self.types[word]
        return self.types["text"]

    def load(self, table: str, schema: pa.Schema, blocks: Iterator[pa.RecordBatch]) -> None:
        """Put the rows of all blocks into a table, in order."""
        raise NotImplementedError

    def add_key(self, columns: Columns) -> None:
        """Declare a table's primary key."""
        self.execute(f'ALTER TABLE "{columns.table}" ADD PRIMARY KEY ({columns.quoted})')

    def add_index(self, columns: Columns, number: int) -> None:
        """Make an index."""
        name = f"{columns.table}_by_{'_'.join(columns.names)}_{number}"[:60]
        self.execute(f'CREATE INDEX "{name}" ON "{columns.table}" ({columns.quoted})')

    def analyse(self) -> None:
        """Let the engine gather its statistics, and leave nothing for it to tidy up later."""
        raise NotImplementedError

    def hand_over(self, tables: list[str]) -> None:
        """Let lanes at the tables, where the engine knows who is who."""

    def sizes(self, tables: list[str]) -> dict[str, int | None]:
        """Bytes of each table with its indexes; None where the engine does not tell."""
        raise NotImplementedError

    def total(self) -> int:
        """Bytes of the whole database on disk."""
        return self.place.stat().st_size

    def execute(self, sql: str) -> None:
        """Run one statement."""
        raise NotImplementedError

    def interrupt(self) -> None:
        """Have the statement that another thread runs end soon, where the engine knows how."""

    def close(self) -> None:
        """Let go of the database, with everything on disk."""
        raise NotImplementedError

    def discard(self) -> None:
        """Remove a half-made database."""
        self.close()
        self.place.unlink(missing_ok=True)

    def finish(self, final: Path) -> None:
        """Let go, and move the whole database to its final place."""
        self.close()
        self.place.replace(final)
