"""Recipes: the same bytes always, values of the shape asked for, errors at their place."""

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
import tomllib
import unittest
import zipfile
from pathlib import Path
from unittest import mock
from xml.etree import ElementTree

import duckdb
import numpy as np
import openpyxl
import pandas as pd
import polars as pl
import pyarrow
import pyarrow.compute as pc
import pyarrow.csv
import pyarrow.orc
import pyarrow.parquet
from scipy import stats

from ivrell.core.base.errors import BadInput, Stopped
from ivrell.core.measure.proc import children
from ivrell.core.recipe.forms import FORMS
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe
from ivrell.core.recipe.preview import costs, preview, rows_from, whole_profile
from ivrell.core.recipe.profile import profile
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
        return store.ensure(
            recipe(rows), "passages", Input(form=form, parts=parts), workers=workers
        )

    @mock.patch("ivrell.core.recipe.encode._BLOCKS_WORTH_WORKERS", 2)
    def test_bytes_do_not_depend_on_the_number_of_workers(self):
        for form in FORMS:
            with self.subTest(form=form):
                made = [self.make(f"with-{n}", form, n) for n in (1, 5)]
                self.assertEqual(len({m.bytes_hash for m in made}), 1)
                self.assertEqual(len({Path(m.paths[0]).read_bytes() for m in made}), 1)

    def test_a_process_that_is_ended_while_it_draws_costs_nothing_but_time(self):
        from multiprocessing import forkserver

        killed = []

        def progress(table, form, done, total):
            deadline = time.monotonic() + 30
            while done > 2 * BLOCK_ROWS and not killed and time.monotonic() < deadline:
                parent = forkserver._forkserver._forkserver_pid
                killed.extend(children(parent) if parent else [])
                for pid in killed:
                    os.kill(pid, 9)
                time.sleep(0.05)

        rows = BLOCK_ROWS * 16
        store, form = DataStore(self.folder / "ended"), Input(form="csv")
        with self.assertLogs("ivrell.data", "WARNING") as told:
            made = store.ensure(recipe(rows), "passages", form, workers=3, progress=progress)
        self.assertTrue(killed)
        self.assertTrue(told.output)
        alone = self.make("alone", "csv", 1, rows=rows)
        self.assertEqual(made.bytes_hash, alone.bytes_hash)

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
            "orc": lambda path: pl.from_arrow(pyarrow.orc.read_table(path)),
            "arrows": pl.read_ipc_stream,
            "xlsx": lambda path: pl.from_pandas(pd.read_excel(path)),
        }  # fmt: skip
        expected = pl.from_arrow(Generator(recipe(3000)).block("passages", 0))
        for form, read in readers.items():
            made = self.make("forms", form, 1, rows=3000)
            found = read(made.paths[0])
            for name in ("passage", "lock", "draught", "toll", "barges"):
                with self.subTest(form=form, column=name):
                    self.assertEqual(found[name].to_list(), expected[name].to_list())

    def stopped_after(self, name, wanted, blocks, rows=BLOCK_ROWS * 5 + 17):
        """Make, stop after so many blocks, and go on; returns the blocks drawn when going on."""
        store = DataStore(self.folder / name)
        asked = iter(range(1, 1000))
        with self.assertRaises(Stopped):
            store.ensure(recipe(rows), "passages", wanted, stopped=lambda: next(asked) == blocks)
        self.assertEqual([k.tables for k in store.kept()], [[]])
        told = []
        made = store.ensure(recipe(rows), "passages", wanted, progress=lambda *p: told.append(p))
        whole = DataStore(self.folder / f"{name}-whole").ensure(recipe(rows), "passages", wanted)
        self.assertEqual(made.bytes_hash, whole.bytes_hash)
        for ours, theirs in zip(made.paths, whole.paths, strict=True):
            self.assertEqual(Path(ours).read_bytes(), Path(theirs).read_bytes())
        return len(told)

    def test_half_made_text_is_gone_on_with_behind_its_last_block(self):
        for form in ("csv", "csv.gz", "jsonl", "fixed"):
            with self.subTest(form=form):
                self.assertEqual(self.stopped_after(form, Input(form=form), 3), 3)

    def test_half_made_parts_are_gone_on_with(self):
        self.assertEqual(self.stopped_after("csv", Input(form="csv", parts=4), 3), 3)
        # Columnar files are begun again from the last whole one: part 2 begins in block 1.
        wanted = Input(form="parquet", parts=4)
        self.assertEqual(self.stopped_after("parquet", wanted, 2), 5)

    def test_what_a_killed_process_left_is_gone_on_with(self):
        script = (
            "import sys, time; from pathlib import Path; sys.path[:0] = sys.argv[1:3]\n"
            "from tests.core.test_recipe import recipe\n"
            "from ivrell.core.recipe.store import DataStore\n"
            "from ivrell.core.recipe import making; making._NOTE_EVERY_S = 0\n"
            "def told(table, form, rows, total):\n"
            "    print(rows, flush=True)\n"
            "    rows > 500_000 and time.sleep(60)\n"
            "store = DataStore(Path(sys.argv[3]))\n"
            "store.ensure(recipe(1_000_000), 'passages', 'csv', progress=told)"
        )
        root = Path(__file__).resolve().parents[2]
        process = subprocess.Popen(
            [sys.executable, "-c", script, root, root / "src", self.folder / "killed"],
            stdout=subprocess.PIPE,
        )
        while int(process.stdout.readline()) <= 500_000:
            pass
        process.kill()
        process.wait()
        process.stdout.close()
        told = []
        made = DataStore(self.folder / "killed").ensure(
            recipe(1_000_000), "passages", "csv", progress=lambda *p: told.append(p[2])
        )
        self.assertGreater(told[0], 500_000)
        self.assertEqual(made.bytes_hash, self.make("a", "csv", 1, rows=1_000_000).bytes_hash)

    def test_files_split_by_value(self):
        store = DataStore(self.folder)
        for form in ("csv", "parquet"):
            made = store.ensure(recipe(5000), "locks", Input(form=form, split_by="reach"))
            names = [Path(path).parent.name for path in made.paths]
            self.assertEqual(names, ["reach=Middle", "reach=Tidal", "reach=Upper"])
            other = store.ensure(recipe(5000), "passages", Input(form=form, split_by="reach"))
            self.assertEqual(len(other.paths), 1)
            reader = f"read_{form}('{Path(made.paths[0]).parents[1]}/*/*')"
            found = duckdb.sql(f"SELECT lock, reach FROM {reader} ORDER BY lock").pl()
            whole = pl.from_arrow(Generator(recipe()).block("locks", 0)).sort("lock")
            self.assertEqual(found.rows(), whole.rows())

    def test_what_files_cannot_be_split_by(self):
        for column, why in (("draught", "holds double"), ("passage", "more than 1,000")):
            with self.assertRaisesRegex(BadInput, why):
                wanted = Input(form="csv", split_by=column)
                DataStore(self.folder).ensure(recipe(5000), "passages", wanted)
            self.assertEqual(list(self.folder.rglob("*.half")), [])

    def test_codec_is_a_setting(self):
        store = DataStore(self.folder)
        sizes = {}
        for codec in ("none", "snappy", "zstd"):
            made = store.ensure(recipe(5000), "passages", Input(form="parquet", codec=codec))
            packed = pyarrow.parquet.ParquetFile(made.paths[0]).metadata.row_group(0).column(1)
            expected = "UNCOMPRESSED" if codec == "none" else codec.upper()
            self.assertEqual(packed.compression, expected)
            sizes[codec] = made.size_bytes
        self.assertLess(sizes["zstd"], sizes["none"])
        with self.assertRaisesRegex(BadInput, "Its codecs: zstd, snappy"):
            store.ensure(recipe(5000), "passages", Input(form="parquet", codec="squash"))

    def test_fixed_width_fields_stand_in_their_places(self):
        made = self.make("a", "fixed", 1, rows=3000)
        path = Path(made.paths[0])
        places = json.loads(path.with_name(path.name + ".places.json").read_text())
        lines = path.read_text().splitlines()
        self.assertEqual({len(line) for line in lines}, {sum(p["width"] for p in places)})
        expected = Generator(recipe(3000)).block("passages", 0)
        for place in places:
            column = expected.column(place["name"])
            if place["name"] == "passed_at":
                column = column.cast(pyarrow.timestamp("s"))
            texts = ["" if v is None else v for v in column.cast(pyarrow.string()).to_pylist()]
            end = place["start"] + place["width"]
            self.assertEqual([line[place["start"] : end].strip() for line in lines], texts)

    def test_ods_holds_the_rows_typed(self):
        made = self.make("a", "ods", 1, rows=500)
        with zipfile.ZipFile(made.paths[0]) as archive:
            self.assertEqual(archive.infolist()[0].filename, "mimetype")
            self.assertEqual(archive.infolist()[0].compress_type, zipfile.ZIP_STORED)
            content = ElementTree.fromstring(archive.read("content.xml"))
        table = "{urn:oasis:names:tc:opendocument:xmlns:table:1.0}"
        office = "{urn:oasis:names:tc:opendocument:xmlns:office:1.0}"
        sheet = next(content.iter(f"{table}table"))
        self.assertEqual(sheet.get(f"{table}name"), "passages")
        rows = list(sheet.iter(f"{table}table-row"))
        self.assertEqual(len(rows), 501)
        expected = Generator(recipe(500)).block("passages", 0).to_pylist()
        for row, values in zip(rows[1:], expected, strict=True):
            passage, lock, passed_at, draught, toll, _ = row.iter(f"{table}table-cell")
            self.assertEqual(int(passage.get(f"{office}value")), values["passage"])
            self.assertEqual("".join(lock.itertext()), values["lock"])
            self.assertEqual(passed_at.get(f"{office}date-value"), values["passed_at"].isoformat())
            self.assertEqual(float(draught.get(f"{office}value")), values["draught"])
            shown = None if values["toll"] is None else float(toll.get(f"{office}value"))
            self.assertEqual(shown, values["toll"])

    def test_a_workbook_holds_the_rows_typed(self):
        made = self.make("a", "xlsx", 1, rows=500)
        book = openpyxl.load_workbook(made.paths[0], read_only=True)
        self.assertEqual(book.sheetnames, ["passages"])
        head, *rows = book["passages"].iter_rows(values_only=True)
        expected = Generator(recipe(500)).block("passages", 0)
        self.assertEqual(list(head), expected.schema.names)
        for row, values in zip(rows, expected.to_pylist(), strict=True):
            self.assertEqual(list(row), list(values.values()))

    @unittest.skipUnless(shutil.which("soffice"), "no spreadsheet engine on this machine")
    def test_a_spreadsheet_engine_opens_it_and_shows_the_same(self):
        ods, csv = (Path(self.make("a", form, 1, rows=200).paths[0]) for form in ("ods", "csv"))
        profile = f"-env:UserInstallation=file://{self.folder}/profile"
        command = [
            "soffice",
            profile,
            "--headless",
            "--convert-to",
            "csv:Text - txt - csv (StarCalc)",
        ]
        subprocess.run(
            [*command, "--outdir", self.folder, ods], capture_output=True, timeout=120, check=True
        )
        shown = pl.read_csv(self.folder / "passages.csv")
        expected = pl.read_csv(csv)
        for name in ("passage", "lock", "passed_at", "toll", "barges"):
            self.assertEqual(shown[name].to_list(), expected[name].to_list(), name)

    def test_a_sheet_holds_no_more_rows_than_it_can(self):
        with self.assertRaisesRegex(BadInput, "holds 1,048,575 rows"):
            self.make("a", "ods", 1, rows=2_000_000)

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
        self.assertEqual(store.find(recipe(500_000), "passages"), [])
        self.assertEqual([kept.half_made for kept in store.kept()], [["passages.csv"]])
        self.assertEqual(list(self.folder.glob("*/passages.csv")), [])

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
        for rows in (-1, -5, "many", 1.5, True):
            with self.subTest(rows=rows), self.assertRaisesRegex(BadInput, "knobs.rows"):
                recipe(rows)

    def test_unknown_knob(self):
        self.refused('"{rows}"', '"{loads}"', "no knob .loads.")


