"""A gate's test: its errors stay where they are said to be, whatever the noise."""

import random
import unittest
from math import log
from statistics import median

from ivrell.core.stats.sequential import AT_LEAST, slower_than, slower_than_kept

MARGIN = 0.1
AT_MOST = 80


def tries(count, shift, spread, *, spikes=0.0, family=1):
    """What was told, and after how many rounds, of two lanes of some spread each."""
    rng = random.Random(f"{shift} {spread} {spikes}")

    def lane():
        spike = rng.expovariate(1 / 0.4) if rng.random() < spikes else 0.0
        return rng.gauss(0, spread) + spike

    found = []
    for _ in range(count):
        logs = []
        told = "cannot tell"
        while told == "cannot tell" and len(logs) < AT_MOST:
            logs.append(shift + lane() - lane())
            told = slower_than(logs, MARGIN, family=family)
        found.append((told, len(logs)))
    return found


def kept_tries(count, shift, spread, kept):
    """The same against so many rounds that are kept, by way of a lane that did not change."""
    rng = random.Random(f"kept {shift} {spread} {kept}")
    found = []
    for _ in range(count):
        then = [rng.gauss(0, spread) - rng.gauss(0, spread) for _ in range(kept)]
        now, told = [], "cannot tell"
        while told == "cannot tell" and len(now) < AT_MOST // 2:
            now.append(shift + rng.gauss(0, spread) - rng.gauss(0, spread))
            told = slower_than_kept(now, then, MARGIN)
        found.append((told, len(now)))
    return found


def share(found, told):
    return sum(one == told for one, _ in found) / len(found)


class Errors(unittest.TestCase):
    def test_what_is_a_fifth_slower_is_found_and_equals_are_let_pass(self):
        for spread, spikes, rounds in ((0.05, 0, 8), (0.05, 0.15, 8), (0.15, 0, 15)):
            with self.subTest(spread=spread, spikes=spikes):
                slow = tries(200, log(1.2), spread, spikes=spikes)
                self.assertGreaterEqual(share(slow, "slower"), 0.95)
                self.assertLessEqual(median(length for _, length in slow), rounds)
                equal = tries(200, 0.0, spread, spikes=spikes)
                self.assertLessEqual(share(equal, "slower"), 0.05)
                self.assertGreaterEqual(share(equal, "no slower"), 0.9)

    def test_what_is_quicker_passes_and_the_margin_itself_may_go_either_way(self):
        quicker = tries(100, log(0.8), 0.05)
        self.assertEqual(1.0, share(quicker, "no slower"))
        margin = tries(100, log(1.1), 0.15)
        self.assertTrue(0.2 < share(margin, "slower") < 0.8)

    def test_against_kept_rounds_few_alarms_and_more_found_the_more_are_kept(self):
        for spread, kept, found in ((0.05, 5, 0.75), (0.05, 10, 0.95), (0.02, 5, 0.95)):
            with self.subTest(spread=spread, kept=kept):
                self.assertLessEqual(share(kept_tries(150, 0, spread, kept), "slower"), 0.05)
                slow = kept_tries(150, log(1.2), spread, kept)
                self.assertGreaterEqual(share(slow, "slower"), found)
                self.assertLessEqual(share(slow, "no slower"), 0.05)
        self.assertEqual("cannot tell", slower_than_kept([0.5] * 20, [0.0, 0.1], MARGIN))

    def test_many_at_once_raise_no_more_false_alarms(self):
        alarms = tries(300, 0.0, 0.15, family=10)
        self.assertLessEqual(share(alarms, "slower"), 0.01)

    def test_before_enough_rounds_and_of_figures_that_never_vary(self):
        self.assertEqual("cannot tell", slower_than([0.3] * (AT_LEAST - 1), MARGIN))
        self.assertEqual("slower", slower_than([0.3] * AT_LEAST, MARGIN))
        self.assertEqual("no slower", slower_than([0.0] * AT_LEAST, MARGIN))
