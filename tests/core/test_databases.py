"""Tables loaded into databases: the generated rows exactly, keys and indexes as declared."""

import os
import sqlite3
import tempfile
import tomllib
import unittest
from pathlib import Path
from unittest import mock

import duckdb
import psycopg
import pyarrow as pa

from ivrell.core.base.errors import BadInput, Stopped
from ivrell.core.recipe.databases import pg_binary
from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe

ROWS = BLOCK_ROWS + 500
RECIPE = Recipe.model_validate(
    tomllib.loads(
        f"""
seed = 7
[tables.locks]
rows = 40
columns = [
  {{ name = "lock", kind = "text", pattern = "[A-Z]{{3}}", unique = true }},
  {{ name = "reach", kind = "category", values = ["Upper", "Tidal, lower", "O'Dell é"] }},
]
[tables.passages]
rows = {ROWS}
columns = [
  {{ name = "passage", kind = "sequence" }},
  {{ name = "lock", kind = "reference", to = "locks.lock", null_share = 0.1 }},
  {{ name = "passed_at", kind = "timestamp", from = "1990-01-01", until = "2032-01-01" }},
  {{ name = "day", kind = "date", from = "1990-01-01", until = "2032-01-01", null_share = 0.2 }},
  {{ name = "toll", kind = "number", spread = "normal", mean = 0, sd = 50, null_share = 0.3 }},
  {{ name = "laden", kind = "boolean", null_share = 0.1 }},
]
"""
    )
).resolved({})
PASSAGES = pa.Table.from_batches(Generator(RECIPE).read("passages"))


