"""Tables on a server that is reached by its driver alone."""

import importlib
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa

from ivrell.core.base.errors import BadInput
from ivrell.core.base.temp_dirs import own_folder
from ivrell.core.recipe.databases import pg_binary
from ivrell.core.recipe.databases.base import Loader
from ivrell.core.recipe.forms.base import in_seconds
from ivrell.core.servers.dialects.address import Address
from ivrell.core.servers.dialects.session import MARK, ask_of, bound, opened

_TYPES: tuple[tuple[Any, sa.types.TypeEngine[Any]], ...] = (
    (pa.types.is_boolean, sa.Boolean()),
    (pa.types.is_integer, sa.BigInteger()),
    (pa.types.is_floating, sa.Double()),
    (pa.types.is_decimal, sa.Double()),
    (pa.types.is_date, sa.Date()),
    (pa.types.is_timestamp, sa.DateTime()),
)
_ROWS_AT_ONCE = 5_000
_SHORT, _LONGER = 255, 4_000
"""Characters of a text column where a key cannot be over text of any length; one with longer
values is made wider, or text of any length, when the first of them comes."""


class SqlLoader(Loader):
    """Loads by the quickest way that a driver has for many rows: Arrow, COPY, a file on the
    client's side, or bound values.

    Args:
        place: the database's name.
        address: of the server.
    """

    engine = "sql"
    on_server = True

    def __init__(self, place: Path, address: Address) -> None:
        super().__init__(place)
        self._address = address
        self._dialect = address.dialect
        self._words = address.engine_dialect()
        self._of_mariadb = self._dialect.name in ("mariadb", "mysql")
        self._server = opened(address.client(self._dialect.maintenance))
        ask = ask_of(self._server)
        self._dialect.drop(ask, place.name)
        self._dialect.make(ask, place.name)
        self._db = self._session()
        self._ask = ask_of(self._db)
        asked = self._dialect.session()
        self._number = int(self._ask(asked)[0][0]) if asked else None
        if self._of_mariadb:
            # So that a name is quoted as the standard has it.
            self._ask("SET SESSION sql_mode = CONCAT(@@sql_mode, ',ANSI_QUOTES')")

    def _session(self) -> Any:
        client = self._address.client(self.place.name)
        if self._of_mariadb:
            client = replace(client, named={**client.named, "local_infile": True})
        return opened(client)

    def type_of(self, kind: pa.DataType) -> str:
        return self._written(self._type(kind))

    def _type(self, kind: pa.DataType) -> sa.types.TypeEngine[Any]:
        found = next((word for test, word in _TYPES if test(kind)), None)
        if self._of_mariadb and isinstance(found, sa.DateTime):
            from sqlalchemy.dialects.mysql import DATETIME

            return DATETIME(fsp=6)
        if found is not None:
            return found
        return sa.String(_SHORT) if self._dialect.short_text else sa.Text()

    def _written(self, kind: sa.types.TypeEngine[Any]) -> str:
        return str(kind.compile(dialect=self._words))

    def load(self, table: str, schema: pa.Schema, blocks: Iterator[pa.RecordBatch]) -> None:
        plain = (_as_known(block) for block in blocks)
        if self._address.by_adbc:
            with self._db.cursor() as cursor:
                for block in plain:
                    cursor.adbc_ingest(table, pa.Table.from_batches([block]), mode="append")
        elif self._address.url.get_driver_name() == "psycopg":
            copy_in = f'COPY "{table}" FROM STDIN WITH (FORMAT binary)'
            with self._db.cursor() as cursor, cursor.copy(copy_in) as copy:
                copy.write(pg_binary.HEADER)
                for block in plain:
                    copy.write(pg_binary.encode(block))
                copy.write(pg_binary.TRAILER)
        elif self._of_mariadb:
            self._load_files(table, plain)
        else:
            self._load_bound(table, schema, plain)

    def _load_files(self, table: str, blocks: Iterator[pa.RecordBatch]) -> None:
        """By files that the client sends, a block each."""
        widths: dict[str, int] = {}
        with own_folder() as folder:
            path = folder / "block.csv"
            statement = (
                f"LOAD DATA LOCAL INFILE '{path}' INTO TABLE \"{table}\" CHARACTER SET utf8mb4 "
                "FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' ESCAPED BY ''"
            )
            for block in blocks:
                self._widen(table, block, widths)
                with path.open("wb") as file:
                    file.write(_lines(block))
                cursor = self._db.cursor()
                cursor.execute(statement)
                cursor.close()
                # What does not fit is cut with a warning.
                if said := self._ask("SHOW WARNINGS LIMIT 1"):
                    raise BadInput(
                        f"{self._dialect.product} cannot hold a value of {table}: {said[0][2]}.",
                        where=f"table {table}",
                        hint="Change the column that it names, or leave this engine out.",
                    )

    def _widen(self, table: str, block: pa.RecordBatch, widths: dict[str, int]) -> None:
        for field, column in zip(block.schema, block.columns, strict=True):
            if not (pa.types.is_string(field.type) or pa.types.is_large_string(field.type)):
                continue
            longest = pc.max(pc.utf8_length(column)).as_py() or 0
            if longest <= widths.get(field.name, _SHORT):
                continue
            fits = longest <= _LONGER
            widths[field.name] = _LONGER if fits else 1 << 32
            kind = self._written(sa.String(_LONGER)) if fits else "LONGTEXT"
            self.typed[table][field.name] = kind
            self.execute(f'ALTER TABLE "{table}" MODIFY "{field.name}" {kind}')

    def _load_bound(self, table: str, schema: pa.Schema, blocks: Iterator[pa.RecordBatch]) -> None:
        names = [f"v{place}" for place in range(len(schema))]
        style = importlib.import_module(self._address.client("").driver).paramstyle
        text = f'INSERT INTO "{table}" VALUES ({", ".join(MARK for _ in names)})'
        cursor = self._db.cursor()
        for block in blocks:
            columns = [column.to_pylist() for column in block.columns]
            rows = list(zip(*columns, strict=True))
            for first in range(0, len(rows), _ROWS_AT_ONCE):
                given = [
                    bound(style, text, names, dict(zip(names, row, strict=True)))
                    for row in rows[first : first + _ROWS_AT_ONCE]
                ]
                cursor.executemany(given[0][0], [values for _, values in given])
        cursor.close()

    def analyse(self) -> None:
        tables = [str(row[0]) for row in self._tables()]
        self._dialect.analyse(self._ask, tables)

    def _tables(self) -> list[tuple[Any, ...]]:
        schema = "public" if self._dialect.name == "postgresql" else self.place.name
        return self._ask(
            "SELECT table_name FROM information_schema.tables "
            f"WHERE table_schema = '{schema}' ORDER BY table_name"
        )

    def sizes(self, tables: list[str]) -> dict[str, int | None]:
        told = self._dialect.sizes(self._ask, self.place.name)
        return {table: told.get(table) for table in tables}

    def total(self) -> int:
        return sum(self._dialect.sizes(self._ask, self.place.name).values())

    def execute(self, sql: str) -> None:
        self._ask(sql)

    def interrupt(self) -> None:
        if self._number is not None:
            self._dialect.end_session(ask_of(self._server), self._number, self.place.name)

    def close(self) -> None:
        self._db.close()
        self._server.close()

    def discard(self) -> None:
        self._db.close()
        self._dialect.drop(ask_of(self._server), self.place.name)
        self._server.close()

    def finish(self, final: Path) -> None:
        """It is made where it stays: that it is whole is in the record that is written last."""
        self.close()


