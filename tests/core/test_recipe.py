"""Recipes: the same bytes always, values of the shape asked for, errors at their place."""

import os
import tempfile
import tomllib
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import polars as pl
import pyarrow
import pyarrow.compute as pc
import pyarrow.csv
import pyarrow.parquet
from scipy import stats

from ivrell.core.errors import BadInput, Stopped
from ivrell.core.recipe.forms import FORMS
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe
from ivrell.core.recipe.preview import preview
from ivrell.core.recipe.scatter import scatter
from ivrell.core.recipe.skew import skewed_ranks
from ivrell.core.recipe.store import DataStore

LOCKS = """
seed = 7302
[tables.locks]
rows = 60
columns = [
  { name = "lock", kind = "text", pattern = "[A-Z]{3}-[0-9]{2}", unique = true },
  { name = "reach", kind = "category", values = ["Upper", "Middle", "Tidal"], skew = 1.0 },
]
[tables.passages]
rows = "{rows}"
columns = [
  { name = "passage", kind = "sequence", start = 10, step = 5 },
  { name = "lock", kind = "reference", to = "locks.lock", skew = 1.1, absent_share = 0.02 },
  { name = "passed_at", kind = "timestamp", from = "2031-01-01", until = "2032-01-01" },
  { name = "draught", kind = "number", spread = "normal", mean = 1.4, sd = 0.2 },
  { name = "toll", kind = "number", low = 3, high = 90, decimals = 2, null_share = 0.1 },
  { name = "barges", kind = "integer", low = 1, high = 4 },
]
"""


def recipe(rows=200_000, text=LOCKS):
    return Recipe.model_validate(tomllib.loads(text)).resolved({"rows": rows})


