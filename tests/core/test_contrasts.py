"""Lanes held against each other: what few rounds can tell, the family, what does not matter."""

import os
import tempfile
import unittest
from pathlib import Path

import numpy as np

from ivrell.core.report.ratios import quickest
from ivrell.core.stats import history
from ivrell.core.stats.contrasts import Terms, contrasts, turned
from ivrell.core.stats.families import holm_levels
from ivrell.core.stats.history import LaneSpread, expected, lane_spreads, usual_spreads
from ivrell.core.stats.middle import middle_and_variance, worth
from tests.bench.verdicts import cell
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

UNSURE = "not told apart"


def rounds(*values):
    return dict(enumerate(values, 1))


def two(first, second, terms=None):
    """The ratio of two lanes given by their times."""
    return contrasts({"a": rounds(*first), "b": rounds(*second)}, terms)["a", "b"]


class Pairs(unittest.TestCase):
    def test_a_clear_difference_both_ways_round(self):
        found = two([10, 11, 10.5, 10.2, 9.9], [1, 1.1, 1.04, 1.02, 0.99])
        self.assertAlmostEqual(found.value, 10, delta=0.1)
        self.assertEqual(found.verdict, "faster")
        back = turned(found)
        self.assertEqual(back.verdict, "slower")
        self.assertAlmostEqual(back.low, 1 / found.high)
        self.assertAlmostEqual(back.value, 1 / found.value)

    def test_drift_that_hurts_both_is_no_difference(self):
        drift = np.linspace(1, 4, 8)
        found = two(drift * 2, drift * np.array([1, 1.01] * 4))
        self.assertGreater(found.low, 1.9)
        self.assertLess(found.high, 2.1)

    def test_one_spike_does_not_move_the_middle(self):
        calm = [1.0, 1.01, 0.99, 1.0, 1.02, 0.98, 1.0, 1.01, 0.99, 1.0]
        other = [0.8, 0.81, 0.79, 0.8, 0.82, 9.0, 0.8, 0.81, 0.79, 0.8]
        found = two(calm, other)
        self.assertEqual(found.verdict, "faster")
        self.assertAlmostEqual(found.value, 1.25, delta=0.03)

    def test_what_lies_far_apart_is_told_at_two_rounds_by_the_other_lanes_noise(self):
        """Two lanes alone cannot tell it from one difference; seven can."""
        lanes = {f"l{i}": rounds(t, t * (1 + 0.03 * (-1) ** i)) for i, t in enumerate(
            (4.8, 0.027, 0.5, 0.9, 1.4, 2.0, 0.2))}  # fmt: skip
        found = contrasts(lanes)["l0", "l1"]
        self.assertEqual(found.verdict, "faster")
        self.assertGreater(found.low, 100)
        self.assertLess(found.high, 300)

    def test_two_modes_are_noise_and_no_certainty(self):
        found = two([1.8, 1.0] * 5, [1.0, 1.8] * 5)
        self.assertEqual(found.verdict, UNSURE)
        self.assertGreater(found.high / found.low, 1.3)

    def test_one_round_tells_nothing(self):
        found = two([5.0], [1.0])
        self.assertEqual((found.verdict, found.low, found.rounds), (UNSURE, None, 1))

    def test_only_rounds_that_both_have_count(self):
        found = contrasts({"a": {1: 2.0, 2: 2.1, 3: 2.0}, "b": {2: 1.0, 3: 1.02, 9: 7.0}})
        self.assertEqual(found["a", "b"].rounds, 2)
        self.assertEqual(contrasts({"a": {1: 2.0}, "b": {2: 1.0}}), {})

    def test_what_never_varies_is_known_exactly(self):
        found = two([300.0] * 3, [100.0] * 3, Terms(words=("less", "more")))
        self.assertAlmostEqual(found.low, 3.0)
        self.assertEqual((found.low, found.verdict), (found.high, "less"))
        same = two([300.0] * 3, [300.0] * 3)
        self.assertEqual(same.verdict, "no difference that matters")

    def test_nought_is_refused(self):
        with self.assertRaises(ValueError):
            two([1.0, 2.0], [0.0, 1.0])


