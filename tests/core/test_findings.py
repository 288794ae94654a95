"""Findings: who is ranked, what is told, and that no figure is made up."""

import unittest

from ivrell.core.comparison.file import parse
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.findings import Findings
from ivrell.core.records.machine import Machine
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import RunSet
from ivrell.core.records.wire import LimitReached
from ivrell.core.report.findings import findings
from ivrell.core.report.words import limit_told
from tests.support.comparisons import COUNTING, HEAD, approach

TEXT = HEAD + "".join(approach(lane, COUNTING, name=lane.title()) for lane in ("a", "b", "c"))
MACHINE = Machine(cores=2, busy_cores=0.1)
AGREES = Agreement(verdict="same", reference="a", rows=3, reference_rows=3)
DIFFERS = Agreement(verdict="different", reference="a", reasons=["n: 1 values differ"])


def run(number, lane, round_number, elapsed, **fields):
    usual = {
        "run": number, "approach": lane, "engine": "python", "point": {"rows": 300},
        "round": round_number, "position": 1, "warm_up": round_number < 1, "state": "done",
        "elapsed_s": elapsed, "cpu_user_s": elapsed and elapsed * 0.8,
        "cpu_system_s": elapsed and elapsed * 0.1, "peak_memory_bytes": 30_000_000,
        "start_memory_bytes": 10_000_000, "start_s": 0.1, "run_queue_wait_s": 0.0,
        "stages": [{"name": "read", "elapsed_s": (elapsed or 0) / 2, "cpu_s": 0.01}],
        "answer_rows": 3, "limit": None, "error": None, "elapsed_at_least_s": None,
    }  # fmt: skip
    return RunRecord.model_validate({**usual, **fields})


def trial_of(times, **agreement):
    """Findings of runs given as lane: times by round, the first a warm-up."""
    runs = [
        run(10 * i + r, lane, r, t)
        for i, (lane, elapsed) in enumerate(times.items())
        for r, t in enumerate(elapsed)
    ]
    agreed = {lane: agreement.get(lane, AGREES) for lane in times}
    return findings(parse(TEXT), RunSet.of(runs, MACHINE), agreed, {"rows": 300})


SLOW = [9, 4.0, 4.1, 3.9, 4.0, 4.05, 3.95]
QUICK = [9, 1.0, 1.02, 0.98, 1.0, 1.01, 0.99]
MIDDLE = [9, 2.0, 2.1, 1.9, 2.0, 2.05, 1.95]


class Figures(unittest.TestCase):
    def setUp(self):
        self.found = trial_of({"a": SLOW, "b": QUICK, "c": MIDDLE})
        self.lanes = {lane.id: lane for lane in self.found.lanes}

    def test_shape(self):
        Findings.model_validate(self.found)

    def test_warm_ups_are_kept_but_not_counted(self):
        self.assertEqual(self.lanes["b"].elapsed.count, 6)
        self.assertAlmostEqual(self.lanes["b"].elapsed.median, 1.0)
        self.assertEqual(len(self.lanes["b"].runs), 7)

    def test_derived_figures(self):
        lane = self.lanes["b"]
        self.assertAlmostEqual(lane.cores_busy, 0.9)
        self.assertEqual(lane.peak_memory.median, 20_000_000)
        self.assertEqual(lane.peak_memory_absolute.median, 30_000_000)

    def test_stages_and_what_lies_outside_them_make_up_the_whole(self):
        stages = self.lanes["b"].stages
        self.assertEqual([stage.name for stage in stages], ["read", None])
        self.assertAlmostEqual(sum(stage.elapsed_s for stage in stages), 1.0, delta=0.02)

    def test_ratio_is_formed_within_rounds(self):
        self.assertAlmostEqual(self.lanes["b"].ratio.value, 4.0, delta=0.05)
        self.assertEqual(self.lanes["a"].ratio.value, 1.0)
        holes = trial_of({"a": SLOW[:4], "b": QUICK})
        ratio = next(lane for lane in holes.lanes if lane.id == "b").ratio
        self.assertEqual(ratio.rounds, 3)

    def test_other_points_are_left_out(self):
        runs = [run(1, "a", 1, 4.0), run(2, "a", 1, 9.0, point={"rows": 10})]
        found = findings(parse(TEXT), RunSet.of(runs, MACHINE), {"a": AGREES}, {"rows": 300})
        self.assertEqual(found.lanes[0].elapsed.count, 1)

    def test_what_was_not_measured_is_null(self):
        runs = [run(1, "a", 1, 4.0, cpu_user_s=None, peak_memory_bytes=None, run_queue_wait_s=None)]
        lane = findings(parse(TEXT), RunSet.of(runs, MACHINE), {"a": AGREES}, {"rows": 300}).lanes[
            0
        ]
        for name in ("cpu_user", "cores_busy", "peak_memory", "run_queue_wait_share"):
            self.assertIsNone(getattr(lane, name), name)


