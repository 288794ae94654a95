"""Agreement: the same answer is known as such, every real difference is found."""

import unittest
from decimal import Decimal

import pandas as pd
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from ivrell.core.agreement.canonical import canonical, fingerprint
from ivrell.core.agreement.compare import compare
from ivrell.core.comparison.model import Answer

KEYED = Answer(key=["lock"], relative=1e-9)
WHOLE = Answer(relative=1e-9)

rows = st.lists(
    st.fixed_dictionaries(
        {
            "lock": st.sampled_from(["ABC-01", "ABC-02", "DEF-10", None]),
            "count": st.one_of(st.none(), st.integers(-(2**40), 2**40)),
            "toll": st.one_of(st.none(), st.floats(allow_nan=True, width=64)),
        }
    ),
    min_size=1,
    max_size=30,
)
SCHEMA = pa.schema([("lock", pa.string()), ("count", pa.int64()), ("toll", pa.float64())])


def table(values):
    return pa.Table.from_pylist(values, SCHEMA)


class Properties(unittest.TestCase):
    @given(rows)
    @settings(deadline=None, max_examples=60)
    def test_every_answer_agrees_with_itself(self, values):
        self.assertEqual(compare(table(values), table(values), WHOLE).verdict, "same")

    @given(rows, st.randoms())
    @settings(deadline=None, max_examples=60)
    def test_order_of_rows_and_columns_does_not_matter(self, values, random):
        shuffled = list(values)
        random.shuffle(shuffled)
        other = table(shuffled).select(["toll", "lock", "count"])
        self.assertIn(compare(table(values), other, WHOLE).verdict, ("same", "same, other order"))

    @given(rows)
    @settings(deadline=None, max_examples=60)
    def test_width_and_dictionary_do_not_matter(self, values):
        answer = table(values)
        other = answer.set_column(0, "lock", answer.column("lock").dictionary_encode())
        self.assertTrue(compare(answer, other, WHOLE).agrees)
        small = pa.table({"n": pa.array([1, 2, None], pa.int8())})
        wide = pa.table({"n": pa.array([1, 2, None], pa.uint64())})
        self.assertEqual(compare(small, wide, WHOLE).verdict, "same")

    @given(rows, st.data())
    @settings(deadline=None, max_examples=80)
    def test_a_lost_or_doubled_row_is_found(self, values, data):
        position = data.draw(st.integers(0, len(values) - 1))
        doubled = table([*values, values[position]])
        self.assertEqual(compare(table(values), doubled, WHOLE).verdict, "different")
        self.assertEqual(compare(doubled, table(values), WHOLE).verdict, "different")

    @given(
        st.floats(min_value=1e-300, max_value=1e300),
        st.sampled_from([-1, 1]),
        st.floats(min_value=1e-12, max_value=1e-3),
    )
    @settings(deadline=None)
    def test_tolerance_at_every_magnitude(self, value, sign, relative):
        question = Answer(key=["k"], relative=relative)

        def verdict(factor):
            reference = pa.table({"k": [1], "x": [sign * value]})
            answer = pa.table({"k": [1], "x": [sign * value * factor]})
            return compare(reference, answer, question).agrees

        self.assertTrue(verdict(1 + relative * 0.5))
        self.assertFalse(verdict(1 + relative * 3))

    def test_tolerance_around_zero_is_the_absolute_one(self):
        question = Answer(key=["k"], relative=1e-9, absolute=1e-6)
        zero = pa.table({"k": [1], "x": [0.0]})
        for x, agrees in ((5e-7, True), (-5e-7, True), (2e-6, False)):
            answer = pa.table({"k": [1], "x": [x]})
            self.assertEqual(compare(zero, answer, question).agrees, agrees, x)

    @given(rows, st.randoms())
    @settings(deadline=None, max_examples=30)
    def test_fingerprint_knows_values_and_not_order(self, values, random):
        shuffled = list(values)
        random.shuffle(shuffled)
        self.assertEqual(
            fingerprint(canonical(table(values))), fingerprint(canonical(table(shuffled)))
        )