class Matters(unittest.TestCase):
    calm = (1.0, 1.01, 0.995, 1.005, 0.99, 1.0, 1.002, 0.998, 1.004, 0.996)

    def test_a_small_difference_that_is_sure_is_told_apart_from_one_that_is_not(self):
        nearly = [t * 0.99 * (1 + 0.002 * (-1) ** i) for i, t in enumerate(self.calm)]
        found = two(self.calm, nearly)
        self.assertEqual(found.verdict, "no difference that matters")
        self.assertGreater(found.low, 1)
        # Who cares for half a percent is told that it is faster.
        self.assertEqual(two(self.calm, nearly, Terms(matters=0.005)).verdict, "faster")
        wild = [t * (1 + 0.3 * (-1) ** i) for i, t in enumerate(self.calm)]
        self.assertEqual(two(self.calm, wild).verdict, UNSURE)

    def test_how_many_rounds_more_would_tell(self):
        rng = np.random.default_rng(4)
        first = rng.lognormal(0, 0.05, 5)
        found = two(first, first / 1.08 * np.array([1.1, 0.9, 1.05, 0.93, 1.0]))
        self.assertEqual(found.verdict, UNSURE)
        self.assertGreater(found.rounds_more, 3)
        self.assertLess(found.rounds_more, 100)
        # So many rounds of the same kind do tell, most times.
        told = 0
        for _ in range(20):
            many = rng.lognormal(0, 0.05, 5 + found.rounds_more)
            other = many / found.value * rng.lognormal(0, 0.08, len(many))
            told += two(many, other).verdict != UNSURE
        self.assertGreater(told, 8)

    def test_within_the_noise_of_the_machine_nothing_is_found(self):
        ours = [1.0, 1.001, 0.999, 1.0, 1.002, 0.998]
        theirs = [t * 1.08 for t in ours[1:] + ours[:1]]
        self.assertEqual(two(ours, theirs).verdict, "slower")
        self.assertEqual(two(ours, theirs, Terms(floor=lambda n: 1.1)).verdict, UNSURE)


