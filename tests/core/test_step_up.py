"""Sizes from small to large, ranges of sizes, and lanes that are left behind."""

import json
import unittest
from itertools import product

from pydantic import ValidationError

from ivrell.core.comparison.file import parse
from ivrell.core.records.machine import Machine
from ivrell.core.records.plan import Limits, Plan, Until
from ivrell.core.records.points import value_range
from ivrell.core.records.session import RunSet
from ivrell.core.report.findings import findings
from ivrell.core.report.sweep.findings import sweeps
from ivrell.core.stats.growth import next_value
from ivrell.core.trial.plan import PlannedRun, ordered_runs, stepped_knob
from ivrell.core.trial.step_up import StepUp
from tests.core.test_findings import run
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach, python_answer

TEXT = HEAD + approach("a", COUNTING) + approach("b", COUNTING)


class Ranges(unittest.TestCase):
    def test_so_many_a_decade_at_round_numbers(self):
        self.assertEqual(value_range("1_000..100_000/3"),
                         [1000, 2000, 5000, 10_000, 20_000, 50_000, 100_000])  # fmt: skip
        self.assertEqual(value_range("10..1000/1"), [10, 100, 1000])
        self.assertEqual(value_range("10 .. 1000/2"), [10, 30, 100, 300, 1000])
        self.assertEqual(value_range("700..12_000/1"), [700, 1000, 10_000, 12_000])
        self.assertEqual(value_range("10..100/5"), [10, 16, 25, 40, 63, 100])

    def test_other_texts_are_no_ranges_and_wrong_ones_are_refused(self):
        for text in ("warm", "1..", "1..5", "a..b/3", "0..5/2"):
            self.assertIsNone(value_range(text), text)
        for text in ("10..10/3", "100..10/1", "1..1000000000000000000000000000000/9"):
            with self.assertRaises(ValueError):
                value_range(text)

    def test_a_plan_spreads_them(self):
        plan = Plan(knobs={"rows": [5, "10..1000/1", 100], "word": ["x"]})
        self.assertEqual(plan.knobs, {"rows": [5, 10, 100, 1000], "word": ["x"]})
        with self.assertRaises(ValidationError):
            Plan(knobs={"rows": ["9..3/2"]})


class Order(unittest.TestCase):
    def test_all_rounds_of_a_size_before_the_next(self):
        plan = Plan(rounds=2, warm_ups=1, knobs={"rows": [300, 10, 90]}, step_up=True)
        runs = list(ordered_runs(parse(TEXT), plan))
        sizes = [planned.point["rows"] for planned in runs]
        self.assertEqual(sizes, sorted(sizes))
        self.assertEqual(len({planned.identity for planned in runs}), 18)
        self.assertEqual([planned.round for planned in runs[:6]], [0, 0, 1, 1, 2, 2])
        mixed = list(ordered_runs(parse(TEXT), plan.model_copy(update={"step_up": False})))
        self.assertNotEqual([p.point["rows"] for p in mixed], sizes)

    def test_what_steps_and_what_does_not(self):
        self.assertIsNone(stepped_knob([{"cache": "warm"}, {"cache": "cold"}]))
        points = [{"cache": "warm", "rows": 2}, {"cache": "cold", "rows": 1}]
        self.assertEqual(stepped_knob(points), "rows")
        with self.assertRaises(ValidationError):
            Plan(step_up=True, until=Until())


