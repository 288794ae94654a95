"""A recipe from samples whose truth is known: found again, and no value copied."""

import tempfile
import tomllib
import unittest
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet

from ivrell.core.base.errors import BadInput
from ivrell.core.propose.recipe import propose
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.store import DataStore

TRUTH = """
seed = 42
[tables.locks]
rows = 80
columns = [
  { name = "lock", kind = "text", pattern = "[A-Z]{3}-[0-9]{2}", unique = true },
  { name = "reach", kind = "category", values = ["Upper", "Middle", "Tidal"], skew = 1.0 },
]
[tables.passages]
rows = 40000
order = "shuffled"
columns = [
  { name = "passage", kind = "sequence", start = 100 },
  { name = "lock", kind = "reference", to = "locks.lock", skew = 1.2, absent_share = 0.03 },
  { name = "passed_at", kind = "timestamp", from = "2031-01-01", until = "2032-01-01" },
  { name = "draught", kind = "number", spread = "normal", mean = 1.4, sd = 0.2, decimals = 3 },
  { name = "toll", kind = "number", low = 3, high = 90, decimals = 2, null_share = 0.1 },
  { name = "barges", kind = "integer", low = 1, high = 6 },
  { name = "late", kind = "boolean", true_share = 0.2 },
]
[tables.manifests]
rows = 30000
order = "by weight"
duplicate_share = 0.04
columns = [
  { name = "manifest", kind = "code", width = 7, zeros_share = 0.3 },
  { name = "weight", kind = "number", spread = "lognormal", median = 200, sigma = 0.6 },
  { name = "wait", kind = "number", spread = "exponential", mean = 12 },
  { name = "holds", kind = "packed", slots = ["fore", "mid", "aft"], low = 5, high = 60 },
  { name = "remark", kind = "words", fewest = 2, most = 7 },
  { name = "signed", kind = "date", from = "2031-02-01", until = "2031-03-01" },
]
"""