class Families(unittest.TestCase):
    def test_holm_by_hand(self):
        levels, family = holm_levels(np.array([0.01, 0.04, 0.03]))
        self.assertEqual(family.round(6).tolist(), [0.03, 0.06, 0.06])
        # The last would pass by itself, but comes after one that did not.
        self.assertEqual((np.array([0.01, 0.04, 0.03]) < levels).tolist(), [True, False, False])
        self.assertEqual(len(holm_levels(np.empty(0))[0]), 0)
        self.assertEqual(holm_levels(np.array([0.0, 0.5]))[1].tolist(), [0.0, 0.5])

    def drawn(self, medians, rounds=5, spread=0.05, seed=1):
        rng = np.random.default_rng(seed)
        return {
            lane: dict(enumerate(middle * rng.lognormal(0, spread, rounds), 1))
            for lane, middle in medians.items()
        }

    def test_a_pair_has_one_interval_and_it_is_the_verdict(self):
        for seed in range(30):
            lanes = self.drawn(
                dict(zip("abcdef", (1, 1, 1.1, 1.2, 0.9, 2), strict=True)), seed=seed
            )
            for ratio in contrasts(lanes, baseline="a").values():
                apart = ratio.low > 1 or ratio.high < 1
                self.assertEqual(apart, ratio.chance < 0.05)
                if ratio.verdict != "no difference that matters":
                    self.assertEqual(ratio.verdict != UNSURE, apart)

    def test_the_quickest_is_one_claim(self):
        found = contrasts(self.drawn({"a": 2.0, "b": 1.0, "c": 3.0, "d": 3.0}), baseline="a")
        self.assertEqual({pair for pair, own in found.items() if own.question == "quickest"},
                         {("a", "b"), ("b", "c"), ("b", "d")})  # fmt: skip
        self.assertEqual(found["a", "c"].question, "baseline")
        self.assertEqual(found["c", "d"].question, "pair")
        level = contrasts(self.drawn({"a": 1.0, "b": 1.0, "c": 3.0}), baseline="a")
        self.assertEqual({own.question for own in level.values()}, {"baseline", "pair"})
        self.assertEqual(quickest(found), "b")
        self.assertIsNone(quickest(level))

    def test_who_gives_no_right_answer_is_no_contestant(self):
        lanes = self.drawn({"a": 2.0, "b": 1.0, "wrong": 1.0, "d": 3.0})
        self.assertIsNone(quickest(contrasts(lanes, baseline="a")))
        found = contrasts(lanes, baseline="a", contestants=["a", "b", "d"])
        self.assertEqual(quickest(found), "b")
        self.assertEqual(found["b", "wrong"].question, "pair")

    def test_a_lane_of_one_run_keeps_others_from_being_the_quickest(self):
        lanes = self.drawn({"a": 2.0, "b": 1.0, "c": 3.0})
        found = contrasts({**lanes, "once": {1: 0.1}}, baseline="a")
        self.assertIsNone(quickest(found))
        self.assertEqual(found["a", "b"].verdict, "faster")

    def test_the_baseline_alone_has_the_same_ratios(self):
        lanes = self.drawn({"a": 2.0, "b": 1.9, "c": 1.0, "d": 3.0})
        every = contrasts(lanes, baseline="b")
        alone = contrasts(lanes, baseline="b", all_pairs=False)
        self.assertEqual(alone, {pair: own for pair, own in every.items() if pair[0] == "b"})
        self.assertEqual(len(alone), 3)

    def test_a_wild_lane_borrows_nothing_from_calm_ones(self):
        lanes = self.drawn({"a": 1.0, "b": 1.0, "c": 1.0, "d": 1.0}, spread=0.01)
        lanes["wild"] = dict(enumerate([0.6, 1.1, 0.7, 0.5, 1.2], 1))
        found = contrasts(lanes, baseline="a")
        self.assertIsNone(quickest(found))
        self.assertEqual(found["a", "wild"].verdict, UNSURE)
        self.assertGreater(found["a", "wild"].high, 2)

    def test_a_winner_is_told_and_none_among_equals(self):
        for lanes in (5, 12):
            told = cell("normal", lanes, 3, 60)
            self.assertGreater(told.winner, 70)
            self.assertLess(told.false_winner, 6)
            self.assertLess(told.false_baseline, 12)

    def test_two_lanes_alone(self):
        told = cell("normal", 2, 5, 150)
        self.assertGreater(told.winner, 85)
        self.assertLess(told.false_pair, 12)

    def test_a_calm_history_makes_no_wild_day_bold(self):
        told = cell("normal", 5, 3, 60, 0.25, known=True)
        self.assertLess(told.false_pair, 18)
        # It helps where days are as they were, and two lanes cannot tell that.
        self.assertEqual(cell("normal", 2, 3, 60), cell("normal", 2, 3, 60, known=False))


class Middle(unittest.TestCase):
    def test_of_two_and_three_by_hand(self):
        middle, variance = middle_and_variance(np.array([[1.0, 3.0]]))
        self.assertEqual(middle[0], 2.0)
        self.assertAlmostEqual(variance[0], 2.0, delta=0.02)
        middle, _ = middle_and_variance(np.array([[1.0, 2.0, 9.0]]))
        self.assertEqual(middle[0], 3.5)

    def test_the_variance_is_right_on_the_whole_and_beyond_the_table(self):
        rng = np.random.default_rng(3)
        for n in (2, 4, 7, 12, 45, 120):
            _, variance = middle_and_variance(rng.standard_normal((3000 if n < 50 else 200, n)))
            self.assertAlmostEqual(variance.mean(), 1, delta=0.12, msg=n)
            self.assertLessEqual(worth(n)[1], n)

    def test_one_difference_has_no_variance(self):
        with self.assertRaises(ValueError):
            middle_and_variance(np.array([[1.0]]))


