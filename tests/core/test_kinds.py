"""Each kind of column and each modifier holds what it says."""

import itertools
import json
import tempfile
import tomllib
import unittest
import uuid
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from scipy import stats

from ivrell.core.base.errors import BadInput
from ivrell.core.recipe.encode import Files
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.malformed import broken, chosen
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.store import DataStore

ROWS = 200_000


def recipe(columns, rows=ROWS, table="", others=""):
    text = f"seed = 11\n{others}\n[tables.t]\nrows = {rows}\n{table}\ncolumns = [{columns}]"
    return Recipe.model_validate(tomllib.loads(text)).resolved({})


def table(columns, rows=ROWS, settings="", others=""):
    made = recipe(columns, rows, settings, others)
    return pa.Table.from_batches(Generator(made).read("t"))


def column(settings, rows=ROWS, order=""):
    return table('{ name = "x", ' + settings + " }", rows, order).column("x")


class Kinds(unittest.TestCase):
    def fits(self, values, spread):
        self.assertGreater(stats.kstest(values.to_numpy()[:50_000], spread).pvalue, 1e-4)

    def test_lognormal_and_exponential(self):
        values = column('kind = "number", spread = "lognormal", median = 20, sigma = 0.4')
        self.fits(values, stats.lognorm(0.4, scale=20).cdf)
        values = column('kind = "number", spread = "exponential", mean = 3')
        self.fits(values, stats.expon(scale=3).cdf)

    def test_drawn_by_quantiles(self):
        settings = 'kind = "number", spread = "drawn", quantiles = [0, 1, 1, 50, 100]'
        for order in ("", 'order = "by x"'):
            values = column(settings, order=order).to_numpy()
            self.assertEqual((values.min() >= 0, values.max() < 100), (True, True))
            for below, share in ((1, 0.25), (1.0001, 0.5), (50, 0.75)):
                self.assertAlmostEqual((values < below).mean(), share, delta=0.01)
            self.assertGreater((values == 1).mean(), 0.24)
        self.assertEqual(list(values), sorted(values))

    def test_categories_by_weights(self):
        settings = 'kind = "category", values = ["b", "a", "c"], weights = [6, 3, 1]'
        for order in ("", 'order = "by x"'):
            values = column(settings, order=order)
            for value, share in (("b", 0.6), ("a", 0.3), ("c", 0.1)):
                found = pc.mean(pc.equal(values, value)).as_py()
                self.assertAlmostEqual(found, share, delta=0.01)
        self.assertEqual(values.to_pylist(), sorted(values.to_pylist()))

    def test_boolean_and_constant(self):
        true = pc.sum(column('kind = "boolean", true_share = 0.3')).as_py()
        self.assertGreater(stats.binomtest(true, ROWS, 0.3).pvalue, 1e-4)
        self.assertEqual(column('kind = "constant", value = "A"', 10).unique().to_pylist(), ["A"])

    def test_identifiers_are_those_of_the_standard_and_no_two_alike(self):
        for order, version in (("random", 4), ("rising", 7)):
            values = column(f'kind = "identifier", order = "{order}"')
            self.assertEqual(len(values.unique()), ROWS)
            read = [uuid.UUID(text) for text in values[:2000].to_pylist()]
            self.assertEqual(
                {(one.version, one.variant) for one in read}, {(version, uuid.RFC_4122)}
            )
            self.assertEqual([str(one) for one in read], values[:2000].to_pylist())
        # Rising ones rise with the rows, a millisecond each.
        rising = column('kind = "identifier", order = "rising"').to_pylist()
        self.assertEqual(rising, sorted(rising))
        moments = [uuid.UUID(text).int >> 80 for text in rising[:3]]
        self.assertEqual([b - a for a, b in itertools.pairwise(moments)], [1, 1])
        random = column('kind = "identifier"').to_pylist()
        self.assertNotEqual(random, sorted(random))

    def test_unique_integer(self):
        values = column('kind = "integer", low = 5, high = 300004, unique = true')
        self.assertEqual(len(values.unique()), ROWS)
        ends = pc.min_max(values).as_py()
        self.assertGreaterEqual(ends["min"], 5)
        self.assertLessEqual(ends["max"], 300_004)
        # Neighbours are no more alike than strangers.
        numbers = values.to_numpy()
        self.assertLess(abs(stats.spearmanr(numbers[:-1], numbers[1:]).statistic), 0.02)

    def test_made_up_categories(self):
        values = column('kind = "category", count = 40')
        counts = [entry["counts"].as_py() for entry in values.combine_chunks().value_counts()]
        self.assertEqual(len(counts), 40)
        self.assertGreater(stats.chisquare(counts).pvalue, 1e-4)

    def test_code(self):
        values = column('kind = "code", width = 5, zeros_share = 0.4, suffix_share = 0.25')
        self.assertTrue(pc.all(pc.match_substring_regex(values, "^[0-9]{5}A?$")).as_py())
        zeros = pc.sum(pc.starts_with(values, "0")).as_py()
        self.assertGreater(stats.binomtest(zeros, ROWS, 0.4).pvalue, 1e-4)
        suffixed = pc.sum(pc.ends_with(values, "A")).as_py()
        self.assertGreater(stats.binomtest(suffixed, ROWS, 0.25).pvalue, 1e-4)
        unique = column('kind = "code", width = 6, unique = true')
        self.assertEqual(len(unique.unique()), ROWS)

    def test_packed(self):
        values = column(
            'kind = "packed", slots = ["fore", "mid", "aft"], fewest = 1, most = 2, '
            "low = 1, high = 3",
            2000,
        ).to_pylist()
        sizes = set()
        for text in values:
            entries = [entry.split("=") for entry in text.split(";")]
            sizes.add(len(entries))
            names = [name for name, _ in entries]
            self.assertEqual(names, sorted(names, key=["fore", "mid", "aft"].index))
            self.assertLessEqual({int(value) for _, value in entries}, {1, 2, 3})
        self.assertEqual(sizes, {1, 2})

    def test_words(self):
        counts = [
            len(t.split()) for t in column('kind = "words", fewest = 2, most = 4', 3000).to_pylist()
        ]
        self.assertEqual(set(counts), {2, 3, 4})

    def test_date(self):
        values = column('kind = "date", from = "2031-03-01", until = "2031-03-04"')
        days = sorted(map(str, values.unique().to_pylist()))
        self.assertEqual(days, ["2031-03-01", "2031-03-02", "2031-03-03"])

    def test_derived(self):
        made = table(
            '{ name = "area", kind = "derived", formula = "len * -(wide + 1) / 2", decimals = 3 },'
            '{ name = "len", kind = "integer", low = 1, high = 90, null_share = 0.1 },'
            '{ name = "wide", kind = "derived", formula = "len - 2" }',
            5000,
        ).to_pylist()
        for row in made:
            if row["len"] is None:
                self.assertIsNone(row["area"])
            else:
                self.assertEqual(row["wide"], row["len"] - 2)
                expected = round(row["len"] * -(row["wide"] + 1) / 2, 3)
                self.assertAlmostEqual(row["area"], expected, places=6)