class Ranking(unittest.TestCase):
    def test_quickest_first(self):
        found = trial_of({"a": SLOW, "b": QUICK, "c": MIDDLE})
        self.assertEqual(found.ranking, ["b", "c", "a"])
        self.assertIn("B is the quickest at 1.00 s (median of 6 runs; rows = 300, on 2 cores)",
                      found.conclusion)  # fmt: skip
        self.assertRegex(found.conclusion, r"4\.00 times \(.* to .*\) faster than A")

    def test_a_lane_that_answers_otherwise_is_never_first(self):
        found = trial_of({"a": SLOW, "b": QUICK, "c": MIDDLE}, b=DIFFERS)
        self.assertEqual(found.ranking, ["c", "a", "b"])
        self.assertTrue(found.conclusion.startswith("C is the quickest"))
        self.assertIn("different answer", [c.word for c in found.cautions])

    def test_a_lane_at_its_limit_is_behind_and_told(self):
        limit = {"kind": "elapsed", "value": 5.0}
        runs = [run(r, "a", r, t) for r, t in enumerate(SLOW)]
        runs.append(run(90, "b", 1, None, state="limit", limit=limit, elapsed_at_least_s=5.0))
        found = findings(parse(TEXT), RunSet.of(runs, MACHINE), {"a": AGREES}, {"rows": 300})
        self.assertEqual(found.ranking, ["a", "b"])
        lane = found.lanes[1]
        self.assertEqual((lane.trouble, lane.elapsed), ("did not finish in 5 s", None))
        self.assertFalse(lane.trusted)

    def test_who_cannot_be_told_apart_is_named(self):
        near = [9, 1.3, 0.85, 1.0, 1.2, 0.8, 1.1]
        found = trial_of({"a": SLOW, "b": QUICK, "c": near})
        self.assertIn("is not told apart from", found.conclusion)
        [pair] = [p for p in found.pairs if (p.base, p.lane) == ("b", "c")]
        self.assertEqual(pair.ratio.verdict, "not told apart")

    def test_a_lead_that_does_not_matter_is_no_lead(self):
        near = [9, 1.01, 1.03, 0.99, 1.01, 1.02, 1.0]
        found = trial_of({"a": SLOW, "b": QUICK, "c": near})
        self.assertIn("has no lead that matters over C", found.conclusion)

    def test_a_baseline_that_wins(self):
        found = trial_of({"a": QUICK, "b": SLOW})
        self.assertIn("the baseline keeps its lead, with B next", found.conclusion)

    def test_nothing_to_conclude(self):
        found = trial_of({"a": SLOW}, a=DIFFERS)
        self.assertIn("No lane has both", found.conclusion)

    def test_limits_in_words(self):
        cases = {
            "elapsed": "did not finish in 3 s",
            "memory": "took more than 3.00 GB of memory and was ended",
            "output": "printed more than 3.00 GB and was ended",
            "preparing": "was not ready to start after 3 s",
            "result export": "did not export its result within 3 s",
        }
        for kind, words in cases.items():
            value = 3e9 if kind in ("memory", "output") else 3.0
            self.assertEqual(limit_told(LimitReached(kind, value)), words)


if __name__ == "__main__":
    unittest.main()
