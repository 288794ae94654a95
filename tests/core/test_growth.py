"""Growth laws and crossings against programs whose growth is known."""

import unittest

import numpy as np

from ivrell.core.comparison.file import parse
from ivrell.core.records.session import RunSet
from ivrell.core.report.findings import findings
from ivrell.core.report.sweep.along import numeric_knobs
from ivrell.core.report.sweep.findings import sweeps
from ivrell.core.stats.growth import enough, law, laws, outlook, predictor, predictor_ahead
from tests.bench.growth import cell
from tests.core.test_findings import AGREES, MACHINE, run
from tests.support.comparisons import COUNTING, HEAD, approach

SIZES = [1_000, 3_000, 10_000, 30_000, 100_000, 300_000, 1_000_000]
TEXT = (
    HEAD.replace("[300]", str(SIZES))
    + approach("scan", COUNTING, name="Scan")
    + approach("index", COUNTING, name="Index")
)


def timed(of, spread=0.03, rounds=5, seed=3, sizes=SIZES):
    rng = np.random.default_rng(seed)
    n = np.repeat(np.asarray(sizes, dtype=float), rounds)
    return n, of(n) * np.exp(spread * rng.standard_normal(len(n)))


class Laws(unittest.TestCase):
    def test_known_growth_is_found_with_its_exponent_and_fixed_cost(self):
        cases = {
            "constant": (lambda n: 0.3 + 0 * n, 0.0, 0.3),
            "linear": (lambda n: 0.2 + 1e-6 * n, 1.0, 0.2),
            "quadratic": (lambda n: 0.05 + 1e-11 * n**2, 2.0, 0.05),
        }
        for name, (of, exponent, fixed) in cases.items():
            found = law(*timed(of))
            self.assertEqual(found.name, name)
            self.assertAlmostEqual(found.exponent, exponent, delta=0.05)
            self.assertAlmostEqual(found.fixed, fixed, delta=0.1 * fixed)
            self.assertLessEqual(found.fixed_low, found.fixed)
            self.assertGreaterEqual(found.fixed_high, found.fixed)
        found = law(*timed(lambda n: 1e-7 * n * np.log(n)))
        self.assertEqual(found.name, "n log n")
        self.assertAlmostEqual(found.doubling, 2.1, delta=0.05)
        power = law(*timed(lambda n: 0.01 + 1e-9 * n**1.5))
        self.assertEqual(power.name, "power")
        self.assertAlmostEqual(power.exponent, 1.5, delta=0.05)

    def test_the_bounds_of_an_exponent_hold_it(self):
        inside = 0
        for seed in range(40):
            found = law(*timed(lambda n: 0.05 + 2e-7 * n**1.3, spread=0.06, seed=seed))
            inside += found.exponent_low <= 1.3 <= found.exponent_high
        self.assertGreaterEqual(inside, 34)

    def test_a_bend_is_two_laws(self):
        found, bend = laws(*timed(
            lambda n: np.where(n < 20_000, 0.01 + 1e-7 * n, 0.002 + 8e-7 * n)))  # fmt: skip
        self.assertEqual(len(found), 2)
        self.assertTrue(10_000 < bend < 30_000)
        straight, none = laws(*timed(lambda n: 0.01 + 1e-7 * n))
        self.assertEqual((len(straight), none), (1, None))

    def test_what_cannot_be_told_is_refused(self):
        self.assertFalse(enough([1, 2, 2.5]))
        self.assertFalse(enough([1, 100]))
        for sizes, values in (([1, 2], [1, 2]), ([1, 10, 100], [1, 0, 2]), ([1, 10], [1])):
            with self.assertRaises(ValueError):
                law(sizes, values)

    def test_predictions_hold_at_the_largest_size_held_out(self):
        hits = errors = 0
        kinds = (
            lambda n: 0.05 + 1e-6 * n,
            lambda n: 2e-7 * n * np.log(n),
            lambda n: 0.3 + 0 * n,
            lambda n: 0.01 + 1e-9 * n**1.5,
        )
        for seed in range(10):
            for of in kinds:
                n, y = timed(of, seed=seed, sizes=SIZES[:-1])
                found = predictor(n, y).at(SIZES[-1])
                _, seen = timed(of, seed=seed + 100, sizes=SIZES[-1:], rounds=1)
                hits += found.low <= seen[0] <= found.high
                errors += abs(found.value / of(np.array([1e6]))[0] - 1)
        self.assertGreaterEqual(hits / 40, 0.8)
        self.assertLess(errors / 40, 0.15)

    def test_three_sizes_predict_where_no_power_would_do_as_well(self):
        three = [1000, 10_000, 100_000]
        self.assertIsNotNone(predictor_ahead(*timed(lambda n: 0.1 + 1e-6 * n, sizes=three)))
        for power in (0.7, 1.5):
            found = outlook(*timed(lambda n, p=power: 1e-7 * n**p, sizes=three))
            self.assertIsNone(found.ahead)
            self.assertIn("three sizes", found.why_not)

    def test_past_a_bend_only_the_sizes_above_it_predict(self):
        sizes = [300, 1000, 3000, 10_000, 30_000, 100_000, 300_000, 1_000_000]

        def bent(n):
            return np.where(n < 20_000, 0.01 + 1e-7 * n, 0.002 + 8e-7 * n)

        found = outlook(*timed(bent, sizes=sizes))
        self.assertIsNotNone(found.bend)
        self.assertAlmostEqual(found.ahead.at(10_000_000).value, 8.0, delta=0.8)

    def test_a_step_at_the_end_predicts_nothing(self):
        found = outlook(*timed(lambda n: 1e-6 * n * np.where(n < 200_000, 1, 2)))
        self.assertIsNone(found.ahead)
        self.assertIn("lie off", found.why_not)
        swept_words = swept(lambda n: 1e-6 * n * (1 if n < 200_000 else 2), lambda n: 3e-6 * n)
        self.assertIn("What comes beyond is not told", swept_words.growths[0].words)

    def test_words_and_predictions_are_of_one_law(self):
        forms = {
            "linear": lambda n, law: n,
            "n log n": lambda n, law: n * np.log(n + 1),
            "quadratic": lambda n, law: n**2,
            "power": lambda n, law: n**law.exponent,
        }
        for seed in range(6):
            n, y = timed(lambda n: 0.02 + 3e-7 * n * np.log(n), spread=0.1, seed=seed)
            found = outlook(n, y)
            [law_told] = found.laws
            told = law_told.fixed + law_told.factor * forms[law_told.name](3e6, law_told)
            ahead = found.ahead.at(3e6)
            self.assertLess(ahead.low, told)
            self.assertGreater(ahead.high, told)

    def test_cover_of_known_laws(self):
        for law_name in ("n^0.7", "n log n", "step"):
            for count in (4, 7):
                share, ahead = cell(law_name, count, 6)
                if law_name == "step":
                    self.assertLess(share, 20)
                else:
                    self.assertGreater(min(cover for cover, _ in ahead), 60)

    def test_less_than_a_decade_predicts_nothing(self):
        n, y = timed(lambda n: 1e-6 * n, sizes=[1000, 2000, 4000])
        self.assertIsNone(predictor(n, y))