class Values(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        generator = Generator(recipe())
        cls.locks = generator.block("locks", 0)
        cls.passages = pyarrow.Table.from_batches(generator.read("passages"))

    def column(self, name):
        return self.passages.column(name)

    def test_row_count_and_sequence_go_over_blocks(self):
        self.assertEqual(self.passages.num_rows, 200_000)
        expected = np.arange(200_000) * 5 + 10
        np.testing.assert_array_equal(self.column("passage").to_numpy(), expected)

    def test_unique_pattern(self):
        locks = self.locks.column("lock").to_pylist()
        self.assertEqual(len(set(locks)), 60)
        for lock in locks:
            self.assertRegex(lock, r"^[A-Z]{3}-[0-9]{2}$")

    def test_references_find_all_but_the_absent_share(self):
        found = pc.is_in(self.column("lock"), value_set=self.locks.column("lock"))
        misses = 200_000 - pc.sum(found).as_py()
        self.assertGreater(stats.binomtest(misses, 200_000, 0.02).pvalue, 1e-4)
        absent = self.column("lock").filter(pc.invert(found)).unique().to_pylist()
        self.assertRegex(absent[0], r"^[A-Z]{3}-[0-9]{2}$")

    def test_spreads(self):
        draught = self.column("draught").to_numpy()
        self.assertGreater(stats.kstest(draught, stats.norm(1.4, 0.2).cdf).pvalue, 1e-4)
        toll = self.column("toll").drop_null().to_numpy()
        self.assertGreater(stats.kstest(toll[:20_000], stats.uniform(3, 87).cdf).pvalue, 1e-4)
        np.testing.assert_allclose(toll, np.round(toll, 2))
        counts = np.bincount(self.column("barges").to_numpy())[1:]
        self.assertGreater(stats.chisquare(counts).pvalue, 1e-4)

    def test_null_share(self):
        share = stats.binomtest(self.column("toll").null_count, 200_000, 0.1)
        self.assertGreater(share.pvalue, 1e-4)

    def test_timestamps_lie_in_their_range(self):
        ends = pc.min_max(self.column("passed_at")).as_py()
        self.assertEqual(str(ends["min"])[:10], "2031-01-01")
        self.assertEqual(str(ends["max"])[:10], "2031-12-31")

    def test_skewed_category(self):
        counts = {
            c["values"].as_py(): c["counts"].as_py()
            for c in Generator(
                recipe(text=LOCKS.replace("rows = 60", "rows = 60000"))
            ).block("locks", 0).column("reach").value_counts()
        }  # fmt: skip
        shares = np.array([1, 1 / 2, 1 / 3]) / (1 + 1 / 2 + 1 / 3)
        observed = [counts[name] for name in ("Upper", "Middle", "Tidal")]
        self.assertGreater(stats.chisquare(observed, shares * sum(observed)).pvalue, 1e-4)


class Skew(unittest.TestCase):
    def test_weights_fall_as_the_power_asks(self):
        for n, skew in ((50, 1.1), (1000, 0.5), (200_000, 1.0)):
            with self.subTest(n=n, skew=skew):
                rng = np.random.Generator(np.random.Philox(3))
                ranks = skewed_ranks(rng, n, skew, 300_000)
                self.assertGreaterEqual(ranks.min(), 0)
                self.assertLess(ranks.max(), n)
                weights = np.arange(1, n + 1) ** -skew
                weights /= weights.sum()
                head = 20
                observed = [*np.bincount(ranks, minlength=n)[:head], (ranks >= head).sum()]
                expected = np.array([*weights[:head], weights[head:].sum()]) * len(ranks)
                self.assertGreater(stats.chisquare(observed, expected).pvalue, 1e-4)

    def test_scatter_is_a_permutation(self):
        for n in (1, 2, 3, 60, 97, 1000, 65_536):
            with self.subTest(n=n):
                shuffled = scatter(np.arange(n), n, salt=12345)
                self.assertEqual(len(np.unique(shuffled)), n)


class Bytes(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def make(self, name, form, workers, rows=BLOCK_ROWS * 3 + 17, parts=1):
        store = DataStore(self.folder / name)
        return store.ensure(recipe(rows), "passages", form, workers=workers, parts=parts)

    @mock.patch("ivrell.core.recipe.encode._BLOCKS_WORTH_WORKERS", 2)
    def test_bytes_do_not_depend_on_the_number_of_workers(self):
        for form in FORMS:
            with self.subTest(form=form):
                made = [self.make(f"with-{n}", form, n) for n in (1, 2, 5)]
                self.assertEqual(len({m.bytes_hash for m in made}), 1)
                self.assertEqual(len({Path(m.paths[0]).read_bytes() for m in made}), 1)

    @mock.patch("ivrell.core.recipe.encode._BLOCKS_WORTH_WORKERS", 2)
    def test_parts_hold_all_rows_once_and_in_order(self):
        for form, workers in (("csv", 1), ("csv.gz", 2), ("parquet", 1)):
            with self.subTest(form=form):
                made = self.make("parts", form, workers, rows=BLOCK_ROWS + 9, parts=7)
                read = pyarrow.csv.read_csv if "csv" in form else pyarrow.parquet.read_table
                tables = [read(path) for path in made.paths]
                counts = [table.num_rows for table in tables]
                self.assertLessEqual(max(counts) - min(counts), 1)
                numbers = pyarrow.concat_tables(tables).column("passage").to_numpy()
                np.testing.assert_array_equal(numbers, np.arange(BLOCK_ROWS + 9) * 5 + 10)

    def test_every_form_is_read_back_by_the_engines(self):
        readers = {
            "csv": pl.read_csv, "csv.gz": pl.read_csv, "csv.zst": pl.read_csv,
            "jsonl": pl.read_ndjson, "parquet": pl.read_parquet, "arrow": pl.read_ipc,
        }  # fmt: skip
        expected = pl.from_arrow(Generator(recipe(3000)).block("passages", 0))
        for form, read in readers.items():
            made = self.make("forms", form, 1, rows=3000)
            found = read(made.paths[0])
            for name in ("passage", "lock", "draught", "toll", "barges"):
                with self.subTest(form=form, column=name):
                    self.assertEqual(found[name].to_list(), expected[name].to_list())

    def test_what_a_killed_process_began_is_cleared_and_made_anew(self):
        made = self.make("a", "csv", 1, rows=1000)
        folder = Path(made.paths[0]).parent
        left = folder / "passages.csv.999999999.part"
        left.mkdir()
        (left / "passages.csv").write_text("half a line")
        self.make("a", "parquet", 1, rows=1000)
        self.assertFalse(left.exists())
        self.assertEqual(self.make("a", "csv", 1, rows=1000), made)

    def test_cache_is_listed_and_trimmed_oldest_first(self):
        store = DataStore(self.folder / "cache")
        for age, rows in enumerate((3000, 2000, 1000)):
            made = store.ensure(recipe(rows), "passages", "csv")
            os.utime(Path(made.paths[0]).parent, (1e9 - age, 1e9 - age))
        kept = store.kept()
        self.assertEqual(len(kept), 3)
        self.assertEqual(kept[0].tables, ["passages.csv"])
        self.assertGreater(kept[0].size_bytes, kept[2].size_bytes)
        removed = store.trim(kept[0].size_bytes + kept[1].size_bytes)
        self.assertEqual(removed, kept[2].size_bytes)
        self.assertEqual(store.kept(), kept[:2])
        store.trim(0)
        self.assertEqual(store.kept(), [])

    def test_values_have_not_changed_since_this_generator_version(self):
        # A change of these values must raise GENERATOR_VERSION.
        made = self.make("stored", "csv", 1, rows=1000)
        stored = "6610df22f3a4d5c533d2c692ad94c837"
        self.assertEqual(made.bytes_hash, stored)

    def test_forms_hold_the_same_rows(self):
        csv = pyarrow.csv.read_csv(self.make("a", "csv", 1, rows=5000).paths[0])
        parquet = pyarrow.parquet.read_table(self.make("a", "parquet", 1, rows=5000).paths[0])
        self.assertEqual(csv.num_rows, 5000)
        for name in ("passage", "lock", "draught", "toll"):
            self.assertEqual(csv.column(name).to_pylist(), parquet.column(name).to_pylist(), name)

    def test_csv_quotes_only_where_it_must(self):
        plain = Path(self.make("a", "csv", 1, rows=1000).paths[0]).read_text()
        self.assertNotIn('"', plain)
        text = LOCKS.replace('"Upper"', '"Upper, north"')
        made = DataStore(self.folder / "b").ensure(recipe(text=text), "locks", "csv")
        reaches = pyarrow.csv.read_csv(made.paths[0]).column("reach").unique().to_pylist()
        self.assertEqual(set(reaches), {"Upper, north", "Middle", "Tidal"})

    def test_made_once_and_known_again(self):
        first = self.make("a", "csv", 1, rows=1000)
        changed = Path(first.paths[0]).stat().st_mtime_ns
        self.assertEqual(self.make("a", "csv", 1, rows=1000), first)
        self.assertEqual(Path(first.paths[0]).stat().st_mtime_ns, changed)

    def test_a_damaged_file_is_made_anew(self):
        first = self.make("a", "csv", 1, rows=1000)
        Path(first.paths[0]).write_bytes(b"half")
        self.assertEqual(self.make("a", "csv", 1, rows=1000).bytes_hash, first.bytes_hash)

    def test_a_stop_leaves_nothing_that_looks_finished(self):
        store = DataStore(self.folder)
        with self.assertRaises(Stopped):
            store.ensure(recipe(500_000), "passages", "csv", stopped=lambda: True)
        self.assertEqual([p for p in self.folder.rglob("*") if p.is_file()], [])

    def test_too_little_room_is_refused_before_anything_is_written(self):
        with self.assertRaisesRegex(BadInput, "would take about .* free"):
            DataStore(self.folder).ensure(recipe(9_000_000_000), "passages", "csv")


class Fingerprints(unittest.TestCase):
    def test_what_changes_values_changes_the_fingerprint(self):
        base = recipe().fingerprint("passages")
        self.assertEqual(recipe().fingerprint("passages"), base)
        self.assertNotEqual(recipe(100).fingerprint("passages"), base)
        other_seed = recipe(text=LOCKS.replace("7302", "7303"))
        self.assertNotEqual(other_seed.fingerprint("passages"), base)
        referred = recipe(text=LOCKS.replace("rows = 60", "rows = 61"))
        self.assertNotEqual(referred.fingerprint("passages"), base)

    def test_a_table_that_is_not_referred_to_does_not_matter(self):
        self.assertEqual(recipe(100).fingerprint("locks"), recipe(200).fingerprint("locks"))


class Refusals(unittest.TestCase):
    def refused(self, old, new, pattern, rows=1000):
        with self.assertRaisesRegex(BadInput, pattern):
            Generator(recipe(rows, LOCKS.replace(old, new))).block("passages", 0)

    def test_reference_to_nothing(self):
        self.refused("locks.lock", "docks.lock", r"columns\[1\]\.to: .*docks.* locks, passages")
        self.refused("locks.lock", "locks.gate", r"no column .gate.*lock, reach")

    def test_references_in_a_circle(self):
        self.refused("locks.lock", "passages.lock", "circle")

    def test_unique_pattern_with_too_few_texts(self):
        self.refused("[A-Z]{3}-[0-9]{2}", "[A-C]-[0-9]", r"makes 30 different texts.* 60 rows")

    def test_rows_that_are_no_number(self):
        for rows in (0, -5, "many", 1.5, True):
            with self.subTest(rows=rows), self.assertRaisesRegex(BadInput, "knobs.rows"):
                recipe(rows)

    def test_unknown_knob(self):
        self.refused('"{rows}"', '"{loads}"', "no knob .loads.")


class Preview(unittest.TestCase):
    def test_parts_are_the_rows_that_are_made(self):
        resolved = recipe()
        shown = preview(resolved, "passages")
        self.assertEqual([part["first"] for part in shown["parts"]], [0, 100_000, 199_995])
        self.assertEqual(shown["parts"][1]["rows"][0][0], str(100_000 * 5 + 10))
        self.assertEqual(shown["parts"][2]["rows"][-1][0], str(199_999 * 5 + 10))

    def test_estimated_size_is_near_the_real_one(self):
        resolved = recipe()
        with tempfile.TemporaryDirectory() as folder:
            for form, cost in preview(resolved, "passages")["forms"].items():
                made = DataStore(Path(folder)).ensure(resolved, "passages", form)
                self.assertAlmostEqual(cost["bytes"] / made.size_bytes, 1, delta=0.1)


if __name__ == "__main__":
    unittest.main()
