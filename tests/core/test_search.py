"""The search for sizes at which the lead changes."""

import unittest
from argparse import ArgumentParser
from collections import Counter
from math import ceil, log

import numpy as np
from pydantic import ValidationError

from ivrell.cli.plan_options import add_plan_options, given_in
from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from ivrell.core.records.findings import Ratio
from ivrell.core.records.plan import Plan, Search, Until
from ivrell.core.stats.crossing import passing
from ivrell.core.trial.plan import ordered_runs, points_of, points_with, searched_knob
from ivrell.core.trial.search import CrossingSearch
from tests.core.test_findings import run
from tests.support.comparisons import HEAD, TrialCase, approach, python_answer

TEXT = HEAD + "".join(approach(lane, python_answer("pass")) for lane in ("flat", "steep", "far"))


def searched(times, noise=0.02, seed=1, able=None, **plan):
    """What a search runs where lanes take such times at a size; all runs, those of the plan among
    them. ``times`` are functions of the size by lane."""
    usual = {"rounds": 3, "warm_ups": 0, "knobs": {"rows": [100, 1000, 10_000, 100_000]}}
    made = Plan(**(usual | {"search": Search()} | plan), approaches=list(times))
    comparison = parse(TEXT)
    rng = np.random.default_rng(seed)
    runs = []

    def do(planned):
        spread = float(np.exp(rng.normal(0, noise)))
        elapsed = times[planned.approach](planned.point["rows"]) * spread
        runs.append(run(len(runs) + 1, planned.approach, planned.round, elapsed,
                        point=planned.point, stage=planned.stage,
                        spent_s=float(len(runs))))  # fmt: skip

    points = points_of(made, comparison)
    for one in ordered_runs(comparison, made):
        do(one)
    search = CrossingSearch(made, searched_knob(made, points), list(times), points, 0.05)
    for one in search.runs(runs, lambda: able or set(times)):
        do(one)
    return runs


def grid_runs(low, high, within, a_size):
    """Runs of a grid that knows every crossing within a share."""
    return (ceil(log(high / low) / log((1 + within) ** 2)) + 1) * a_size


def sizes(runs):
    return Counter(run.point["rows"] for run in runs)


def at(runs, before, after):
    """Where one lane passes another by the medians of what ran, between the nearest sizes."""
    found = None
    for low, high in zip(sorted(sizes(runs)), sorted(sizes(runs))[1:], strict=False):
        ratios = []
        for size in (low, high):
            here = [r for r in runs if r.point["rows"] == size]
            own = [np.median([r.elapsed_s for r in here if r.approach == lane] or [np.nan])
                   for lane in (before, after)]  # fmt: skip
            ratios.append(log(own[0] / own[1]))
        if ratios[0] <= 0 < ratios[1]:
            share = -ratios[0] / (ratios[1] - ratios[0])
            found = float(np.exp(log(low) + share * log(high / low)))
    return found


