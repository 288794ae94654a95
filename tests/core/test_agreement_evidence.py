"""Agreement in depth: pairing against a plain matching, types, distances, what is said of it."""

import datetime as dt
import decimal
import unittest

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import maximum_bipartite_matching

from ivrell.core.agreement.canonical import canonical, fingerprint
from ivrell.core.agreement.compare import compare
from ivrell.core.agreement.distance import near, units_apart
from ivrell.core.comparison.model import Answer

WHOLE = Answer(relative=1e-9)
KEYED = Answer(key=["k"], relative=1e-9)
LOOSE = Answer(relative=0.0, absolute=1.0)

numbers = st.one_of(st.none(), st.sampled_from([0.0, 0.6, 1.2, 1.8, 2.4, 9.0, float("nan")]))
small_rows = st.lists(st.tuples(st.sampled_from("ab"), numbers, numbers), min_size=1, max_size=7)


def three(rows):
    columns = list(zip(*rows, strict=True)) if rows else ([], [], [])
    return pa.table({
        "k": pa.array(columns[0], pa.string()), "x": pa.array(columns[1], pa.float64()),
        "y": pa.array(columns[2], pa.float64()),
    })  # fmt: skip


def matched_by_hand(left, right, question):
    """Whether every row has a partner of its own, tried over all pairs."""
    if len(left) != len(right):
        return False

    def fits(a, b):
        if a is None or b is None:
            return a is None and b is None
        return bool(near(np.array([a]), np.array([b]), question)[0])

    table = [[a[0] == b[0] and fits(a[1], b[1]) and fits(a[2], b[2]) for b in right] for a in left]
    partner = maximum_bipartite_matching(coo_matrix(np.array(table)).tocsr(), perm_type="column")
    return bool((partner >= 0).all())


class Pairing(unittest.TestCase):
    @given(small_rows, small_rows)
    @settings(deadline=None, max_examples=300)
    def test_rows_without_keys_agree_exactly_when_a_whole_matching_exists(self, left, right):
        found = compare(three(left), three(right), LOOSE)
        self.assertEqual(found.agrees, matched_by_hand(left, right, LOOSE))

    @given(small_rows, st.data())
    @settings(deadline=None, max_examples=150)
    def test_nudged_and_shuffled_answers_agree(self, rows, data):
        nudge = st.floats(-0.5, 0.5)
        other = [
            (k, *(v if v is None else v + data.draw(nudge) for v in (x, y))) for k, x, y in rows
        ]
        other = data.draw(st.permutations(other))
        self.assertTrue(compare(three(rows), three(other), LOOSE).agrees)
        self.assertTrue(compare(three(other), three(rows), LOOSE).agrees)

    @given(small_rows, small_rows)
    @settings(deadline=None, max_examples=150)
    def test_it_is_symmetric_when_the_tolerance_is(self, left, right):
        ours = compare(three(left), three(right), LOOSE)
        theirs = compare(three(right), three(left), LOOSE)
        self.assertEqual(ours.agrees, theirs.agrees)
        self.assertEqual(ours.missing_rows - ours.extra_rows,
                         theirs.extra_rows - theirs.missing_rows)  # fmt: skip

    @given(
        st.integers(1, 40), st.integers(0, 2), st.floats(-1e6, 1e6), st.floats(1e-7, 1.0),
        st.data(),
    )  # fmt: skip
    @settings(deadline=None, max_examples=120)
    def test_every_change_of_one_cell_is_found(self, count, column, base, share, data):
        rng = np.random.default_rng(count)
        table = pa.table({
            "k": [f"r{i}" for i in range(count)], "n": list(range(count)),
            "x": base + rng.random(count),
        })  # fmt: skip
        row = data.draw(st.integers(0, count - 1))
        name = table.column_names[column]
        values = table.column(name).to_pylist()
        changes = {"k": lambda v: v + "!", "n": lambda v: v + 1,
                   "x": lambda v: v + max(1.0, abs(v)) * share}  # fmt: skip
        values[row] = changes[name](values[row])
        changed = table.set_column(column, name, [values])
        question = Answer(relative=1e-9, absolute=1e-9)
        for asked in (question, question.model_copy(update={"key": ["k"]})):
            found = compare(table, changed, asked)
            self.assertEqual(found.verdict, "different")
        values[row] = None
        self.assertFalse(compare(table, table.set_column(column, name, [values]), question).agrees)

    def test_many_ties_within_the_tolerance_are_matched(self):
        rng = np.random.default_rng(3)
        x = rng.integers(0, 50, 20_000) / 10
        y = rng.random(20_000)
        left = pa.table({"x": x, "y": y})
        order = rng.permutation(20_000)
        right = pa.table({"x": (x * (1 + 1e-13))[order], "y": (y * (1 - 1e-13))[order]})
        found = compare(left, right, WHOLE)
        self.assertEqual(found.verdict, "same within tolerance")
        lost = compare(left, right.slice(1), WHOLE)
        self.assertEqual((lost.missing_rows, lost.extra_rows, lost.different_rows), (1, 0, 1))

    def test_a_lost_row_does_not_shift_the_others(self):
        x = np.arange(1000) + 0.25
        found = compare(pa.table({"x": x}), pa.table({"x": np.nextafter(x[1:], np.inf)}), WHOLE)
        self.assertEqual((found.missing_rows, found.different_rows), (1, 1))
        self.assertEqual(found.evidence[0].within, 999)


