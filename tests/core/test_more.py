"""More of the same: rounds, lanes and sizes added to a trial that has ended."""

import random
import unittest
from collections import Counter
from math import exp

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from ivrell.core.records.machine import Machine
from ivrell.core.records.session import More
from ivrell.core.report.ratios import Judge
from ivrell.core.results.folder import DATA, ResultFolder
from ivrell.core.stats.contrasts import Terms, contrasts
from ivrell.core.stats.sessions import shifts
from ivrell.core.trial.changed import only_changed, take_over
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.control import NoControl
from ivrell.core.trial.enough import look_after, told
from ivrell.core.trial.more import extended, text_with
from ivrell.core.trial.plan import Plan
from tests.core.test_findings import run
from tests.support.comparisons import (
    COUNTING,
    HEAD,
    TrialCase,
    approach,
    python_answer,
)

TEXT = HEAD + approach("loop", COUNTING) + approach("twin", COUNTING)
LATER = TEXT + approach("late", COUNTING)


class StopsAfter(NoControl):
    def __init__(self, folder, runs):
        self.folder, self.runs = folder, runs

    def stop_all(self):
        return len(ResultFolder(self.folder).runs()) >= self.runs


class Added(TrialCase):
    def add(self, text, plan, **more):
        results = ResultFolder(self.folder / "trial")
        plan, stretch = extended(parse(text), plan, results.runs(), More(**more))
        trial = Trial(text, plan, results.path, self.store, stretch=stretch, other_versions=True)
        return plan, trial, trial.conduct()

    def setUp(self):
        super().setUp()
        first = self.trial(TEXT, rounds=2, warm_ups=1, knobs={"rows": [300]})
        self.plan = first.plan
        first.conduct()
        self.results = ResultFolder(self.folder / "trial")

    def rounds(self, lane, **point):
        return [run.round for run in self.results.runs()
                if run.approach == lane and run.point == (point or {"rows": 300})]  # fmt: skip

    def test_rounds_go_on_and_warm_ups_are_had_again(self):
        plan, _, found = self.add(TEXT, self.plan, rounds=3)
        self.assertEqual((plan.rounds, found.ended), (5, "done"))
        self.assertEqual(self.rounds("loop"), [0, 1, 2, 0, 3, 4, 5])
        self.assertEqual({lane.elapsed.count for lane in found.points[0].lanes}, {5})
        sessions = self.results.sessions()
        self.assertEqual([one.stretch is not None for one in sessions], [False, True])

    def test_a_lane_runs_beside_an_anchor_and_is_compared_with_all(self):
        plan, _, found = self.add(LATER, self.plan, lanes=["late"])
        self.assertEqual(plan.approaches, ["loop", "twin", "late"])
        self.assertEqual(self.rounds("late"), [0, 3, 4])
        self.assertEqual(self.rounds("loop"), [0, 1, 2, 0, 3, 4])
        self.assertEqual(self.rounds("twin"), [0, 1, 2])
        (point,) = found.points
        self.assertEqual([lane.id for lane in point.lanes], ["loop", "twin", "late"])
        pair = next(p.ratio for p in point.pairs if (p.base, p.lane) == ("twin", "late"))
        self.assertIsNotNone(pair.low, "by way of the anchor")
        self.assertTrue(all(lane.agreement.agrees for lane in point.lanes))

    def test_sizes_run_alone_and_are_told_with_the_others(self):
        plan, _, found = self.add(TEXT, self.plan, knobs={"rows": [600]})
        self.assertEqual(plan.knobs["rows"], [300, 600])
        self.assertEqual([point.point["rows"] for point in found.points], [300, 600])
        self.assertEqual(self.rounds("loop"), [0, 1, 2])
        self.assertEqual(self.rounds("loop", rows=600), [0, 1, 2])
        tables = {table.rows for table in self.results.read(DATA)}
        self.assertEqual(tables, {300, 600})

    def test_rounds_at_one_point_leave_the_others(self):
        plan, _, _ = self.add(TEXT, self.plan, knobs={"rows": [600]})
        self.add(TEXT, plan, rounds=1, point={"rows": 600})
        self.assertEqual(self.rounds("loop"), [0, 1, 2])
        self.assertEqual(self.rounds("loop", rows=600), [0, 1, 2, 0, 3])

    def test_one_that_is_cut_off_goes_on_with_what_it_was_adding(self):
        plan, stretch = extended(parse(TEXT), self.plan, self.results.runs(), More(rounds=3))
        folder = self.results.path
        control = StopsAfter(folder, 9)
        stopped = Trial(TEXT, plan, folder, self.store, stretch=stretch, control=control)
        self.assertEqual(stopped.conduct().ended, "stopped")
        self.results.reopen()
        self.assertEqual(Trial(TEXT, plan, folder, self.store).conduct().ended, "done")
        self.assertEqual(sorted(self.rounds("loop")), [0, 0, 1, 2, 3, 4, 5])
        self.assertEqual(sorted(self.rounds("twin")), [0, 0, 1, 2, 3, 4, 5])


