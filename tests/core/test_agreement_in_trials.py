"""Agreement in trials: wrong approaches named for what they are, groups, references."""

import pyarrow as pa
import pyarrow.parquet as pq

from ivrell.core.agreement.record import EXPECTED
from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

CANAL = """format = "ivrell-comparison/1"
name = "Barges through locks"
question = "Asked in each test."

[answer]
key = [KEY]
relative = 1e-9

[data]
seed = 12

[data.tables.barges]
rows = 40
columns = [
  { name = "barge", kind = "code", width = 6, zeros_share = 0.4 },
  { name = "berth", kind = "integer", low = 1, high = 90 },
]

[data.tables.passages]
rows = 3000
duplicate_share = 0.05
malformed_share = 0.02
columns = [
  { name = "passage", kind = "sequence", start = 1 },
  { name = "barge", kind = "reference", to = "barges.barge", absent_share = 0.0 },
  { name = "reach", kind = "category", values = ["Upper", "Tidal"], null_share = 0.1 },
  { name = "day", kind = "integer", low = 1, high = 9 },
  { name = "toll", kind = "number", low = 3, high = 90, decimals = 2 },
]
"""


def canal(*key):
    return CANAL.replace("KEY", ", ".join(f'"{name}"' for name in key))


def polars(lane, body, form="parquet"):
    head = "import polars as pl\n\n\ndef answer(data, knobs, stage):\n"
    read = f"    passages = pl.scan_{'csv' if form == 'csv' else 'parquet'}(data.passages)\n"
    barges = "    barges = pl.scan_parquet(data.barges)\n" if form == "parquet" else ""
    return approach(lane, head + read + barges + f"    return {body}\n", input=form)


class Case(TrialCase):
    def judged(self, text, **plan):
        self.ran = self.trial(text, **plan)
        point = self.ran.conduct().points[0]
        self.assertEqual([run.error for run in self.ran.runs if run.error], [])
        return {lane.id: lane.agreement for lane in point.lanes}


class Named(Case):
    def test_leading_zeros_lost_by_a_reader_that_guesses(self):
        found = self.judged(
            canal("barge")
            + polars("right", "barges.unique('barge').select('barge')")
            + approach(
                "guessed",
                """
                import pandas as pd
                def answer(data, knobs, stage):
                    return pd.read_csv(data.barges)[["barge"]].drop_duplicates()
                """,
            )
        )["guessed"]
        self.assertEqual((found.verdict, found.agrees), ("different", False))
        self.assertEqual(found.reasons, ["barge: text became integer, leading zeros lost"])
        self.assertEqual(found.drifted[0].lost, "leading zeros")

    def test_a_code_turned_into_a_float_by_a_join_with_missing_keys(self):
        join = """
            import pandas as pd
            def answer(data, knobs, stage):
                barges = pd.read_parquet(data.barges).drop_duplicates("barge").iloc[:30]
                passages = pd.read_parquet(data.passages).drop_duplicates("passage")
                return passages[["passage", "barge"]].merge(barges, how="left")
        """
        right = """
            import polars as pl
            def answer(data, knobs, stage):
                first = pl.scan_parquet(data.barges).unique("barge", keep="first",
                                                             maintain_order=True).head(30)
                passages = pl.scan_parquet(data.passages).unique("passage")
                return passages.select("passage", "barge").join(first, on="barge", how="left")
        """
        found = self.judged(
            canal("passage")
            + approach("right", right, input="parquet")
            + approach("merged", join, input="parquet")
        )["merged"]
        self.assertEqual(found.verdict, "same values, other types")
        self.assertEqual(found.reasons, ["berth: integer became float"])

    def test_a_group_of_nulls_dropped(self):
        grouped = """
            import pandas as pd
            def answer(data, knobs, stage):
                passages = pd.read_parquet(data.passages)
                return passages.groupby("reach", as_index=False)["day"].sum()
        """
        found = self.judged(
            canal("reach")
            + polars("right", "passages.group_by('reach').agg(pl.col('day').sum())")
            + approach("dropped", grouped, input="parquet")
        )["dropped"]
        self.assertEqual(found.verdict, "different")
        self.assertEqual(
            found.reasons,
            ["1 row of the reference is missing: reach is null in it"],
        )

    def test_a_sum_in_another_order(self):
        backwards = """
            import pyarrow.parquet as pq
            def answer(data, knobs, stage):
                sums = {}
                rows = pq.read_table(data.passages, columns=["reach", "toll"]).to_pylist()
                for row in reversed(rows):
                    sums[row["reach"]] = sums.get(row["reach"], 0.0) + row["toll"]
                return [{"reach": reach, "toll": toll} for reach, toll in sums.items()]
        """
        found = self.judged(
            canal("reach")
            + approach("right", backwards.replace("reversed(rows)", "rows"), input="parquet")
            + approach("backwards", backwards, input="parquet")
        )["backwards"]
        self.assertEqual(found.verdict, "same within tolerance")
        self.assertTrue(1 <= found.largest_units < 10_000, found.largest_units)
        self.assertLess(found.largest_relative, 1e-11)

    def test_the_other_copy_of_a_repeated_key_kept(self):
        keep = "passages.unique('barge', keep='{}', maintain_order=True)"
        found = self.judged(
            canal("barge")
            + polars("first", keep.format("first"))
            + polars("last", keep.format("last"))
        )["last"]
        self.assertEqual(found.verdict, "different")
        self.assertIn(
            "another row of passages is kept: each of these is one of its rows", found.reasons
        )