class Preview(unittest.TestCase):
    def test_rows_are_those_that_are_made(self):
        generator = Generator(recipe())
        middle = rows_from(generator, "passages", 100_000, 5)
        self.assertEqual(
            [row[0] for row in middle], [str(n * 5 + 10) for n in range(100_000, 100_005)]
        )
        over_a_block = rows_from(generator, "passages", BLOCK_ROWS - 2, 4)
        self.assertEqual([int(row[0]) for row in over_a_block],
                         [(BLOCK_ROWS + n) * 5 + 10 for n in (-2, -1, 0, 1)])  # fmt: skip
        self.assertEqual(len(rows_from(generator, "passages", 199_998, 50)), 2)

    def test_estimated_size_is_near_the_real_one(self):
        resolved = recipe()
        with tempfile.TemporaryDirectory() as folder:
            for form, cost in costs(Generator(resolved), "passages").items():
                made = DataStore(Path(folder)).ensure(resolved, "passages", form)
                self.assertAlmostEqual(cost["bytes"] / made.size_bytes, 1, delta=0.1)

    def test_a_sample_is_profiled_for_a_first_look(self):
        shown = preview(Generator(recipe(1_000_000)), "passages")
        self.assertEqual(shown.rows, 1_000_000)
        self.assertLessEqual(shown.profiled_rows, 10_000)
        toll = next(c for c in shown.columns if c.name == "toll").profile
        self.assertAlmostEqual(toll.nulls / toll.rows, 0.1, delta=0.02)
        self.assertAlmostEqual(float(toll.quantiles[2]), (3 + 90) / 2, delta=3)
        lock = next(c for c in shown.columns if c.name == "lock").profile
        self.assertEqual(lock.lengths, [6, 6.0, 6])

    def test_bins_of_whole_numbers_draw_no_comb(self):
        for count, bins in ((1, 1), (6, 6), (24, 24), (25, 13), (100, 20), (1000, 24)):
            numbers = pyarrow.array(list(range(7, 7 + count)) * 3)
            [found] = profile(pyarrow.record_batch([numbers], names=["n"]))
            counts = found.histogram.counts
            with self.subTest(count=count):
                self.assertEqual((len(counts), sum(counts)), (bins, 3 * count))
                self.assertEqual(len(set(counts[:-1])), min(1, len(counts) - 1))

    def test_every_row_is_profiled_when_asked(self):
        generator = Generator(recipe(400_000))
        table = pyarrow.Table.from_batches(generator.read("passages"))
        found = {column.name: column for column in whole_profile(generator, "passages")}
        for name, column in found.items():
            values = table.column(name)
            with self.subTest(column=name):
                self.assertEqual(column.rows, 400_000)
                self.assertEqual(column.nulls, values.null_count)
                distinct = len(values.drop_null().unique())
                self.assertAlmostEqual(column.distinct / distinct, 1, delta=0.15)
                if column.histogram:
                    counted = sum(column.histogram.counts)
                    self.assertEqual(counted, 400_000 - values.null_count)
        ends = pc.min_max(table.column("draught"))
        self.assertEqual(float(found["draught"].smallest), ends["min"].as_py())
        self.assertAlmostEqual(float(found["draught"].quantiles[2]), 1.4, delta=0.02)
        locks = table.column("lock").combine_chunks().value_counts()
        most = max(item["counts"].as_py() for item in locks)
        self.assertEqual(found["lock"].top[0].count, most)
        few = whole_profile(Generator(recipe(1000)), "locks")[1]
        self.assertTrue(few.distinct_exact)
        self.assertEqual(sum(top.count for top in few.top), 60)