class Types(unittest.TestCase):
    def same(self, left, right, question=WHOLE):
        return compare(pa.table({"v": left}), pa.table({"v": right}), question)

    def test_names_that_differ_in_case_are_matched_with_a_note(self):
        left, right = pa.table({"Lock": ["a"], "n": [1]}), pa.table({"lock": ["a"], "N": [1]})
        found = compare(left, right, WHOLE)
        self.assertEqual((found.verdict, found.renamed), ("same", {"Lock": "lock", "n": "N"}))
        self.assertIn("Lock is called lock", found.reasons)
        two = pa.table({"lock": ["a"], "LOCK": ["b"], "n": [1]})
        self.assertEqual(compare(left, two, WHOLE).missing_columns, ["Lock"])

    def test_what_is_the_same_whatever_its_layout(self):
        text = pa.array(["a", None, ""])
        for other in (text.dictionary_encode(), text.cast(pa.large_string()),
                      text.cast(pa.string_view())):  # fmt: skip
            self.assertEqual(self.same(text, other).verdict, "same")
        for kind in (pa.int8(), pa.uint64(), pa.int32()):
            self.assertEqual(self.same(pa.array([1, None]), pa.array([1, None], kind)).verdict,
                             "same")  # fmt: skip

    def test_bytes_and_truth_values_drift(self):
        found = self.same(pa.array(["a", "b"]), pa.array([b"a", b"b"]))
        self.assertEqual((found.verdict, found.reasons), (
            "same values, other types", ["v: text became bytes"]))  # fmt: skip
        found = self.same(pa.array([True, None]), pa.array([1, None]))
        self.assertEqual(found.reasons, ["v: boolean became integer"])

    def test_decimals_are_exact_among_themselves(self):
        exact = [decimal.Decimal("0.10"), decimal.Decimal("12345678901234567.01")]
        self.assertEqual(self.same(pa.array(exact), pa.array(exact, pa.decimal128(38, 6))).verdict,
                         "same")  # fmt: skip
        off = [exact[0], exact[1] + decimal.Decimal("0.01")]
        self.assertEqual(self.same(pa.array(exact), pa.array(off)).verdict, "different")
        drift = self.same(pa.array(exact[:1]), pa.array([0.1]))
        self.assertEqual(drift.reasons, ["v: decimal became float"])

    def test_moments_with_and_without_zone_and_with_lost_precision(self):
        moment = dt.datetime(2031, 5, 1, 12, 0, 0, 250_000)
        naive = pa.array([moment])
        zoned = pa.array([moment], pa.timestamp("us", "UTC"))
        self.assertEqual(self.same(naive, zoned).reasons,
                         ["v: timestamp became timestamp with zone"])  # fmt: skip
        cut = pa.array([moment.replace(microsecond=0)], pa.timestamp("s"))
        found = self.same(naive, cut)
        self.assertEqual((found.verdict, found.reasons), (
            "different", ["v: precision of time lost"]))  # fmt: skip
        found = self.same(zoned, naive)
        self.assertEqual((found.verdict, found.reasons), (
            "different", ["v: timestamp with zone became timestamp, time zone lost"]))  # fmt: skip
        later = pa.array([moment.replace(microsecond=0, second=1)], pa.timestamp("s"))
        self.assertEqual(self.same(naive, later).verdict, "different")

    def test_null_is_neither_not_a_number_nor_empty_text(self):
        nan = float("nan")
        found = self.same(pa.array([1.0, None]), pa.array([1.0, nan]))
        self.assertEqual(found.verdict, "different")
        self.assertEqual(self.same(pa.array([nan]), pa.array([nan])).verdict, "same")
        keyed = compare(pa.table({"k": [1, 2], "v": ["a", None]}),
                        pa.table({"k": [1, 2], "v": ["a", ""]}), KEYED)  # fmt: skip
        self.assertIn("a value where the reference has null", keyed.reasons[0])

    def test_lists_are_compared_as_wholes(self):
        left = pa.array([[1, 2], None, []])
        self.assertEqual(self.same(left, pa.array([[1, 2], None, []])).verdict, "same")
        self.assertEqual(self.same(left, pa.array([[2, 1], None, []])).verdict, "different")