class BrokenRows(Case):
    def test_what_became_of_broken_and_repeated_rows_is_counted(self):
        lenient = """
            import csv
            def answer(data, knobs, stage):
                rows = []
                with open(data.passages, newline="", errors="replace") as file:
                    for row in csv.DictReader(file):
                        try:
                            rows.append({"passage": int(row["passage"]),
                                         "day": int(row["day"]), "toll": float(row["toll"])})
                        except (TypeError, ValueError):
                            continue
                return rows
        """
        filled = lenient.replace("continue", "rows.append({'passage': row['passage']})").replace(
            'int(row["passage"])', 'row["passage"]'
        )
        once = lenient.replace(
            "return rows", "return list({r['passage']: r for r in rows}.values())"
        )
        found = self.judged(
            canal("passage")
            + approach("dropping", lenient)
            + approach("filling", filled)
            + approach("once", once)
        )
        traced = {
            lane: {one.what: one for one in agreement.traced} for lane, agreement in found.items()
        }
        broken = {way: t for way, t in traced["dropping"].items() if way != "repeated"}
        # Sixty lines are broken; some of them are repeated whole elsewhere.
        told = sum(one.rows for one in broken.values())
        self.assertTrue(40 <= told < 60, told)
        number = traced["dropping"]["bad number"]
        self.assertEqual((number.kept, number.dropped), (0, number.rows))
        number = traced["filling"]["bad number"]
        self.assertEqual((number.kept, number.with_nulls), (number.rows, number.rows))
        repeated = traced["dropping"]["repeated"]
        self.assertEqual(repeated.rows, 150)
        self.assertGreater(repeated.kept, 100)
        self.assertEqual(traced["once"]["repeated"].kept, 0)
        self.assertIn("dropped", traced["once"]["repeated"].words)

    def test_columnar_files_have_no_broken_lines(self):
        found = self.judged(canal("passage") + polars("all", "passages"))["all"]
        self.assertEqual([one.what for one in found.traced], ["repeated"])


class References(Case):
    @staticmethod
    def adding(what):
        return COUNTING.replace("+ 1", f"+ {what}")

    def lanes(self):
        return (
            HEAD
            + approach("one", COUNTING)
            + approach("two", self.adding("2"))
            + approach("also_two", self.adding("1 + 1"))
            + approach("three", self.adding("3"))
        )

    def test_camps_are_shown_rather_than_a_vote(self):
        found = self.judged(self.lanes())
        self.assertEqual({lane: a.group for lane, a in found.items()},
                         {"one": 0, "two": 1, "also_two": 1, "three": 2})  # fmt: skip
        self.assertIn("each is 2 times the reference's", found["two"].reasons[0])

    def test_another_lane_as_the_reference(self):
        text = self.lanes().replace("[answer]", '[answer]\nreference = "two"')
        found = self.judged(text)
        self.assertEqual([lane for lane, a in found.items() if a.agrees], ["two", "also_two"])
        self.assertEqual(found["one"].reference, "two")
        with self.assertRaisesRegex(BadInput, "no approach"):
            parse(text.replace('reference = "two"', 'reference = "ten"'))

    def test_a_stored_answer_as_the_reference(self):
        trial = self.trial(self.lanes(), name="first", lanes=["two"])
        trial.conduct()
        kept = trial.answers.table("two", trial.runs[0].answer_fingerprint)
        pq.write_table(kept, self.folder / "expected-300.parquet")
        text = self.lanes().replace("[answer]", '[answer]\nexpected = "expected-{rows}.parquet"')
        found = self.judged(text, own_files=str(self.folder))
        self.assertEqual([lane for lane, a in found.items() if a.agrees], ["two", "also_two"])
        self.assertEqual(found["one"].reference, EXPECTED)
        (self.folder / "expected-300.parquet").unlink()
        pa.csv.write_csv(kept, self.folder / "expected.csv")
        text = text.replace("expected-{rows}.parquet", "expected.csv")
        again = self.trial(text, name="again", own_files=str(self.folder)).conduct()
        lanes = {lane.id: lane.agreement for lane in again.points[0].lanes}
        self.assertTrue(lanes["two"].agrees, lanes["two"].reasons)

    def test_an_answer_that_varies_is_marked_with_its_share(self):
        varying = """
            import os
            def answer(data, knobs, stage):
                # A run's folder is named by its number; two lanes have two runs a round.
                number = int(os.path.basename(os.getcwd()))
                return [{"gauge": "Ash", "n": 1 if number <= 2 else 2}]
        """
        steady = "def answer(data, knobs, stage):\n    return [{'gauge': 'Ash', 'n': 1}]"
        found = self.judged(
            HEAD + approach("steady", steady) + approach("varying", varying), rounds=3
        )
        self.assertFalse(found["steady"].unstable)
        self.assertTrue(found["varying"].unstable)
        self.assertAlmostEqual(found["varying"].right_share, 1 / 3)
        self.assertIn("1 of 3 runs gave the right answer", found["varying"].reasons)