class UntilTold(TrialCase):
    def added(self, minutes, **sleeps):
        text = HEAD + "".join(
            approach(lane, python_answer(f"time.sleep({s})")) for lane, s in sleeps.items()
        )
        first = self.trial(text, rounds=2, knobs={"rows": [30]})
        first.conduct()
        results = first.results
        more = More(told_within_minutes=minutes)
        plan, stretch = extended(parse(text), first.plan, results.runs(), more)
        found = Trial(text, plan, results.path, self.store, stretch=stretch).conduct()
        return found, max(run.round for run in results.runs())

    def test_rounds_end_once_it_is_told_who_is_the_quickest(self):
        found, rounds = self.added(5, slow=0.02, quick=0.01)
        self.assertTrue(3 <= rounds <= 40, rounds)
        self.assertEqual("quick", found.points[0].ranking[0])
        self.assertIsNone(found.points[0].rounds_more)

    def test_the_time_given_ends_it_where_nothing_can_be_told(self):
        _, rounds = self.added(0.01, one=0.01, other=0.01)
        self.assertLess(rounds, 20)

    def test_equals_that_are_looked_at_again_and_again_are_told_apart_no_more_often(self):
        source = random.Random(4)
        judge = Judge(Machine(), {"a": "python", "b": "python", "c": "python"}, 0.0)
        apart, tries = 0, 120
        for _ in range(tries):
            runs = []
            for number in range(1, 41):
                runs += [run(number, lane, number, exp(source.gauss(0, 0.05))) for lane in "abc"]
                if number > 5 and look_after(number, 6) and told(runs, judge):
                    apart += 1
                    break
        # Told at one of ten looks, from six rounds to forty.
        self.assertLess(apart / tries, 0.05)

    def test_looks_are_few(self):
        looks = [n for n in range(6, 60) if look_after(n, 6)]
        self.assertEqual([6, 8, 10, 12, 15, 19, 24, 30, 38, 48], looks)


class OnlyWhatChanged(TrialCase):
    def test_kept_runs_stand_beside_those_of_lanes_that_are_others_now(self):
        text = TEXT + approach("third", COUNTING)
        first = self.trial(text, rounds=2)
        first.conduct()
        now = HEAD + approach("loop", COUNTING) + approach("twin", COUNTING.rstrip() + "  # new\n")
        now += approach("third", COUNTING)
        old, new = first.results, ResultFolder(self.folder / "second")
        found = only_changed(parse(text), parse(now), first.plan, old.runs())
        self.assertEqual((found.kept, found.anew), (["loop", "third"], ["twin"]))
        take_over(old, new, found.kept)
        trial = Trial(now, found.plan, new.path, self.store, stretch=found.stretch)
        (point,) = trial.conduct().points
        ran = Counter((run.approach, run.session) for run in new.runs())
        self.assertEqual(ran, {("loop", 1): 2, ("third", 1): 2, ("loop", 2): 2, ("twin", 2): 2})
        told = {lane.id: (lane.agreement.verdict, lane.trouble) for lane in point.lanes}
        self.assertEqual({verdict for verdict, _ in told.values()}, {"same"}, told)
        pairs = {(pair.base, pair.lane): pair.ratio for pair in point.pairs}
        self.assertIsNotNone(pairs["third", "twin"].low, "by way of the anchor")
        self.assertEqual(new.curve(1), old.curve(1))

    def test_runs_that_are_gone_are_said_and_not_left_out(self):
        gone = ResultFolder(self.folder / "gone")
        with self.assertRaisesRegex(BadInput, "not there any more"):
            take_over(gone, ResultFolder(self.folder / "second"), ["loop"])

    def refused(self, words, before, now):
        runs = [run(1, "loop", 1, 1.0), run(2, "twin", 1, 1.0)]
        with self.assertRaisesRegex(BadInput, words):
            only_changed(parse(before), parse(now), Plan(rounds=1), runs)

    def test_what_is_refused(self):
        self.refused("No lane", TEXT, TEXT)
        self.refused("the data", TEXT, TEXT.replace('"Ash", "Elm"', '"Ash", "Yew"'))
        other = COUNTING + "\n# new\n"
        self.refused("Every lane", TEXT, HEAD + approach("loop", other) + approach("twin", other))