class Told(unittest.TestCase):
    """What goes wrong in practice, and the words for it."""

    def setUp(self):
        rng = np.random.default_rng(1)
        self.n = 400
        self.table = pa.table({
            "k": pa.array([f"{i:05}" for i in range(self.n)]),
            "reach": pa.array([["Upper", "Tidal", None][i % 3] for i in range(self.n)]),
            "toll": rng.random(self.n) * 90 + 3,
        })  # fmt: skip

    def put(self, name, values):
        return self.table.set_column(self.table.column_names.index(name), name, [values])

    def reasons(self, answer, question=KEYED):
        return compare(self.table, answer, question).reasons

    def test_rows_of_a_null_group_are_named(self):
        answer = self.table.filter(pa.compute.is_valid(self.table["reach"]))
        self.assertIn("133 rows of the reference are missing: reach is null in all of them",
                      self.reasons(answer))  # fmt: skip

    def test_rows_of_one_group_are_named(self):
        answer = self.table.filter(
            pa.compute.not_equal(self.table["reach"].fill_null("-"), "Tidal")
        )
        self.assertIn("reach is Tidal in all of them", self.reasons(answer)[0])

    def test_a_factor_and_a_constant_gap_are_named(self):
        twice = self.put("toll", pa.compute.multiply(self.table["toll"], 2.0))
        self.assertIn("each is 2 times the reference's", self.reasons(twice)[0])
        count = pa.table({"k": [1, 2, 3, 4], "n": [5, 6, 9, 7]})
        more = pa.table({"k": [1, 2, 3, 4], "n": [6, 7, 10, 8]})
        self.assertIn("each is 1 more", compare(count, more, KEYED).reasons[0])

    def test_text_that_differs_in_form_alone_is_named(self):
        upper = self.put("reach", pa.compute.utf8_upper(self.table["reach"]))
        self.assertIn("the same but for capital letters", self.reasons(upper)[0])
        short = pa.compute.utf8_ltrim(self.table["k"], "0")
        self.assertTrue(compare(self.table, self.put("k", short), WHOLE).reasons[0].endswith(
            "the same but for leading zeros)"))  # fmt: skip

    def test_repeated_keys_are_counted(self):
        found = compare(self.table, pa.concat_tables([self.table, self.table.slice(0, 7)]), KEYED)
        self.assertEqual((found.repeated_keys, found.extra_rows), (7, 7))
        self.assertIn("7 rows repeat a key", found.reasons)

    def test_distances_by_power_of_ten_on_both_sides_of_the_tolerance(self):
        toll = self.table["toll"].to_numpy().copy()
        toll[:10] *= 1 + 3e-12
        toll[10:15] *= 1 + 3e-4
        found = compare(self.table, self.put("toll", toll), KEYED)
        evidence = {column.name: column for column in found.evidence}["toll"]
        self.assertEqual((evidence.within, evidence.different), (10, 5))
        self.assertEqual(evidence.equal, self.n - 15)
        self.assertEqual(evidence.distances.within, {"-12": 10})
        self.assertEqual(evidence.distances.beyond, {"-4": 5})
        self.assertAlmostEqual(found.largest_relative, 3e-12, delta=1e-15)

    def test_units_in_the_last_place(self):
        x = np.array([1.0, -1.0, 0.0, 5e-324, -5e-324, 1e300])
        up = np.nextafter(x, np.inf)
        self.assertEqual(units_apart(x, up).tolist(), [1.0] * 6)
        self.assertEqual(units_apart(np.array([0.0]), np.array([-0.0])).tolist(), [0.0])
        self.assertEqual(units_apart(np.array([-5e-324]), np.array([5e-324])).tolist(), [2.0])
        self.assertGreater(units_apart(np.array([-1.0]), np.array([1.0]))[0], 1e18)

    def test_a_value_differs_where_no_key_says_which_row_it_is(self):
        found = compare(self.table, self.put(
            "reach", pa.array(["Lower", *self.table["reach"].to_pylist()[1:]])), WHOLE)  # fmt: skip
        self.assertEqual(found.columns, {"reach": 1})
        self.assertEqual((found.missing_rows, found.extra_rows), (0, 0))


class Fingerprints(unittest.TestCase):
    def test_it_sees_what_plain_sums_would_not(self):
        def of(*values):
            return fingerprint(canonical(pa.table({"a": [v[0] for v in values],
                                                   "b": [v[1] for v in values]})))  # fmt: skip

        self.assertNotEqual(of((1, 2), (2, 1)), of((1, 1), (2, 2)))
        self.assertNotEqual(of((1, 2)), of((2, 1)))
        self.assertNotEqual(of((1, 1), (1, 1)), of((2, 2), (2, 2)))
        self.assertEqual(of((1, 2), (2, 1)), of((2, 1), (1, 2)))


if __name__ == "__main__":
    unittest.main()