class Cases(unittest.TestCase):
    """What goes wrong in practice, each named for what it is."""

    def setUp(self):
        self.reference = pa.table(
            {"lock": ["001", "002", "003"], "passages": [3, 4, 5], "toll": [1.5, 2.5, 3.5]}
        )

    def answer(self, **columns):
        values = {**self.reference.to_pydict(), **columns}
        return pa.table(values)

    def test_leading_zeros_lost(self):
        found = compare(self.reference, self.answer(lock=[1, 2, 3]), WHOLE)
        self.assertEqual((found.verdict, found.agrees), ("different", False))
        self.assertIn("lock: text became integer, leading zeros lost", found.reasons)
        wrong = compare(self.reference, self.answer(lock=[1, 2, 4]), WHOLE)
        self.assertEqual(wrong.verdict, "different")

    def test_what_the_reference_lost_is_no_agreement_either(self):
        found = compare(self.answer(lock=[1, 2, 3]), self.reference, WHOLE)
        self.assertFalse(found.agrees)
        self.assertIn("with leading zeros that the reference has lost", found.reasons[0])

    def test_digits_that_a_float_cannot_hold(self):
        near = [2**53 + 1, 2**53 + 3, 5]
        ours = self.answer(passages=near)
        found = compare(ours, self.answer(passages=[float(n) for n in near]), WHOLE)
        self.assertFalse(found.agrees)
        self.assertIn("passages: integer became float, digits lost", found.reasons)
        told = compare(ours, self.answer(passages=[str(n) for n in near]), WHOLE)
        self.assertEqual(told.verdict, "same values, other types")
        off = compare(ours, self.answer(passages=[str(n - 1) for n in near]), WHOLE)
        self.assertEqual(off.columns, {"passages": 3})
        even = compare(self.answer(passages=[2**54, 4, 5]), self.answer(passages=[2.0**54, 4, 5]),
                       WHOLE)  # fmt: skip
        self.assertTrue(even.agrees)

    def test_large_unsigned_numbers_are_exact(self):
        ours = self.answer(passages=pa.array([2**64 - 1, 1, 2], pa.uint64()))
        theirs = self.answer(passages=pa.array([2**64 - 2, 1, 2], pa.uint64()))
        self.assertEqual(compare(ours, ours, WHOLE).verdict, "same")
        self.assertEqual(compare(ours, theirs, WHOLE).columns, {"passages": 1})

    def test_decimals_of_a_server_against_integers(self):
        whole = pa.table({"lock": ["ABC-01", "ABC-02"], "total": [12, 7]})
        told = pa.table({"lock": ["ABC-02", "ABC-01"], "total": [Decimal("7"), Decimal("12")]})
        other = pa.table({"lock": ["ABC-02", "ABC-01"], "total": [Decimal("7"), Decimal("12.5")]})
        self.assertTrue(compare(whole, told, Answer(key=["lock"])).agrees)
        found = compare(whole, other, Answer(key=["lock"]))
        self.assertEqual(found.reasons[0], "total: 1 value differs")

    def test_exact_types_may_be_asked_for(self):
        floats = self.answer(passages=[3.0, 4.0, 5.0])
        self.assertTrue(compare(self.reference, floats, WHOLE).agrees)
        exact = WHOLE.model_copy(update={"exact_types": True})
        self.assertFalse(compare(self.reference, floats, exact).agrees)
        self.assertTrue(compare(self.reference, self.reference, exact).agrees)

    def test_keys_that_differ_by_spaces_or_capitals_belong_together(self):
        ours = pa.table({"lock": ["Ash", "Elm", "Oak", "Yew"], "n": [1, 2, 3, 4]})
        theirs = pa.table({"lock": ["Ash ", "elm", " OAK", "Yew"], "n": [1, 2, 3, 5]})
        found = compare(ours, theirs, Answer(key=["lock"]))
        self.assertEqual((found.missing_rows, found.extra_rows), (0, 0))
        self.assertEqual(found.reasons[:3], [
            "keys differ by spaces around them in 1 row",
            "keys differ by capital letters in 1 row",
            "keys differ by spaces around them and capital letters in 1 row",
        ])  # fmt: skip
        self.assertEqual(found.columns, {"lock": 3, "n": 1})

    def test_not_a_number_where_the_reference_is_null(self):
        ours = pa.table({"lock": ["Ash", "Elm"], "toll": pa.array([None, 2.0])})
        theirs = pa.table({"lock": ["Ash", "Elm"], "toll": pa.array([float("nan"), 2.0])})
        (reason,) = compare(ours, theirs, Answer(key=["lock"])).reasons
        self.assertEqual(
            reason, "toll: 1 value differs (1 not a number where the reference is null)"
        )

    def test_days_and_numbers_as_text_are_the_same_values_drifted(self):
        import datetime

        days = [datetime.date(2031, 1, 5), datetime.date(2031, 2, 7), None]
        ours = pa.table({"day": pa.array(days), "n": [1, 2, 3], "toll": [1.5, 2.0, None]})
        theirs = pa.table({
            "day": ["2031-01-05", "2031-02-07", None], "n": ["1", "2", "3"],
            "toll": ["1.5", "2", None],
        })  # fmt: skip
        found = compare(ours, theirs, WHOLE)
        self.assertEqual(found.verdict, "same values, other types")
        self.assertEqual(
            found.reasons,
            ["day: date became text", "n: integer became text", "toll: float became text"],
        )
        other = theirs.set_column(0, "day", pa.array(["2031-01-05", "2031-02-08", None]))
        self.assertEqual(compare(ours, other, WHOLE).verdict, "different")

    def test_integer_became_float(self):
        found = compare(self.reference, self.answer(passages=[3.0, 4.0, 5.0]), KEYED)
        self.assertEqual(found.verdict, "same values, other types")
        self.assertEqual(found.drifted[0].column, "passages")
        self.assertTrue(found.agrees)

    def test_sum_in_another_order(self):
        found = compare(self.reference, self.answer(toll=[1.5, 2.5 * (1 + 1e-14), 3.5]), KEYED)
        self.assertEqual(found.verdict, "same within tolerance")
        self.assertAlmostEqual(found.largest_relative, 1e-14, delta=3e-15)

    def test_null_against_zero(self):
        reference = self.answer(toll=[1.5, None, 3.5])
        found = compare(reference, self.answer(toll=[1.5, 0.0, 3.5]), KEYED)
        self.assertEqual(found.verdict, "different")
        self.assertEqual(found.columns, {"toll": 1})
        example = found.examples[0]
        self.assertEqual((example.reference["toll"], example.answer["toll"]), (None, "0.0"))

    def test_missing_extra_and_repeated_keys(self):
        found = compare(self.reference, self.answer(lock=["001", "002", "009"]), KEYED)
        self.assertEqual(found.different_rows, 2)
        self.assertIn("1 row of the reference is missing", found.reasons)
        repeated = pa.concat_tables([self.reference, self.reference.slice(0, 1)])
        self.assertEqual(compare(self.reference, repeated, KEYED).verdict, "different")

    def test_columns(self):
        found = compare(self.reference, self.reference.drop_columns(["toll"]), KEYED)
        self.assertEqual((found.verdict, found.missing_columns), ("different", ["toll"]))

    def test_order_where_it_matters(self):
        turned = self.reference.take([2, 1, 0])
        self.assertEqual(compare(self.reference, turned, KEYED).verdict, "same, other order")
        strict = Answer(key=["lock"], order=True)
        self.assertEqual(compare(self.reference, turned, strict).verdict, "different")
        self.assertEqual(compare(self.reference, self.reference, strict).verdict, "same")

    def test_rows_without_key_that_tie_near_the_tolerance(self):
        # Sorted by either float the pairs come apart; a pairing within tolerance exists.
        question = Answer(relative=0, absolute=0.3)
        reference = pa.table({"a": [1.0, 1.2], "b": [5.0, 1.0]})
        answer = pa.table({"a": [1.15, 1.1], "b": [5.0, 1.0]})
        self.assertTrue(compare(reference, answer, question).agrees)
        far = pa.table({"a": [1.15, 1.1], "b": [5.0, 1.9]})
        self.assertFalse(compare(reference, far, question).agrees)

    def test_pandas_and_moments_of_other_units(self):
        frame = pd.DataFrame({"at": pd.to_datetime(["2031-01-01 06:00:00"]), "n": [1]})
        left = pa.Table.from_pandas(frame)
        right = pa.table({"at": left.column("at").cast(pa.timestamp("s")), "n": [1]})
        self.assertEqual(compare(left, right, WHOLE).verdict, "same")

    def test_empty_answers(self):
        empty = self.reference.slice(0, 0)
        self.assertEqual(compare(empty, empty, KEYED).verdict, "same")
        self.assertEqual(compare(self.reference, empty, KEYED).different_rows, 3)


if __name__ == "__main__":
    unittest.main()
