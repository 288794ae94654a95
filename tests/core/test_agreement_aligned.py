"""Answers laid side by side: many rows, gaps on both sides, and what is left for exact pairing."""

import unittest

import numpy as np
import pyarrow as pa

from ivrell.core.agreement.aligned import aligned
from ivrell.core.agreement.compare import compare
from ivrell.core.agreement.side import Side
from ivrell.core.comparison.model import Answer

ROWS = 40_000


def passages(rows, seed=3):
    """Passages with a number of their own, in any order."""
    rng = np.random.default_rng(seed)
    table = pa.table({
        "passage": np.arange(rows),
        "lock": pa.array(["Ash", "Elm", None]).take(pa.array(rng.integers(0, 3, rows))),
        "toll": rng.random(rows) * 90,
    })  # fmt: skip
    return table.take(pa.array(rng.permutation(rows)))


def nudged(table):
    """The same with tolls off in their last digits."""
    toll = table["toll"].to_numpy()
    return table.set_column(2, "toll", pa.array(np.nextafter(toll, 1e9)))


class Aligned(unittest.TestCase):
    KEYED, WHOLE = Answer(key=["passage"]), Answer()

    def test_rows_missing_and_extra_anywhere_are_counted_both_ways(self):
        ours = passages(ROWS)
        rng = np.random.default_rng(5)
        for gone, added in ((1, 0), (0, 1), (40, 25), (3_000, 2_000)):
            kept = np.sort(rng.permutation(ROWS)[: ROWS - gone])
            new = passages(added).set_column(0, "passage", pa.array(np.arange(added) + ROWS))
            theirs = pa.concat_tables([nudged(ours).take(pa.array(kept)), new])
            for question in (self.KEYED, self.WHOLE):
                with self.subTest(gone=gone, added=added, key=question.key):
                    found = compare(ours, theirs, question)
                    told = (found.missing_rows, found.extra_rows, found.different_rows)
                    self.assertEqual(told, (gone, added, gone + added))
                    (toll,) = [c for c in found.evidence if c.name == "toll"]
                    self.assertEqual(toll.within + toll.equal, ROWS - gone)

    def test_values_that_differ_in_many_rows_are_found_by_key(self):
        ours = passages(ROWS)
        toll = ours["toll"].to_numpy().copy()
        toll[::2] += 1
        found = compare(ours, ours.set_column(2, "toll", pa.array(toll)), self.KEYED)
        self.assertEqual(found.columns, {"toll": ROWS // 2})
        self.assertEqual((found.missing_rows, found.extra_rows), (0, 0))

    def test_floats_alone_have_no_key_to_go_by(self):
        ours = passages(ROWS).select(["toll"])
        theirs = nudged(passages(ROWS)).select(["toll"]).take(pa.array(np.arange(ROWS)[::-1]))
        self.assertEqual(compare(ours, theirs, self.WHOLE).verdict, "same within tolerance")
        found = compare(ours, theirs.slice(7), self.WHOLE)
        self.assertEqual((found.missing_rows, found.extra_rows), (7, 0))

    def test_repeated_rows_are_counted(self):
        ours = passages(1_000)
        twice = pa.concat_tables([ours, nudged(ours).slice(0, 10)])
        for question in (self.KEYED, self.WHOLE):
            self.assertEqual(compare(ours, twice, question).extra_rows, 10, question.key)
        self.assertEqual(compare(ours, twice, self.KEYED).repeated_keys, 10)

    def test_near_ties_that_sorting_puts_askew_are_matched_exactly(self):
        ours = pa.table({"toll": [1.0, 1.0 + 1e-12], "draught": [9.0, 5.0]})
        theirs = pa.table({"toll": [1.0 + 1e-12, 1.0], "draught": [9.0, 5.0]})
        self.assertEqual(compare(ours, theirs, self.WHOLE).verdict, "same within tolerance")

    def test_most_rows_are_never_paired_by_number(self):
        ours = passages(ROWS)
        for question in (self.KEYED, self.WHOLE):
            found = aligned(Side(ours, ["toll"]), Side(nudged(ours).slice(1), ["toll"]), question)
            self.assertLessEqual(len(found.stretches), 2)
            self.assertEqual((len(found.ours), len(found.theirs)), (1, 0))


if __name__ == "__main__":
    unittest.main()