class Truth(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.recipe = Recipe.model_validate(tomllib.loads(TRUTH)).resolved({})
        store = DataStore(Path(folder.name))
        cls.samples = {
            name: Path(store.ensure(cls.recipe, name, form).paths[0])
            for name, form in (("locks", "csv"), ("passages", "csv"), ("manifests", "parquet"))
        }
        cls.proposal = propose(cls.samples)

    def column(self, table, name):
        columns = self.proposal.data["tables"][table]["columns"]
        return next(column for column in columns if column["name"] == name)

    def test_kinds_are_found_again(self):
        for name, table in self.recipe.tables.items():
            for column in table.columns:
                with self.subTest(column=f"{name}.{column.name}"):
                    self.assertEqual(self.column(name, column.name)["kind"], column.kind)

    def test_spreads_and_shares(self):
        draught = self.column("passages", "draught")
        self.assertEqual((draught["spread"], draught["decimals"]), ("normal", 3))
        self.assertAlmostEqual(draught["mean"], 1.4, delta=0.01)
        self.assertAlmostEqual(draught["sd"], 0.2, delta=0.01)
        self.assertAlmostEqual(self.column("passages", "toll")["null_share"], 0.1, delta=0.01)
        self.assertAlmostEqual(self.column("passages", "late")["true_share"], 0.2, delta=0.01)
        weight = self.column("manifests", "weight")
        self.assertEqual(weight["spread"], "lognormal")
        self.assertAlmostEqual(weight["sigma"], 0.6, delta=0.02)
        self.assertEqual(self.column("manifests", "wait")["spread"], "exponential")

    def test_references_skew_and_absent_share(self):
        lock = self.column("passages", "lock")
        self.assertEqual(lock["to"], "locks.lock")
        self.assertAlmostEqual(lock["skew"], 1.2, delta=0.11)
        self.assertAlmostEqual(lock["absent_share"], 0.03, delta=0.005)

    def test_shape_of_text(self):
        lock = self.column("locks", "lock")
        self.assertEqual((lock["pattern"], lock["unique"]), ("[A-Z]{3}-[0-9]{2}", True))
        manifest = self.column("manifests", "manifest")
        self.assertEqual(manifest["width"], 7)
        self.assertAlmostEqual(manifest["zeros_share"], 0.3, delta=0.02)
        holds = self.column("manifests", "holds")
        self.assertEqual((len(holds["slots"]), holds["fewest"], holds["most"]), (3, 1, 3))

    def test_order_and_duplicates(self):
        tables = self.proposal.data["tables"]
        self.assertEqual(tables["passages"]["order"], "shuffled")
        self.assertEqual(tables["manifests"]["order"], "by weight")
        self.assertAlmostEqual(tables["manifests"]["duplicate_share"], 0.04, delta=0.005)

    def test_it_makes_data_that_is_near(self):
        for name, distances in self.proposal.distances.items():
            for column, distance in distances.items():
                with self.subTest(column=f"{name}.{column}"):
                    self.assertLess(distance, 0.12)

    def test_its_text_is_a_recipe(self):
        data = tomllib.loads(self.proposal.toml())["data"]
        again = Recipe.model_validate(data).resolved({})
        self.assertEqual(Generator(again).sample("passages", 100).num_rows, 100)
        self.assertIn("from the sample", self.proposal.toml())

    def test_no_text_of_the_sample_stands_in_it(self):
        text = self.proposal.toml()
        for path in (self.samples["locks"], self.samples["passages"]):
            for line in path.read_text().splitlines()[1:50]:
                for value in line.split(","):
                    if any(letter.isalpha() for letter in value) and value not in ("true", "false"):
                        self.assertNotIn(value, text)
        allowed = propose(self.samples, allow_values=["locks.reach"])
        values = allowed.data["tables"]["locks"]["columns"][1]["values"]
        self.assertEqual(values[0], "Upper")


class Samples(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def write(self, name, text):
        path = self.folder / name
        path.write_text(text)
        return path

    def test_refused(self):
        for path, told in (
            (self.write("a.txt", "x\n1\n"), "csv or parquet"),
            (self.write("empty.csv", "x,y\n"), "no rows"),
            (self.folder / "nowhere.csv", "cannot be read"),
        ):
            with self.subTest(told), self.assertRaisesRegex(BadInput, told):
                propose({"t": path})
        good = self.write("good.csv", "x\n1\n2\n")
        with self.assertRaisesRegex(BadInput, 'no column "t.y"'):
            propose({"t": good}, allow_values=["t.y"])

    def test_odd_names_nulls_and_single_rows(self):
        path = self.write("odd.csv", "a b,2nd,a_b,none\n007,x,1.5,\n012,y,2.5,\n")
        data = propose({"odd": path}).data["tables"]["odd"]
        self.assertEqual([c["name"] for c in data["columns"]], ["a_b", "c_2nd", "a_b_", "none"])
        self.assertEqual(data["columns"][0]["kind"], "code")
        one = self.folder / "one.parquet"
        pyarrow.parquet.write_table(pa.table({"x": [1], "y": ["a"], "z": [None]}), one)
        self.assertEqual(propose({"one": one}).data["tables"]["one"]["rows"], 1)


class Odd(unittest.TestCase):
    """Samples that no usual shape fits."""

    def proposed(self, **tables):
        with tempfile.TemporaryDirectory() as name:
            paths = {}
            for table, lines in tables.items():
                paths[table] = Path(name) / f"{table}.csv"
                paths[table].write_text("".join(f"{line}\n" for line in lines))
            return propose(paths)

    def columns(self, proposal, table):
        return {column["name"]: column for column in proposal.data["tables"][table]["columns"]}

    def test_codes_that_all_begin_with_zero(self):
        found = self.proposed(codes=["code", *(f"0{n % 100:02}" for n in range(500))])
        self.assertEqual(self.columns(found, "codes")["code"]["pattern"], "[0-9]{3}")

    def test_few_numbers_among_keys_are_no_reference(self):
        trips = [f"{n},{n * 7 % 5 + 1},{n * 31 % 15}" for n in range(900)]
        found = self.proposed(
            barges=["id,name", *(f"{n},b{n % 10}" for n in range(100))],
            trips=["trip,crew,barge_id", *trips],
        )
        kinds = {name: column["kind"] for name, column in self.columns(found, "trips").items()}
        self.assertEqual(kinds["crew"], "integer")
        self.assertEqual(kinds["barge_id"], "reference")

    def test_humps_gaps_and_uneven_shares_are_drawn(self):
        rng = np.random.default_rng(5)
        two = np.where(rng.random(4000) < 0.5, rng.normal(10, 1, 4000), rng.normal(100, 2, 4000))
        gaps = rng.choice([1, 2, 3, 50, 51, 900], 4000)
        uneven = rng.choice(["a", "b", "c", "d"], 4000, p=[0.45, 0.45, 0.05, 0.05])
        lines = [f"{h:.3f},{g},{u},{h * 2 + n % 3:.1f}"
                 for n, (h, g, u) in enumerate(zip(two, gaps, uneven, strict=True))]  # fmt: skip
        found = self.proposed(survey=["hump,gap,uneven,tied", *lines])
        for name in ("hump", "gap", "uneven"):
            with self.subTest(name):
                self.assertLess(found.distances["survey"][name], 0.05)
        self.assertIn("(hump and tied)", found.lost["survey"])
        text = found.toml()
        self.assertIn("# not made: columns that rise or fall together (hump and tied)", text)
        for value in two[:500]:
            self.assertNotIn(f"{value:.3f},", text)

    def test_moments_keep_their_days_and_lose_their_hours(self):
        rng = np.random.default_rng(4)
        days = np.arange("2031-03-01", "2031-09-01", dtype="datetime64[D]")
        busy = np.array([5.0 if day < 90 else 1.0 for day in range(len(days))])
        busy[(np.arange(len(days)) % 7) > 4] = 0
        chosen = rng.choice(days, 20_000, p=busy / busy.sum())
        hours = rng.integers(7, 18, 20_000).astype("timedelta64[h]")
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name) / "signed.parquet"
        pa.parquet.write_table(
            pa.table({
                "at": chosen.astype("datetime64[us]") + hours,
                "day": chosen,
                "even": rng.choice(days, 20_000),
            }),
            path,
        )  # fmt: skip
        proposal = propose({"signed": path})
        columns = {c["name"]: c for c in proposal.data["tables"]["signed"]["columns"]}
        self.assertEqual(len(columns["at"]["weights"]), len(days))
        self.assertNotIn("weights", columns["even"])
        self.assertLess(max(proposal.distances["signed"].values()), 0.1)
        recipe = Recipe.model_validate(proposal.data).resolved({})
        made = Generator(recipe).sample("signed", 20_000).column("day").to_numpy(False)
        places = (made - days[0]).astype(int)
        self.assertEqual(set(places % 7), {0, 1, 2, 3, 4})
        self.assertAlmostEqual(
            float(np.mean(places < 90)), float(np.mean(chosen < days[90])), delta=0.03
        )
        self.assertEqual(proposal.lost["signed"], "the time of day of at")

    def test_what_no_shape_is_near_to_is_said(self):
        found = self.proposed(codes=["code", *(f"0-{n % 70}" for n in range(500))])
        self.assertGreater(found.distances["codes"]["code"], 0.1)
        self.assertIn("its own distribution is lost", found.toml())


if __name__ == "__main__":
    unittest.main()
