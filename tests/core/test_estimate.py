"""How long a plan will take: what it rests on, its bounds, and the rounds that fit into a time."""

import unittest

from ivrell.core.comparison.file import parse
from ivrell.core.records.estimate import Took
from ivrell.core.trial.estimate import BEGINNING_S, as_ended, estimated, took, took_by
from ivrell.core.trial.plan import Plan
from tests.core.test_findings import run
from tests.support.comparisons import COUNTING, HEAD, approach

TEXT = HEAD + approach("loop", COUNTING) + approach("query", COUNTING)


def seen(lane, rows, *seconds):
    return [Took(lane=lane, point={"rows": rows}, seconds=one) for one in seconds]


class Estimates(unittest.TestCase):
    def told(self, earlier, rows=(300,), rounds=4, warm_ups=1, **more):
        plan = Plan(rounds=rounds, warm_ups=warm_ups, knobs={"rows": list(rows)})
        return estimated(parse(TEXT), plan, earlier, **more)

    def lane(self, found, name):
        return next(lane for lane in found.lanes if lane.lane == name)

    def test_runs_like_these(self):
        found = self.told([*seen("loop", 300, 2.0, 2.2, 1.8), *seen("query", 300, 1.0, 1.0)])
        self.assertAlmostEqual(found.seconds, 5 * 3.0 + BEGINNING_S)
        self.assertEqual({lane.rests_on for lane in found.lanes}, {"measured"})
        self.assertLess(found.low, found.seconds)
        self.assertGreater(found.high, found.seconds)
        self.assertEqual(found.unknown, [])

    def test_other_sizes_by_how_the_lane_grows(self):
        grown = [one for rows in (1_000, 3_000, 10_000, 30_000)
                 for one in seen("loop", rows, 0.5 + rows * 1e-4, 0.51 + rows * 1e-4)]  # fmt: skip
        loop = self.lane(self.told(grown, rows=[100_000], rounds=1, warm_ups=0), "loop")
        self.assertEqual(loop.rests_on, "sizes")
        self.assertAlmostEqual(loop.seconds, 10.5, delta=1.5)
        self.assertLess(loop.low, 10.5)
        self.assertGreater(loop.high, 10.5)

    def test_one_other_size_leaves_it_wide(self):
        loop = self.lane(self.told(seen("loop", 300, 1.0), rows=[3_000]), "loop")
        self.assertEqual(loop.rests_on, "another size")
        self.assertLess(loop.low, 5 * 1.0)
        self.assertGreater(loop.high, 5 * 10.0)

    def test_what_nothing_is_known_of_is_said(self):
        found = self.told(seen("loop", 300, 1.0))
        self.assertEqual(found.unknown, ["query"])
        self.assertEqual(self.lane(found, "query").seconds, 0.0)

    def test_lanes_that_will_break_the_limit_of_memory_are_named(self):
        def held(lane, *sizes):
            return [
                Took(lane=lane, point={"rows": rows}, seconds=1.0, memory_bytes=size)
                for rows, size in sizes
            ]

        grows = held("loop", *((n, 30_000_000 + 40_000 * n) for n in (1_000, 3_000, 10_000)))
        flat = held("query", *((n, 50_000_000) for n in (1_000, 3_000, 10_000)))
        found = self.told([*grows, *flat], rows=[1_000, 1_000_000])
        self.assertEqual((["loop"], []), (found.breaking, found.perhaps))
        memory = self.lane(found, "loop").memory
        self.assertTrue(memory.low < 40e9 < memory.high, memory)
        self.assertEqual([], self.told([*grows, *flat], rows=[1_000]).breaking)
        # One other size alone tells nothing of what is held at any.
        one = held("loop", (1_000, 3_900_000_000))
        self.assertIsNone(self.lane(self.told(one, rows=[10_000]), "loop").memory)

    def test_rounds_that_fit_into_a_time(self):
        earlier = [*seen("loop", 300, 2.0), *seen("query", 300, 1.0)]
        found = self.told(earlier, time_s=60.0)
        self.assertEqual(found.rounds_in_time, int((60 - BEGINNING_S) / 3.0) - 1)
        self.assertEqual(self.told(earlier, time_s=1.0).rounds_in_time, 0)
        self.assertIsNone(self.told(earlier).rounds_in_time)

    def test_data_that_is_yet_to_be_made_counts(self):
        earlier = [*seen("loop", 300, 2.0), *seen("query", 300, 1.0)]
        more = self.told(earlier, data_s=30.0).seconds - self.told(earlier).seconds
        self.assertAlmostEqual(more, 30.0)


class Times(unittest.TestCase):
    def test_a_run_took_what_lies_between_two_ends(self):
        runs = [run(1, "loop", 1, 1.0, spent_s=1.5), run(2, "query", 1, 1.0, spent_s=2.0),
                run(3, "loop", 2, None, state="failed", spent_s=9.0),
                run(4, "query", 2, 1.0, spent_s=9.5), run(5, "loop", 3, 1.0)]  # fmt: skip
        found = took(map(as_ended, runs))
        self.assertEqual([(one.lane, one.seconds) for one in found],
                         [("loop", 1.5), ("query", 0.5), ("query", 0.5)])  # fmt: skip

    def test_lanes_that_were_changed_tell_nothing(self):
        now = parse(HEAD + approach("loop", COUNTING) + approach("query", COUNTING + "\n# new\n"))
        found = [*seen("loop", 300, 1.0), *seen("query", 300, 1.0)]
        self.assertEqual([one.lane for one in took_by(now, parse(TEXT), found)], ["loop"])
        other = parse(TEXT.replace('"Ash", "Elm"', '"Ash", "Yew"'))
        self.assertEqual(took_by(other, parse(TEXT), found), [])


if __name__ == "__main__":
    unittest.main()