class Refused(unittest.TestCase):
    RUNS = (run(1, "loop", 1, 1.0), run(2, "twin", 1, 1.0))

    def refused(self, words, text=TEXT, plan=None, **more):
        with self.assertRaisesRegex(BadInput, words):
            extended(parse(text), plan or Plan(rounds=1), self.RUNS, More(**more))

    def test_what_cannot_be_added(self):
        self.refused("Add rounds, or lanes")
        self.refused("Add rounds, or lanes", rounds=1, lanes=["late"], knobs={"rows": [3]})
        self.refused("has run", lanes=["twin"])
        self.refused("All of these values", knobs={"rows": [300]})
        self.refused("So much cannot be added", plan=Plan(rounds=999), rounds=2)
        self.refused("no such point", rounds=1, point={"rows": 9})
        with self.assertRaises(BadInput):
            extended(parse(TEXT), Plan(), [], More(rounds=1))

    def test_lanes_of_a_comparison_that_is_another(self):
        self.assertEqual(text_with(TEXT, LATER, self.RUNS, ["twin"]), TEXT)
        self.assertEqual(text_with(TEXT, LATER, self.RUNS, ["late"]), LATER)
        other = LATER.replace('"Ash", "Elm"', '"Ash", "Yew"')
        with self.assertRaisesRegex(BadInput, "the data"):
            text_with(TEXT, other, self.RUNS, ["late"])
        changed = LATER.replace(approach("twin", COUNTING), approach("twin", COUNTING + "\n# x\n"))
        with self.assertRaisesRegex(BadInput, "lane twin"):
            text_with(TEXT, changed, self.RUNS, ["late"])


class Bridged(unittest.TestCase):
    """Lanes of two sessions, of which the later one is slower as a whole."""

    def values(self, seed, late=1.0, slower=1.5, spread=0.05):
        draw = random.Random(seed)

        def one(mean, rounds):
            return {n: mean * exp(draw.gauss(0, spread)) for n in rounds}

        early, after = range(1, 9), range(9, 17)
        return {
            "anchor": one(2.0, early) | one(2.0 * slower, after),
            "early": one(1.0, early),
            "late": one(late * slower, after),
        }

    def test_drift_falls_out_of_the_ratio_and_equals_are_told_apart_no_more_than_asked(self):
        wrong = 0
        for seed in range(200):
            ratio = contrasts(self.values(seed), Terms(0.02))["early", "late"]
            self.assertAlmostEqual(ratio.value, 1.0, delta=0.2)
            wrong += ratio.verdict in ("faster", "slower")
        self.assertLessEqual(wrong, 14)

    def test_what_is_slower_is_found(self):
        found = [
            contrasts(self.values(seed, late=1.3), Terms())["early", "late"].verdict == "slower"
            for seed in range(50)
        ]
        self.assertGreaterEqual(sum(found), 48)

    def test_how_far_sessions_are_apart(self):
        values = self.values(1)
        first = {lane: [v for n, v in own.items() if n < 9] for lane, own in values.items()}
        second = {lane: [v for n, v in own.items() if n > 8] for lane, own in values.items()}
        (found,) = shifts({1: first, 2: second})
        self.assertTrue(found.told)
        self.assertEqual(found.lanes, 1)
        self.assertLess(found.low, 1.5)
        self.assertGreater(found.high, 1.5)

    def test_equal_sessions_are_seldom_told_apart(self):
        draw = random.Random(3)
        told = 0
        for _ in range(400):
            one, other = ([exp(draw.gauss(0, 0.1)) for _ in range(5)] for _ in "12")
            told += shifts({1: {"a": one}, 2: {"a": other}})[0].told
        self.assertLessEqual(told, 10)


if __name__ == "__main__":
    unittest.main()