class OwnFiles(unittest.TestCase):
    TEXT = """
seed = 1
[tables.locks]
file = "locks.csv"
[tables.passages]
rows = 1000
columns = [{ name = "lock", kind = "reference", to = "locks.lock" }]
"""

    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        patched = mock.patch.dict(os.environ, {"IVRELL_DATA": str(self.folder / "ivrell")})
        patched.start()
        self.addCleanup(patched.stop)
        self.path = self.folder / "locks.csv"
        self.path.write_text("lock,berths\n007,3\n012,\n044,5\n")

    def resolved(self, text=TEXT):
        return Recipe.model_validate(tomllib.loads(text)).based_on(self.folder).resolved({})

    def test_it_is_given_as_it_is_and_in_other_forms(self):
        store = DataStore(self.folder / "made")
        made = store.ensure(self.resolved(), "locks", "csv")
        self.assertEqual(made.paths, [str(self.path)])
        self.assertEqual(made.rows, 3)
        parquet = pyarrow.parquet.read_table(
            store.ensure(self.resolved(), "locks", "parquet").given
        )
        self.assertEqual(
            parquet.to_pydict(), {"lock": ["007", "012", "044"], "berths": [3, None, 5]}
        )

    def test_other_tables_refer_to_it(self):
        block = Generator(self.resolved()).block("passages", 0)
        self.assertEqual(set(block.column("lock").to_pylist()), {"007", "012", "044"})

    def test_it_is_known_by_its_hash(self):
        before = self.resolved()
        self.path.write_text("lock,berths\n007,3\n")
        os.utime(self.path, (1, 1))
        after = self.resolved()
        for table in ("locks", "passages"):
            self.assertNotEqual(before.fingerprint(table), after.fingerprint(table))
        meant = before.tables["locks"].file_hash
        with self.assertRaisesRegex(BadInput, "file_hash: .*holds other bytes"):
            self.resolved(self.TEXT.replace('csv"', f'csv"\nfile_hash = "{meant}"'))

    def test_more_rows_than_a_block(self):
        lines = "".join(f"{n},{n % 7}\n" for n in range(BLOCK_ROWS + 5))
        self.path.write_text("lock,berths\n" + lines)
        found = rows_from(Generator(self.resolved()), "locks", BLOCK_ROWS - 1, 10)
        self.assertEqual([row[0] for row in found], [str(BLOCK_ROWS + n) for n in range(-1, 5)])
        self.assertEqual(preview(Generator(self.resolved()), "locks").rows, BLOCK_ROWS + 5)

    def test_what_cannot_be_used(self):
        column = '{ name = "n", kind = "sequence" }'
        with self.assertRaisesRegex(BadInput, "tables.locks.file: .*cannot be read"):
            self.resolved(self.TEXT.replace("locks.csv", "nowhere.csv"))
        with self.assertRaisesRegex(ValueError, "a file takes no columns"):
            self.resolved(self.TEXT.replace('csv"', f'csv"\ncolumns = [{column}]'))
        with self.assertRaisesRegex(BadInput, 'no column "berth"'):
            self.resolved(self.TEXT.replace("locks.lock", "locks.berth"))


if __name__ == "__main__":
    unittest.main()