class MariaDbLoader(SqlLoader):
    """The same on the private MariaDB server."""

    engine = "mariadb"


def _as_known(block: pa.RecordBatch) -> pa.RecordBatch:
    """A block whose columns are of the types that tables have."""
    columns = [
        column.cast(pa.float64()) if pa.types.is_decimal(column.type) else column
        for column in block.columns
    ]
    return pa.RecordBatch.from_arrays(columns, names=block.schema.names)


def _lines(block: pa.RecordBatch) -> bytes:
    """Lines of values with commas between; NULL is a word without quotes."""
    columns = []
    for column in in_seconds(block).columns:
        if pa.types.is_boolean(column.type):
            column = column.cast(pa.int8())
        if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
            text = pc.replace_substring(column.cast(pa.large_string()), '"', '""')
            quote = pa.scalar('"', pa.large_string())
            column = pc.binary_join_element_wise(
                quote, text, quote, pa.scalar("", pa.large_string())
            )
        columns.append(pc.fill_null(column.cast(pa.large_string()), "NULL"))
    nothing, comma, newline = (pa.scalar(mark, pa.large_string()) for mark in ("", ",", "\n"))
    rows = pc.binary_join_element_wise(*columns, comma)
    # Each line with its end; they lie one behind the other in memory already.
    lines = pc.binary_join_element_wise(rows, nothing, newline)
    return bytes(lines.buffers()[2].slice(0, int(pc.sum(pc.binary_length(lines)).as_py() or 0)))