def swept(scan, index, sizes=SIZES, memory_limit=None, held=lambda lane, size: 30e6):
    """Findings along sizes of two lanes, given by their times at a size."""
    rng = np.random.default_rng(5)
    runs = []
    for size in sizes:
        for lane, of in (("scan", scan), ("index", index)):
            runs += [
                run(len(runs) + 1, lane, r, of(size) * float(rng.lognormal(0, 0.02)),
                    point={"rows": size}, peak_memory_bytes=round(held(lane, size)))
                for r in range(1, 6)
            ]  # fmt: skip
    comparison = parse(TEXT)
    agreed = {"scan": AGREES, "index": AGREES}
    points = [findings(comparison, RunSet.of(runs, MACHINE), agreed, {"rows": n}) for n in sizes]
    [found] = sweeps(comparison, RunSet.of(runs, MACHINE), points, memory_limit)
    return found


class Leads(unittest.TestCase):
    def test_every_measure_has_its_own_leader(self):
        def held(lane, size):
            return 40e6 + (200 * size if lane == "index" else 0)

        found = swept(lambda n: 0.02 + 1e-6 * n, lambda n: 0.1 + 2e-7 * n, held=held)
        memory = found.lead("peak_memory")
        self.assertEqual([regime.lane for regime in memory.regimes], ["scan"])
        self.assertIn("Scan holds the least memory", memory.words)

    def test_a_rule_is_held_against_sizes_that_it_does_not_know(self):
        sizes = [1000, 10_000, 50_000, 200_000, 1_000_000]
        found = swept(lambda n: 0.02 + 1e-6 * n, lambda n: 0.1 + 2e-7 * n, sizes=sizes)
        rule = found.lead("elapsed").rule
        self.assertEqual((rule.held_out, rule.named_right), (5, 5))
        # The last size alone shows the change: without it the others name the wrong lane there.
        late = swept(lambda n: 1e-6 * n, lambda n: 0.5 + 1e-8 * n, sizes=sizes)
        self.assertEqual(late.lead("elapsed").rule.named_right, 4)
        few = swept(lambda n: 1e-6 * n, lambda n: 3e-6 * n, sizes=[1000, 10_000])
        self.assertIsNone(few.lead("elapsed").rule)

    def test_who_stays_below_the_memory_that_a_run_may_take(self):
        def held(lane, size):
            return 40e6 + (200 * size if lane == "scan" else 0)

        found = swept(lambda n: 1e-6 * n, lambda n: 3e-6 * n, memory_limit=1.04e9, held=held)
        self.assertRegex(found.words, r"Scan at rows .*; beyond, only Index stays below")
        # What lies more than ten times beyond what was run is not told in the rule.
        far = swept(lambda n: 1e-6 * n, lambda n: 3e-6 * n, memory_limit=4.04e9, held=held)
        self.assertNotIn("would pass", far.words)