class Order(unittest.TestCase):
    def test_shuffled_holds_every_number_once(self):
        numbers = column('kind = "sequence"', order='order = "shuffled"').to_numpy()
        np.testing.assert_array_equal(np.sort(numbers), np.arange(ROWS) + 1)
        rho = stats.spearmanr(np.arange(ROWS), numbers).statistic
        self.assertLess(abs(rho), 0.02)

    def test_sorted_without_holding_the_table_keeps_the_spread(self):
        cases = {
            'kind = "number", low = 2, high = 9': stats.uniform(2, 7),
            'kind = "number", spread = "normal", mean = 5, sd = 2': stats.norm(5, 2),
            'kind = "number", spread = "exponential", mean = 4': stats.expon(scale=4),
            'kind = "number", spread = "lognormal", median = 3, sigma = 1': stats.lognorm(1, 0, 3),
        }  # fmt: skip
        for settings, spread in cases.items():
            with self.subTest(settings):
                values = column(settings, order='order = "by x"').to_numpy()
                self.assertTrue((np.diff(values) >= 0).all())
                self.assertGreater(stats.kstest(values, spread.cdf).pvalue, 1e-4)

    def test_sorted_by_what_repeats(self):
        for settings in (
            'kind = "category", values = ["b", "c", "a"], skew = 1',
            'kind = "integer", low = 1, high = 5',
            'kind = "timestamp", from = "2031-01-01", until = "2031-02-01"',
            'kind = "boolean", true_share = 0.2',
        ):
            with self.subTest(settings):
                values = column(settings, order='order = "by x"').to_pylist()
                self.assertEqual(values, sorted(values))
                self.assertGreater(len(set(values)), 1)

    def test_sorted_by_a_reference_keeps_its_skew(self):
        other = '[tables.k]\nrows = 50\ncolumns = [{ name = "k", kind = "code", unique = true }]'
        settings = '{ name = "x", kind = "reference", to = "k.k", skew = 1 }'
        plain = table(settings, others=other).column("x").combine_chunks()
        ordered = table(settings, settings='order = "by x"', others=other).column("x")
        self.assertEqual(ordered.to_pylist(), sorted(ordered.to_pylist()))

        def top(values):
            return max(entry["counts"].as_py() for entry in values.value_counts())

        self.assertAlmostEqual(top(plain) / top(ordered.combine_chunks()), 1, delta=0.05)

    def test_refused(self):
        for order, told in (('"by y"', 'no column "y"'), ('"by x"', "cannot be sorted by a words")):
            with self.assertRaisesRegex(BadInput, told):
                column('kind = "words"', order=f"order = {order}")
        for settings, told in (
            ('kind = "number", spread = "drawn", quantiles = [2, 1]', "rise"),
            ('kind = "number", spread = "drawn"', "needs quantiles"),
            ('kind = "category", count = 2, weights = [1]', "one number for each"),
            ('kind = "category", count = 1, weights = [0]', "not all 0"),
        ):
            with self.subTest(settings), self.assertRaisesRegex(ValueError, told):
                column(settings)


