"""Summaries, ratios, cautions and findings in words against cases known by hand."""

import unittest

import numpy as np

from ivrell.core.records.findings import LaneFindings, Ratio, Summary
from ivrell.core.records.machine import Machine
from ivrell.core.report.code_lines import code_lines
from ivrell.core.report.words import times_told
from ivrell.core.stats.cautions import Scene, cautions
from ivrell.core.stats.summary import summarize


class Summaries(unittest.TestCase):
    def test_by_hand(self):
        found = summarize([5, 1, 4, 2, 3])
        self.assertEqual((found.median, found.smallest, found.largest), (3, 1, 5))
        self.assertEqual((found.quartile_1, found.quartile_3), (2, 4))

    def test_interval_says_what_it_covers(self):
        # The chance that n values all lie on one side of the median is 2 * 0.5**n.
        for n, level in ((2, 0.5), (3, 0.75), (5, 0.9375)):
            found = summarize(range(n))
            self.assertEqual((found.low, found.high), (0, n - 1))
            self.assertAlmostEqual(found.level, level)
            # Where logarithms can be taken, few values promise 95 % too.
            above = summarize([1.0 + 0.01 * value for value in range(n)])
            self.assertEqual(above.level, 0.95)
            self.assertLess(above.low, above.median)
            self.assertGreater(above.high, above.median)
        two = summarize([1.0, 1.1])
        self.assertAlmostEqual(np.log(two.high / two.low) / 2, 12.706 * np.log(1.1) / 2, delta=0.01)
        ten = summarize(range(10))
        self.assertEqual((ten.low, ten.high), (1, 8))
        self.assertGreaterEqual(ten.level, 0.95)

    def test_interval_covers_the_median_as_often_as_it_says(self):
        rng = np.random.default_rng(4)
        hits = 0
        for _ in range(2000):
            found = summarize(rng.exponential(1.0, 10))
            hits += found.low <= np.log(2) <= found.high
        self.assertAlmostEqual(hits / 2000, found.level, delta=0.02)

    def test_one_and_none(self):
        self.assertIsNone(summarize([3.0]).low)
        with self.assertRaises(ValueError):
            summarize([])


def lane(**fields):
    usual = {
        "id": "a", "name": "A", "engine": "python", "input": "csv", "baseline": False,
        "state": "done", "code_lines": 3, "run_queue_wait_share": 0.0,
        "elapsed": summary(10, 1.0, 0.98, 1.02),
    }  # fmt: skip
    return LaneFindings.model_validate({**usual, **fields})


def summary(count, median, quartile_1, quartile_3):
    return Summary(count, median, quartile_1, quartile_3, quartile_1, quartile_3, None, None, None)


def dots(times):
    """Runs as findings hold them, by their times."""
    rest = dict.fromkeys(
        ("at_least_s", "cpu_user_s", "cpu_system_s", "peak_above_start_bytes"), None
    )
    return [
        {"run": n, "round": n, "warm_up": False, "state": "done", "counted": True,
         "elapsed_s": t, **rest}
        for n, t in enumerate(times, 1)
    ]  # fmt: skip


class Cautions(unittest.TestCase):
    def words(self, *lanes, machine=None):
        return [c.word for c in cautions(Scene(list(lanes), machine or Machine(cores=2)))]

    def test_a_clean_result_has_none(self):
        self.assertEqual(self.words(lane()), [])

    def test_each(self):
        few = summary(3, 1.0, 1.0, 1.0)
        noisy = summary(10, 1.0, 0.7, 1.4)
        different = {"verdict": "different", "reasons": ["x"]}
        first = dots((2.0, 1.0, 1.0, 1.0))
        self.assertEqual(self.words(lane(elapsed=few)), ["few rounds"])
        self.assertEqual(self.words(lane(elapsed=noisy)), ["noisy"])
        self.assertEqual(self.words(lane(agreement=different)), ["different answer"])
        self.assertEqual(self.words(lane(state="limit", trouble="x")), ["limit reached"])
        # An approach of many threads waits for itself; that is no caution.
        self.assertEqual(self.words(lane(run_queue_wait_share=0.3, others_busy=0.02)), [])
        found = self.words(lane(run_queue_wait_share=0.3, others_busy=0.8))
        self.assertEqual(found, ["run-queue wait"])
        self.assertEqual(self.words(lane(runs=first)), ["first run slower"])
        busy = Machine(cores=2, busy_cores=1.2)
        self.assertEqual(self.words(lane(), machine=busy), ["busy machine"])

    def test_a_winner_by_more_cores_is_named_beside_the_one_that_works_less(self):
        def busy(name, elapsed, cores):
            cpu = elapsed * cores
            return lane(id=name, name=name.title(), elapsed=summary(10, elapsed, elapsed, elapsed),
                        cpu_total=summary(10, cpu, cpu, cpu), cores_busy=cores)  # fmt: skip

        found = cautions(Scene([busy("many", 1.0, 4.0), busy("one", 2.0, 1.0)], Machine(cores=8)))
        self.assertEqual([(c.word, c.lane) for c in found], [("quicker by more cores", "many")])
        self.assertIn("One does it with 1.00", found[0].reason)
        self.assertIn("CPU time", found[0].hint)
        # As much work on fewer cores, or no more cores than the other: nothing to be said.
        self.assertEqual(self.words(busy("many", 1.0, 2.0), busy("one", 2.0, 1.0)), [])
        self.assertEqual(self.words(busy("quick", 1.0, 1.2), busy("one", 2.0, 1.0)), [])
        # Both wait most of their time, one for longer.
        self.assertEqual(self.words(busy("quick", 1.0, 0.07), busy("one", 2.0, 0.03)), [])

    def test_drift_of_the_machine_is_told_from_one_lane_that_varies(self):
        slower = [1.0, 1.0, 1.1, 1.3, 1.4, 1.4]
        steady = [1.0, 1.1, 1.0, 1.1, 1.0, 1.0]
        both = [lane(runs=dots(slower)), lane(runs=dots(t * 3 for t in slower))]
        found = cautions(Scene(both, Machine(cores=2)))
        self.assertEqual([c.word for c in found], ["machine drifted"])
        self.assertIn("slower", found[0].reason)
        quicker = [lane(runs=dots(slower[::-1])), lane(runs=dots(slower[::-1]))]
        self.assertIn("quicker", cautions(Scene(quicker, Machine(cores=2)))[0].reason)
        one = [lane(runs=dots(slower)), lane(runs=dots(steady)), lane(runs=dots(steady))]
        self.assertEqual(self.words(*one), [])


class Words(unittest.TestCase):
    def test_slower_is_told_the_right_way_round(self):
        found = Ratio(0.5, 0.4, 0.8, 5, "slower")
        self.assertEqual(times_told(found), "2.00 times (1.25 to 2.50) slower than")

    def test_code_lines(self):
        self.assertEqual(code_lines("# note\n\nx = 1\n  # more\ny = 2\n", "python"), 2)
        self.assertEqual(code_lines("-- stage: a\nSELECT 1\n", "sql"), 1)


if __name__ == "__main__":
    unittest.main()