class Crossings(unittest.TestCase):
    def test_where_the_lead_changes_hands(self):
        # 0.02 + 1e-6 n against 0.1 + 2e-7 n: they meet at 100,000.
        found = swept(lambda n: 0.02 + 1e-6 * n, lambda n: 0.1 + 2e-7 * n)
        [crossing] = found.lead("elapsed").crossings
        self.assertEqual((crossing.before, crossing.after), ("scan", "index"))
        self.assertAlmostEqual(crossing.at, 100_000, delta=10_000)
        self.assertLess(crossing.low, 100_000)
        self.assertGreater(crossing.high, 100_000)
        self.assertEqual(
            [regime.lane for regime in found.lead("elapsed").regimes], ["scan", "index"]
        )
        self.assertRegex(found.words, r"below 1\d0,000|below 9\d,000")
        self.assertIn("Scan is the quickest", found.words)
        self.assertIn("above Index is the quickest", found.words)

    def test_ahead_by_its_median_and_behind_by_rounds(self):
        # At the smallest size the scan's median is the lower one, one slow round apart; so the
        # lead changes between there and the next size, wherever the ratio says.
        times = {(1000, "scan"): [1.0, 1.0, 1.0, 3.0, 3.0, 3.0, 1.0],
                 (1000, "index"): [1.05] * 7, (10_000, "scan"): [9.0] * 7,
                 (10_000, "index"): [2.0] * 7, (100_000, "scan"): [90.0] * 7,
                 (100_000, "index"): [4.0] * 7}  # fmt: skip
        runs = [
            run(number, lane, r, took * (1 + r / 1000), point={"rows": size})
            for number, ((size, lane), own) in enumerate(times.items())
            for r, took in enumerate(own, 1)
        ]
        comparison, agreed = parse(TEXT), {"scan": AGREES, "index": AGREES}
        points = [
            findings(comparison, RunSet.of(runs, MACHINE), agreed, {"rows": size})
            for size in (1000, 10_000, 100_000)
        ]
        [found] = sweeps(comparison, RunSet.of(runs, MACHINE), points)
        [crossing] = found.lead("elapsed").crossings
        self.assertGreater(crossing.at, 1000)
        self.assertLess(crossing.at, 10_000)

    def test_one_that_always_leads(self):
        found = swept(lambda n: 1e-6 * n, lambda n: 3e-6 * n)
        self.assertEqual(found.lead("elapsed").crossings, [])
        self.assertEqual(found.words, "At every size of rows that was run Scan is the quickest.")
        growths = {growth.lane: growth for growth in found.growths if growth.measure == "elapsed"}
        self.assertEqual(growths["scan"].laws[0].name, "linear")
        self.assertIn("grows linearly, 2.00 times when rows doubles", growths["scan"].words)

    def test_a_lead_that_nobody_can_be_sure_of_is_no_crossing(self):
        found = swept(lambda n: 1e-6 * n, lambda n: 1.003e-6 * n)
        self.assertEqual(found.lead("elapsed").crossings, [])
        self.assertIn("no size of rows is one lane told to lead: Scan or Index", found.words)

    def test_two_sizes_tell_who_leads_and_no_law(self):
        found = swept(lambda n: 1e-6 * n, lambda n: 3e-6 * n, sizes=[1000, 10_000])
        self.assertIn("Three sizes", found.growths[0].words)
        self.assertIn("Scan is the quickest", found.words)

    def test_what_lies_beyond_the_largest_size(self):
        found = swept(lambda n: 0.05 + 1e-6 * n, lambda n: 3e-6 * n)
        [scan] = [g for g in found.growths if (g.lane, g.measure) == ("scan", "elapsed")]
        self.assertEqual(scan.ahead[-1].size, 10_000_000)
        self.assertLess(scan.ahead[-1].low, 10.05)
        self.assertGreater(scan.ahead[-1].high, 10.05)
        near = swept(lambda n: 1e-6 * n, lambda n: 3e-6 * n, sizes=[1000, 2000, 4000])
        self.assertEqual(near.growths[0].ahead, [])

    def test_where_memory_runs_out(self):
        def held(lane, size):
            return 40e6 + (200 * size if lane == "scan" else 0)

        found = swept(lambda n: 1e-6 * n, lambda n: 3e-6 * n, memory_limit=4.04e9, held=held)
        [wall] = found.walls
        self.assertEqual(wall.lane, "scan")
        # 40 MB + 200 B a row reach 4.04 GB at 20 million rows.
        self.assertAlmostEqual(wall.size, 20e6, delta=2e6)
        self.assertLessEqual(wall.low, wall.size)
        self.assertGreaterEqual(wall.high, wall.size)

    def test_a_size_off_its_law_makes_the_bounds_wide(self):
        sizes = [1000, 3000, 10_000, 30_000, 100_000]
        straight = [1e-6 * size for size in sizes]
        odd = [
            value * (1.4 if size == 10_000 else 1)
            for size, value in zip(sizes, straight, strict=True)
        ]

        def width(values):
            told = predictor(sizes * 3, values * 3).at(300_000)
            self.assertLess(told.low, 0.3)
            self.assertGreater(told.high, 0.3)
            return told.high / told.low

        self.assertGreater(width(odd), 1.5 * width(straight))

    def test_knobs_of_numbers(self):
        points = [{"rows": 1, "cache": "warm", "same": 4}, {"rows": 5, "cache": "cold", "same": 4}]
        self.assertEqual(numeric_knobs(points), ["rows"])
        self.assertEqual(numeric_knobs([]), [])


if __name__ == "__main__":
    unittest.main()
