"""Tables in a database of the private PostgreSQL cluster."""

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psycopg
import pyarrow as pa

from ivrell.core.recipe.databases import pg_binary, roles
from ivrell.core.recipe.databases.base import Loader


class PostgresLoader(Loader):
    """Loads by binary COPY; the next block is drawn while the server takes the one before.

    Args:
        place: the database's name.
        address: connection string of the cluster's maintenance database.
        with_roles: whether lanes come as roles of their own, see the module roles.
    """

    engine = "postgres"
    on_server = True
    types = {
        "boolean": "boolean", "integer": "bigint", "float": "double precision", "date": "date",
        "timestamp": "timestamp", "text": "text",
    }  # fmt: skip

    def __init__(self, place: Path, address: str = "", with_roles: bool = False) -> None:
        super().__init__(place)
        self._with_roles = with_roles
        self._server = psycopg.connect(address, autocommit=True)
        self._server.execute(f'DROP DATABASE IF EXISTS "{place.name}"')
        self._server.execute(f'CREATE DATABASE "{place.name}" TEMPLATE template0')
        self._db = psycopg.connect(address, dbname=place.name, autocommit=True)

    def load(self, table: str, schema: pa.Schema, blocks: Iterator[pa.RecordBatch]) -> None:
        # Made anew within the transaction of the COPY: such rows need no log and no later look.
        with self._db.transaction():
            self._db.execute(f'DROP TABLE "{table}"')
            self.create(table, schema)
            copy_in = f'COPY "{table}" FROM STDIN WITH (FORMAT binary, FREEZE)'
            with self._db.cursor() as cursor, cursor.copy(copy_in) as copy:
                copy.write(pg_binary.HEADER)
                for encoded in _ahead(blocks):
                    copy.write(encoded)
                copy.write(pg_binary.TRAILER)

    def analyse(self) -> None:
        self.execute("VACUUM (ANALYZE)")
        self.execute("CHECKPOINT")

    def hand_over(self, tables: list[str]) -> None:
        if self._with_roles:
            roles.hand_over(self._db, tables)

    def sizes(self, tables: list[str]) -> dict[str, int | None]:
        found: dict[str, int | None] = {}
        for table in tables:
            sql = "SELECT pg_total_relation_size(quote_ident(%s)::regclass)"
            row = self._db.execute(sql, [table]).fetchone()
            found[table] = row[0] if row else None
        return found

    def total(self) -> int:
        row = self._db.execute("SELECT pg_database_size(current_database())").fetchone()
        assert row is not None
        return int(row[0])

    def execute(self, sql: str) -> None:
        self._db.execute(sql)

    def interrupt(self) -> None:
        self._db.cancel_safe(timeout=5)

    def close(self) -> None:
        self._db.close()
        self._server.close()

    def discard(self) -> None:
        self._db.close()
        self._server.execute(f'DROP DATABASE IF EXISTS "{self.place.name}"')
        self._server.close()

    def finish(self, final: Path) -> None:
        self._db.close()
        self._server.execute(f'DROP DATABASE IF EXISTS "{final.name}"')
        self._server.execute(f'ALTER DATABASE "{self.place.name}" RENAME TO "{final.name}"')
        if self._with_roles:
            roles.close_to_all(self._server, final.name)
        self._server.close()


def _ahead(blocks: Iterator[pa.RecordBatch]) -> Iterator[bytes]:
    """Encoded blocks, each made while the one before is used."""

    def following() -> bytes | None:
        block = next(blocks, None)
        return None if block is None else pg_binary.encode(block)

    with ThreadPoolExecutor(1) as thread:
        waiting = thread.submit(following)
        while (encoded := waiting.result()) is not None:
            waiting = thread.submit(following)
            yield encoded