class Modifiers(unittest.TestCase):
    def test_duplicates_are_whole_rows_and_counted(self):
        for order in ("", 'order = "by n"'):
            with self.subTest(order):
                columns = (
                    '{ name = "id", kind = "sequence" }, '
                    '{ name = "n", kind = "number", low = 0, high = 9 }'
                )
                settings = f"duplicate_share = 0.05\n{order}"
                made = recipe(columns, table=settings)
                rows = pa.Table.from_batches(Generator(made).read("t"))
                distinct = rows.group_by(["id", "n"]).aggregate([]).num_rows
                self.assertEqual(ROWS - distinct, Generator(made).duplicates("t"))
                self.assertAlmostEqual((ROWS - distinct) / ROWS, 0.05, delta=0.001)
                if order:
                    self.assertTrue((np.diff(rows.column("n").to_numpy()) >= 0).all())

    def test_needles(self):
        for at, place in (("first", 0), ("middle", ROWS // 2), ("last", ROWS - 1)):
            with self.subTest(at=at):
                settings = (
                    f'kind = "integer", low = 1, high = 9, needle = {{ value = 7, at = "{at}" }}'
                )
                values = column(settings, order="duplicate_share = 0.3").to_numpy()
                self.assertEqual(np.flatnonzero(values == 7).tolist(), [place])
        absent = column(
            'kind = "integer", low = 1, high = 9, needle = { value = 7, at = "absent" }'
        )
        self.assertEqual(set(absent.to_pylist()), {1, 2, 3, 4, 5, 6, 8, 9})
        share = column(
            'kind = "category", values = ["a", "b"], needle = { value = "z", at = 0.01 }'
        )
        self.assertAlmostEqual(share.to_pylist().count("z") / ROWS, 0.01, delta=1e-4)
        with self.assertRaisesRegex(BadInput, "does not fit a column of int64"):
            column('kind = "integer", low = 1, high = 9, needle = { value = "x" }')

    def test_malformed_lines_are_as_many_and_as_told(self):
        columns = (
            '{ name = "id", kind = "sequence" }, { name = "lock", kind = "code" }, '
            '{ name = "toll", kind = "number", low = 3, high = 90, decimals = 2 }'
        )
        made = recipe(columns, rows=50_000, table="malformed_share = 0.01")
        counts = broken(made, "t")
        self.assertEqual(sum(counts.values()), 500)
        self.assertEqual(len(counts), 5)
        encoded = Files(Generator(made), "t", Input(form="csv")).encoded(0)[0][1]
        lines = encoded.split(b"\n")[:-1]
        wrong = {
            row for row, line in enumerate(lines)
            if line.count(b",") != 2 or b'"' in line or b"\xff" in line or b".." in line
        }  # fmt: skip
        self.assertEqual(wrong, {row for row, _ in chosen(made, "t", 0)})
        with tempfile.TemporaryDirectory() as folder:
            store = DataStore(Path(folder))
            self.assertEqual(store.ensure(made, "t", "csv").broken, counts)
            self.assertEqual(store.ensure(made, "t", "parquet").broken, {})
            jsonl = Path(store.ensure(made, "t", "jsonl").paths[0]).read_bytes().splitlines()
        good = 0
        for line in jsonl:
            try:
                good += len(json.loads(line)) == 3
            except (ValueError, UnicodeDecodeError):
                pass
        self.assertAlmostEqual(good, 49_500, delta=250)

    def test_jsonl_escapes(self):
        made = recipe('{ name = "x", kind = "category", values = ["a\\"b", "c\\\\d", "é"] }', 50)
        encoded = Files(Generator(made), "t", Input(form="jsonl")).encoded(0)[0][1]
        lines = encoded.decode().splitlines()
        self.assertEqual({json.loads(line)["x"] for line in lines}, {'a"b', "c\\d", "é"})


class Refusals(unittest.TestCase):
    def test_at_their_place(self):
        cases = [
            ('{ name = "x", kind = "derived", formula = "y + 1" }', 'column "y"'),
            ('{ name = "x", kind = "derived", formula = "x + 1" }', "circle"),
            ('{ name = "x", kind = "derived", formula = "w * 2" }, { name = "w", kind = "words" }',
             "no number but of kind words"),
            ('{ name = "x", kind = "integer", low = 1, high = 9, unique = true }', "9 numbers"),
            ('{ name = "x", kind = "code", width = 2, unique = true }', "100 codes"),
        ]  # fmt: skip
        for columns, told in cases:
            with self.subTest(told), self.assertRaisesRegex(BadInput, f"columns.*{told}"):
                recipe(columns)

    def test_by_the_settings_alone(self):
        for settings, told in (
            ('kind = "derived", formula = "__import__(\'os\')"', "cannot be used"),
            ('kind = "derived", formula = "1 +"', "not an expression"),
            ('kind = "derived", formula = "1 + 2"', "uses no column"),
            ('kind = "category"', "either values or a count"),
            ('kind = "packed", slots = ["a"], most = 2', "do not fit"),
            ('kind = "number", spread = "lognormal", median = 1', "needs sigma"),
            ('kind = "words", fewest = 5, most = 2', "greater|above"),
        ):
            with self.subTest(told), self.assertRaisesRegex(ValueError, told):
                recipe('{ name = "x", ' + settings + " }")


if __name__ == "__main__":
    unittest.main()