class Databases(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.held = tempfile.TemporaryDirectory(prefix="ivrell-databases-")
        folder = Path(cls.held.name)
        folder.chmod(0o755)
        cls.store = DatabaseStore(folder / "loaded")

    @classmethod
    def tearDownClass(cls):
        cls.store.stop()
        cls.held.cleanup()

    def rows(self, loaded, sql):
        if loaded.engine == "postgres":
            with psycopg.connect(self.store.cluster.address(loaded.place)) as db:
                return db.execute(sql).fetchall()
        if loaded.engine == "duckdb":
            with duckdb.connect(loaded.place, read_only=True) as db:
                return db.execute(sql).fetchall()
        return sqlite3.connect(loaded.place).execute(sql).fetchall()

    def test_every_value_arrives(self):
        expected = [tuple(row.values()) for row in PASSAGES.to_pylist()]
        for engine in ("duckdb", "postgres"):
            loaded = self.store.ensure(RECIPE, engine)
            with self.subTest(engine=engine):
                self.assertEqual(self.rows(loaded, "SELECT * FROM passages ORDER BY 1"), expected)
                reaches = {row[0] for row in self.rows(loaded, "SELECT reach FROM locks")}
                self.assertEqual(reaches, {"Upper", "Tidal, lower", "O'Dell é"})
                self.assertEqual([t.rows for t in loaded.tables], [40, ROWS])
                self.assertGreater(loaded.size_bytes, 1_000_000)
        loaded = self.store.ensure(RECIPE, "sqlite")
        found = self.rows(loaded, "SELECT passage, lock, passed_at, day, toll FROM passages")
        texts = [
            (row[0], row[1], str(row[2]), None if row[3] is None else str(row[3]), row[4])
            for row in expected
        ]
        self.assertEqual(found, texts)

    def test_keys_and_indexes_are_there_and_loaded_once(self):
        for engine, sql in (
            ("postgres", "SELECT indexname FROM pg_indexes WHERE schemaname = 'public'"),
            ("duckdb", "SELECT index_name FROM duckdb_indexes()"),
            ("sqlite", "SELECT name FROM sqlite_master WHERE type = 'index'"),
        ):
            with self.subTest(engine=engine):
                declared = {"keys": ["passages(passage)"], "indexes": ["passages(lock, day)"]}
                loaded = self.store.ensure(RECIPE, engine, **declared)
                names = {row[0] for row in self.rows(loaded, sql)}
                self.assertIn("passages_by_lock_day_1", names)
                plain = self.store.ensure(RECIPE, engine)
                self.assertEqual(self.rows(plain, sql), [])
                told = mock.Mock()
                again = self.store.ensure(RECIPE, engine, **declared, progress=told)
                self.assertEqual(again, loaded)
                told.assert_not_called()

    def test_postgres_tells_sizes_and_keeps_its_own_types(self):
        loaded = self.store.ensure(RECIPE, "postgres", keys=["passages(passage)"])
        sizes = {table.table: table.size_bytes for table in loaded.tables}
        self.assertGreater(sizes["passages"], sizes["locks"])
        types = dict(
            self.rows(
                loaded,
                "SELECT column_name, data_type FROM information_schema.columns "
                "WHERE table_name = 'passages'",
            )
        )
        self.assertEqual(
            types,
            {
                "passage": "bigint",
                "lock": "text",
                "passed_at": "timestamp without time zone",
                "day": "date",
                "toll": "double precision",
                "laden": "boolean",
            },
        )

    def test_what_cannot_be_declared(self):
        cases = [
            ({"indexes": ["passages"]}, 'Write it as "passages\\(lock\\)"'),
            ({"indexes": ["tolls(lock)"]}, "Tables: locks, passages"),
            ({"indexes": ["passages(berth)"]}, 'no column "berth"'),
            ({"keys": ["passages(lock)"]}, "cannot be a key"),
        ]
        for declared, why in cases:
            with self.subTest(why=why), self.assertRaisesRegex(BadInput, why):
                self.store.ensure(RECIPE, "postgres", **declared)
        with self.assertRaisesRegex(BadInput, "duckdb, sqlite, postgres"):
            self.store.ensure(RECIPE, "abacus")

    def test_what_was_loaded_longest_ago_goes_first(self):
        store = DatabaseStore(self.store.root.with_name("trimmed"))
        self.addCleanup(store.stop)
        sizes = {}
        for age, engine in enumerate(("postgres", "sqlite", "duckdb")):
            loaded = store.ensure(RECIPE, engine)
            sizes[engine] = loaded.size_bytes
            record = next(store.root.glob(f"{engine}-*.json"))
            os.utime(record, (1e9 + age, 1e9 + age))
        removed = store.trim(sizes["sqlite"] + sizes["duckdb"])
        self.assertEqual(removed, sizes["postgres"])
        self.assertEqual({loaded.engine for loaded in store.kept()}, {"sqlite", "duckdb"})
        self.assertFalse(any(name.startswith("ivrell_") for name in store.cluster.databases()))
        self.assertEqual(store.clear(), sizes["sqlite"] + sizes["duckdb"])
        self.assertFalse(store.root.exists())

    def test_a_stop_leaves_no_database(self):
        before = self.store.cluster.databases()
        for engine in ("postgres", "sqlite", "duckdb"):
            with self.assertRaises(Stopped):
                self.store.ensure(RECIPE, engine, indexes=["locks(reach)"], stopped=lambda: True)
        self.assertEqual(self.store.cluster.databases(), before)
        self.assertEqual(list(self.store.root.glob("*_half*")), [])


class PgBinary(unittest.TestCase):
    def test_against_the_format_as_documented(self):
        batch = pa.record_batch({"a": [1, None], "b": ["xé", ""], "c": [True, None]})
        expected = (
            b"\0\3" + b"\0\0\0\10" + (1).to_bytes(8, "big")
            + b"\0\0\0\3" + "xé".encode() + b"\0\0\0\1\1"
            + b"\0\3" + b"\xff\xff\xff\xff" + b"\0\0\0\0" + b"\xff\xff\xff\xff"
        )  # fmt: skip
        self.assertEqual(pg_binary.encode(batch), expected)

    def test_slices_and_nothing_at_all(self):
        batch = pa.record_batch({"a": ["x", "yy", None, "zzz"]})
        self.assertEqual(pg_binary.encode(batch.slice(1, 2)), b"\0\1\0\0\0\2yy\0\1\xff\xff\xff\xff")
        self.assertEqual(pg_binary.encode(batch.slice(0, 0)), b"")


if __name__ == "__main__":
    unittest.main()