class Behind(unittest.TestCase):
    def step_up(self, *seen, memory=10_000_000, seconds=10):
        points = [{"rows": size} for size, _ in seen]
        found = StepUp("rows", points, Limits(seconds=seconds, memory_bytes=1_000_000_000))
        for number, (size, elapsed) in enumerate(seen):
            found.take(run(number, "a", 1, elapsed, point={"rows": size}, peak_memory_bytes=memory))
        return found

    def planned(self, size, lane="a"):
        return PlannedRun(lane, {"rows": size}, 1, 1)

    def test_growth_so_far_tells(self):
        linear = self.step_up((1000, 0.1), (10_000, 1.0))
        self.assertFalse(linear.leaves_behind(self.planned(50_000)))
        self.assertTrue(linear.leaves_behind(self.planned(100_000)))
        squared = self.step_up((1000, 0.01), (10_000, 1.0))
        self.assertTrue(squared.leaves_behind(self.planned(50_000)))
        flat = self.step_up((1000, 1.0), (10_000, 1.0))
        self.assertFalse(flat.leaves_behind(self.planned(10**9)))
        self.assertFalse(linear.leaves_behind(self.planned(10**9, lane="b")))

    def test_one_size_is_taken_to_grow_linearly_and_memory_counts_too(self):
        self.assertTrue(self.step_up((1000, 1.0)).leaves_behind(self.planned(10_000)))
        large = self.step_up((1000, 0.001), memory=200_000_000)
        self.assertTrue(large.leaves_behind(self.planned(10_000)))

    def test_a_limit_that_was_reached_ends_it_for_larger_sizes(self):
        found = self.step_up()
        limit = {"kind": "elapsed", "value": 10.0}
        found.take(run(1, "a", 1, None, state="limit", limit=limit, point={"rows": 1000}))
        self.assertFalse(found.leaves_behind(self.planned(1000)))
        self.assertTrue(found.leaves_behind(self.planned(2000)))

    def test_what_goes_together_with_a_size_changes_nothing(self):
        points = [{"rows": rows, "width": rows // 10} for rows in (1000, 10_000, 100_000)]
        found = StepUp("rows", points, Limits(seconds=10))
        for number, (point, elapsed) in enumerate(zip(points, (0.1, 1.0), strict=False)):
            found.take(run(number, "a", 1, elapsed, point=point))
        self.assertTrue(found.leaves_behind(PlannedRun("a", points[2], 1, 1)))

    def test_the_next_value(self):
        self.assertAlmostEqual(next_value([10, 100], [1, 10], 1000), 100)
        self.assertAlmostEqual(next_value([10], [1], 100), 10)
        self.assertAlmostEqual(next_value([10, 100], [5, 4], 1000), 4)


class Real(TrialCase):
    def test_a_lane_is_left_behind_and_the_others_go_on(self):
        slow = python_answer("time.sleep(0.002 * knobs.rows)")
        text = HEAD + approach("quick", python_answer("pass")) + approach("slow", slow)
        trial = self.trial(text, rounds=2, step_up=True, knobs={"rows": [10, 100, 1000, 5000]},
                           limits={"seconds": 2})  # fmt: skip
        told = []
        trial.listen = told.append
        found = trial.conduct()
        ran = {(one.approach, one.point["rows"]) for one in trial.runs}
        self.assertEqual({rows for lane, rows in ran if lane == "slow"}, {10, 100})
        self.assertEqual({rows for lane, rows in ran if lane == "quick"}, {10, 100, 1000, 5000})
        outs = [e for e in told if type(e).__name__ == "LaneOut"]
        self.assertEqual([e.point["rows"] for e in outs], [1000, 5000])
        [sweep] = found.sweeps
        [left] = sweep.left_behind
        self.assertEqual((left.lane, left.from_size, left.last_size), ("slow", 1000, 100))
        self.assertAlmostEqual(left.expected, 2.0, delta=0.4)
        kept = json.loads((trial.folder / "sweep.json").read_text())
        self.assertEqual(kept[0]["left_behind"][0]["lane"], "slow")

    def test_who_is_missing_otherwise_was_not_left_behind(self):
        text = HEAD + approach("a", python_answer("pass")) + approach("b", python_answer("pass"))
        trial = self.trial(text, rounds=1, knobs={"rows": [10, 100]})
        trial.conduct()
        runs = [one for one in trial.runs if (one.approach, one.point["rows"]) != ("b", 100)]
        points = [
            findings(trial.comparison, RunSet.of(runs, trial.machine), {}, p) for p in trial.points
        ]
        [plain] = sweeps(trial.comparison, RunSet.of(runs, trial.machine), points)
        self.assertEqual(plain.left_behind, [])
        [stepped] = sweeps(trial.comparison, RunSet.of(runs, trial.machine), points, stepped=True)
        self.assertEqual([left.lane for left in stepped.left_behind], ["b"])

    def test_who_did_not_run_where_a_search_looked_was_not_left_behind_there(self):
        runs = [
            run(number, lane, 1, 0.1, point={"rows": size})
            for number, (lane, size) in enumerate(
                [("a", 10), ("a", 30), ("a", 100), ("a", 1000), ("b", 10), ("b", 100)], 1
            )
        ]
        comparison, sizes = parse(TEXT), (10, 30, 100, 1000)
        points = [findings(comparison, RunSet.of(runs, Machine()), {}, {"rows": n}) for n in sizes]
        named = [{"rows": n} for n in sizes if n != 30]
        [found] = sweeps(comparison, RunSet.of(runs, Machine()), points, named=named, stepped=True)
        [left] = found.left_behind
        self.assertEqual((left.lane, left.from_size, left.last_size), ("b", 1000, 100))

    def test_values_that_go_together_are_one_sweep(self):
        sizes = [{"rows": rows, "width": rows // 10} for rows in (10, 100, 1000)]
        points = [{**size, "cache": cache} for size in sizes for cache in ("warm", "cold")]
        runs = [
            run(number, lane, round_, rate * point["rows"], point=point)
            for number, (point, round_, (lane, rate)) in enumerate(
                product(points, (1, 2, 3), (("a", 0.001), ("b", 0.002))), 1
            )
        ]
        comparison = parse(TEXT)
        told = [findings(comparison, RunSet.of(runs, Machine()), {}, point) for point in points]
        found = sweeps(comparison, RunSet.of(runs, Machine()), told)
        self.assertEqual([(one.knob, one.together) for one in found], [("rows", ["width"])] * 2)
        self.assertEqual([one.at["cache"] for one in found], ["warm", "cold"])
        for one in found:
            [law] = {growth.laws[0].name for growth in one.growths if growth.measure == "elapsed"}
            self.assertEqual(law, "linear")
            along = [point for point in points if one.holds(point)]
            self.assertEqual(along, [p for p in points if p["cache"] == one.at["cache"]])


if __name__ == "__main__":
    unittest.main()