class Simulated(unittest.TestCase):
    def test_a_crossing_is_known_within_a_tenth_by_half_of_the_grid(self):
        for crossing in (300, 2_500, 7_777, 50_000):
            for seed in range(3):
                with self.subTest(crossing=crossing, seed=seed):
                    # Its fixed part bends the ratio, so that two far sizes alone tell it wrong.
                    times = {
                        "steep": lambda n, c=crossing: 0.02 + 0.18 * n / c,
                        "flat": lambda n: 0.2,
                    }
                    runs = searched(times, seed=seed)
                    found = at(runs, "steep", "flat")
                    self.assertLess(abs(found / crossing - 1), 0.1)
                    self.assertLessEqual(len(runs), grid_runs(100, 100_000, 0.1, 6) // 2)

    def test_only_who_could_lead_runs_at_new_sizes(self):
        runs = searched({
            "steep": lambda n: n * 1e-4, "flat": lambda n: 0.7, "far": lambda n: 50 + n * 1e-3,
        })  # fmt: skip
        added = [r for r in runs if r.point["rows"] not in (100, 1000, 10_000, 100_000)]
        self.assertTrue(added)
        self.assertEqual({r.approach for r in added}, {"steep", "flat"})

    def test_a_lane_with_another_answer_leads_nowhere(self):
        runs = searched(
            {"steep": lambda n: n * 1e-4, "flat": lambda n: 0.7}, able={"steep"}
        )  # fmt: skip
        self.assertEqual(set(sizes(runs)), {100, 1000, 10_000, 100_000})

    def test_equals_cost_some_rounds_and_no_more(self):
        runs = searched({"steep": lambda n: n * 1e-4, "flat": lambda n: n * 1e-4})
        self.assertEqual(set(sizes(runs)), {100, 1000, 10_000, 100_000})
        self.assertLessEqual(len(runs), 24 * 2)

    def test_two_crossings_and_other_knobs_apart(self):
        times = {
            "steep": lambda n: n * 1e-4 + (3.0 if n > 20_000 else 0.0),
            "flat": lambda n: 0.1 + n * 3e-5,
            "far": lambda n: 2.0 + n * 1e-6,
        }
        runs = searched(times)
        self.assertAlmostEqual(at(runs, "steep", "flat") / (0.1 / 7e-5), 1, delta=0.1)
        self.assertAlmostEqual(at(runs, "flat", "far") / (1.9 / 2.9e-5), 1, delta=0.1)

    def test_the_time_given_ends_it(self):
        times = {"steep": lambda n: n * 1e-4, "flat": lambda n: 0.7}
        whole = searched(times)
        # Each run takes a second here; two stages of six runs need more than these five.
        short = searched(times, search=Search(minutes=5 / 60))
        self.assertEqual(len(short), 24 + 6)
        self.assertGreater(len(whole), len(short))

    def test_it_depends_on_earlier_runs_alone(self):
        times = {"steep": lambda n: n * 1e-4, "flat": lambda n: 0.7}
        runs = searched(times)
        comparison = parse(TEXT)
        plan = Plan(rounds=3, warm_ups=0, knobs={"rows": [100, 1000, 10_000, 100_000]},
                    search=Search(), approaches=list(times))  # fmt: skip
        points = points_of(plan, comparison)
        again = CrossingSearch(plan, "rows", list(times), points, 0.05)
        planned = list(again.runs(runs, lambda: set(times)))
        self.assertEqual([p.identity for p in planned], [r.identity for r in runs[24:]])

    def test_runs_of_a_search_of_an_earlier_version_are_told_from_the_plan_s(self):
        runs = searched({"steep": lambda n: n * 1e-4, "flat": lambda n: 0.7})
        stages = [run.stage > 0 for run in runs]
        for one in runs:
            one.stage = 0
        plan = Plan(rounds=3, warm_ups=0, knobs={"rows": [100, 1000, 10_000, 100_000]},
                    search=Search(), approaches=["steep", "flat"])  # fmt: skip
        points = points_of(plan, parse(TEXT))
        CrossingSearch(plan, "rows", ["steep", "flat"], points, 0.05).take_up(runs)
        self.assertEqual([run.stage > 0 for run in runs], stages)


class Passings(unittest.TestCase):
    def test_between_sizes_over_logarithms(self):
        def ratio(value, by):
            return Ratio(value, value / by, value * by, 5, "faster")

        found = passing([(100, ratio(0.5, 1.1)), (10_000, ratio(2.0, 1.1))])
        self.assertAlmostEqual(found.at, 1000, delta=1)
        self.assertEqual((round(found.below), round(found.above)), (100, 10_000))
        self.assertLess(found.low, 1000)
        self.assertGreater(found.high, 1000)
        self.assertAlmostEqual(found.spread, found.high / found.low)
        self.assertIsNone(passing([(100, ratio(2.0, 1.1)), (10_000, ratio(3.0, 1.1))]))


class Plans(unittest.TestCase):
    def test_what_cannot_be_searched_is_refused(self):
        comparison = parse(TEXT)
        with self.assertRaises(ValidationError):
            Plan(search=Search(), until=Until())
        one = Plan(search=Search(), knobs={"rows": [5]})
        with self.assertRaisesRegex(BadInput, "smallest and its largest"):
            searched_knob(one, points_of(one, comparison))
        points = [{"rows": 10, "width": 1}, {"rows": 100, "width": 2}]
        with self.assertRaisesRegex(BadInput, "width has none: their values go together"):
            searched_knob(Plan(search=Search(), points=points), points)

    def test_added_points_stand_by_size(self):
        plan = Plan(search=Search(), knobs={"rows": [10, 1000]})
        points = points_with(plan, parse(TEXT), [{"rows": 90}, {"rows": 10}, {"rows": 90}])
        self.assertEqual([point["rows"] for point in points], [10, 90, 1000])

    def test_the_options_of_the_command_line(self):
        def given(*words):
            parser = ArgumentParser()
            add_plan_options(parser)
            return given_in(parser.parse_args(words))

        self.assertEqual(given("--search")["search"], {"within": 0.1})
        self.assertEqual(given("--search", "5", "--search-minutes", "3")["search"],
                         {"within": 0.05, "minutes": 3.0})  # fmt: skip
        self.assertNotIn("search", given())
        with self.assertRaisesRegex(BadInput, "--search-minutes goes with --search"):
            given("--search-minutes", "3")


class Real(TrialCase):
    def test_a_known_crossing_is_found_and_a_trial_that_was_stopped_goes_on(self):
        # Nothing but waiting, so that what is known is known.
        text = (
            HEAD
            + approach("flat", python_answer("time.sleep(0.06)"))
            + approach("steep", python_answer("time.sleep(0.02 * knobs.rows / 100)"))
        )
        plan = {"rounds": 3, "knobs": {"rows": [20, 2000]}, "search": {"within": 0.1}}
        trial = self.trial(text, **plan)
        found = trial.conduct()
        ran = sizes(trial.runs)
        # A busy machine makes it unsure, and takes more rounds; by how many, simulations tell.
        self.assertLess(sum(ran.values()), grid_runs(20, 2000, 0.1, 6))
        self.assertEqual([p.point["rows"] for p in found.points], sorted(ran))
        [sweep] = found.sweeps
        [crossing] = sweep.lead("elapsed").crossings
        self.assertEqual({one.size for one in sweep.spent if not one.searched}, {20, 2000})
        self.assertEqual(sum(one.runs for one in sweep.spent), len(trial.runs))
        self.assertEqual((crossing.before, crossing.after), ("steep", "flat"))
        # Waiting takes longer where the host of a virtual machine takes its cores.
        self.assertAlmostEqual(crossing.at / 300, 1, delta=0.25)
        # Without its last runs it does just these again.
        lines = trial.results.path.joinpath("runs.jsonl").read_text().splitlines(keepends=True)
        trial.results.path.joinpath("runs.jsonl").write_text("".join(lines[:-4]))
        trial.results.path.joinpath("findings.json").unlink()
        again = self.trial(text, **plan)
        again.conduct()
        self.assertEqual([r.run for r in again.runs][: len(lines)], [r.run for r in trial.runs])


if __name__ == "__main__":
    unittest.main()