class History(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def spreads(self, count, level=-6.0, engine="duckdb", magnitude=-1):
        rng = np.random.default_rng(count)
        return [
            LaneSpread(measure="elapsed", engine=engine, magnitude=magnitude,
                       log_variance=level + float(rng.normal(0, 0.8)), freedom=4)
            for _ in range(count)
        ]  # fmt: skip

    def test_lanes_are_told_apart_by_their_differences(self):
        rng = np.random.default_rng(2)
        spread = {"calm": 0.01, "usual": 0.05, "wild": 0.3}
        levels = {lane: [] for lane in spread}
        for _ in range(200):
            common = rng.normal(0, 0.2, 8)
            values = {
                lane: rounds(*np.exp(common + rng.normal(0, sd, 8))) for lane, sd in spread.items()
            }
            for one, lane in zip(lane_spreads("elapsed", values, dict.fromkeys(values, "x")),
                                 spread, strict=True):  # fmt: skip
                levels[lane].append(one.log_variance)
        middle = {lane: float(np.exp(np.median(own) / 2)) for lane, own in levels.items()}
        self.assertLess(middle["usual"], middle["wild"] / 2)
        self.assertAlmostEqual(middle["wild"], 0.3, delta=0.06)

    def test_few_rounds_or_one_lane_tell_nothing(self):
        self.assertEqual(lane_spreads("elapsed", {"a": rounds(1, 2, 3)}, {"a": "x"}), [])
        both = {"a": rounds(1, 2), "b": rounds(1, 2)}
        self.assertEqual(lane_spreads("elapsed", both, {"a": "x", "b": "x"}), [])

    def test_kept_summed_up_and_looked_up(self):
        self.assertEqual(usual_spreads(self.folder), [])
        history.keep(self.folder, self.spreads(12))
        history.keep(self.folder, self.spreads(3, level=-2.0, engine="pandas"))
        with (self.folder / "spreads.jsonl").open("a") as out:
            out.write('{"measure": "elap')
        found = usual_spreads(self.folder)
        kinds = [(one.engine, one.lanes) for one in found]
        self.assertEqual(kinds, [("duckdb", 12), ("pandas", 3)])
        own = expected(found, "elapsed", "duckdb", 0.3)
        self.assertAlmostEqual(own.level, -6, delta=0.6)
        # Too few of its own kind: what any engine shows of that length.
        any_ = expected(found, "elapsed", "pandas", 0.3)
        self.assertEqual(any_.lanes, 15)
        self.assertGreater(any_.variance, own.variance)
        self.assertIsNone(expected(found, "elapsed", "duckdb", 30.0))
        self.assertIsNone(expected(found, "cpu_total", "duckdb", 0.3))

    def test_it_is_bounded(self):
        from unittest.mock import patch

        with patch.object(history, "_MOST_BYTES", 2000):
            for _ in range(40):
                history.keep(self.folder, self.spreads(5))
        lines = (self.folder / "spreads.jsonl").read_text().splitlines()
        self.assertLessEqual(len(lines), 105)


class Remembered(TrialCase):
    def test_a_trial_adds_to_the_history_and_the_next_one_knows_it(self):
        with tempfile.TemporaryDirectory() as name:
            before, os.environ["IVRELL_DATA"] = os.environ.get("IVRELL_DATA"), name
            try:
                # Four of them: two at least have the same power of ten.
                text = HEAD + "".join(approach(lane, COUNTING) for lane in "abcd")
                first = self.trial(text, rounds=3, warm_ups=0)
                first.conduct()
                self.assertEqual(first.machine.usual_spreads, [])
                again = self.trial(text, rounds=1, warm_ups=0)
                again.conduct()
                known = {(one.measure, one.engine) for one in again.machine.usual_spreads}
                self.assertIn(("elapsed", "python"), known)
            finally:
                if before is None:
                    del os.environ["IVRELL_DATA"]
                else:
                    os.environ["IVRELL_DATA"] = before


if __name__ == "__main__":
    unittest.main()
