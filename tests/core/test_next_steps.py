"""What to look at next: only what measured figures leave open."""

import unittest

import ivrell
from ivrell.core.comparison.file import parse
from ivrell.core.records.findings import Findings, LaneFindings, StageMedian, TrialFindings
from ivrell.core.records.plan import Plan
from ivrell.core.report.next_steps import next_steps
from ivrell.core.stats.summary import summarize
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

TEXT = HEAD + approach("loop", COUNTING) + approach("query", "SELECT 1 AS gauge, 2 AS n", "duckdb")


def lane(name, seconds, *, read=None, form="csv", **more):
    stages = [] if read is None else [StageMedian(name="read", elapsed_s=read, cpu_s=read)]
    return LaneFindings(
        id=name, name=name.title(), engine="python", input=form, baseline=name == "loop",
        state="done", code_lines=5, elapsed=summarize([seconds] * 3), stages=stages, **more,
    )  # fmt: skip


def told(*lanes, plan=None, cores=2, sizes=(300,)):
    """What follows of lanes, by kind."""
    found = [
        Findings(point={"rows": size}, ranking=[one.id for one in lanes], cautions=[], lanes=lanes)
        for size in sizes
    ]
    trial = TrialFindings(ended="done", points=found)
    steps = next_steps(parse(TEXT), plan or Plan(), trial, found[0], cores)
    return {step.kind: step for step in steps}


class Told(unittest.TestCase):
    def test_reading_where_another_form_is_read_much_sooner(self):
        query, loop = lane("query", 0.1, read=0.03, form="parquet"), lane("loop", 1.0, read=0.6)
        step = told(query, loop)["reading"]
        self.assertEqual("loop", step.lane)
        self.assertIn("60 % of the time of Loop is in its stage read. Query reads the same rows as "
                      "parquet in 5.00 % of that", step.words)  # fmt: skip
        self.assertIsNone(step.plan)
        for others in (lane("query", 0.1, read=0.4, form="parquet"), lane("query", 0.1, read=0.01),
                       lane("query", 0.1)):  # fmt: skip
            self.assertNotIn("reading", told(others, loop))
        self.assertNotIn("reading", told(query, lane("loop", 1.0, read=0.2)))

    def test_threads_where_they_were_not_varied(self):
        lanes = (lane("query", 0.4, cores_busy=1.0), lane("loop", 1.0, cores_busy=1.0))
        step = told(*lanes)["threads"]
        self.assertIn("keeps 1.00 of 2 cores busy", step.words)
        self.assertEqual([1, 2], step.plan.threads)
        self.assertEqual("--threads 1,2", step.arguments)
        busy = told(lane("query", 0.4, cores_busy=1.9), lanes[1])["threads"]
        self.assertIn("Where only one is free", busy.words)
        self.assertNotIn("threads", told(*lanes, plan=Plan(threads=[1, 2])))
        self.assertNotIn("threads", told(*lanes, cores=1))

    def test_other_sizes_where_one_alone_was_measured(self):
        lanes = (lane("query", 0.5), lane("loop", 1.0))
        step = told(*lanes, sizes=(2000,))["sizes"]
        self.assertEqual({"rows": [200, 2000, 20000]}, step.plan.knobs)
        self.assertEqual(["Query is 2.00 times ahead of Loop here"], step.evidence)
        self.assertNotIn("sizes", told(*lanes, sizes=(2000, 4000)))
        self.assertEqual({"rows": [300, 3000]}, told(*lanes)["sizes"].plan.knobs)

    def test_a_cold_cache_spilling_and_lanes_that_name_no_stages(self):
        query = lane("query", 0.5, form="parquet", cached_share=1.0,
                     counters={"temporary bytes": 4096.0})  # fmt: skip
        loop = lane("loop", 1.0, cached_share=1.0)
        found = told(query, loop)
        self.assertEqual(["warm", "cold"], found["cold"].plan.cache)
        self.assertIn("temporary bytes: 4,096", found["spilling"].words)
        self.assertEqual("ivrell hot FILE loop", found["unnamed"].arguments)
        self.assertNotIn("cold", told(query, loop, plan=Plan(cache=["warm", "cold"])))
        self.assertNotIn("unnamed", told(query, lane("loop", 1.0, read=0.1)))
        self.assertEqual({}, told(lane("loop", 0.01)))


class OfATrial(TrialCase):
    def test_a_plan_that_would_tell_can_be_run(self):
        comparison = ivrell.Comparison(HEAD + approach("loop", COUNTING) + approach("b", COUNTING))
        trial = comparison.run(rounds=1, warm_ups=0, folder=self.folder / "was")
        step = next(one for one in trial.next_steps().steps if one.kind == "sizes")
        again = comparison.run(step.plan, folder=self.folder / "more")
        self.assertEqual([300, 3000], [one.point["rows"] for one in again.findings])
        self.assertNotIn("sizes", [one.kind for one in again.next_steps().steps])


if __name__ == "__main__":
    unittest.main()
