"""Trials over time: what differs between two, what that did, and since when."""

import datetime
import random
import threading
import unittest
from dataclasses import replace
from math import exp

from ivrell.cli.worker import Application, Running
from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from ivrell.core.records.data import MadeTable
from ivrell.core.records.events import DataMade
from ivrell.core.records.joined import JoinedTask, MadeBytes
from ivrell.core.records.machine import InstalledEngine, Machine
from ivrell.core.records.plan import Plan
from ivrell.core.records.session import RunSet, Session
from ivrell.core.report.across import across
from ivrell.core.report.history import history, points_ran
from ivrell.core.report.overlay import Past, overlay
from ivrell.core.stats.turns import MOST_TRIALS, turns
from tests.core.test_findings import run
from tests.support.comparisons import COUNTING, HEAD, approach

POINT = {"rows": 300}
OTHER_CODE = COUNTING.replace("answer", "answer").replace("return", "pass\n    return", 1)


def text_of(**codes):
    codes = {"a": COUNTING, "b": COUNTING, "c": COUNTING} | codes
    return HEAD + "".join(approach(lane, code, name=lane.upper()) for lane, code in codes.items())


def machine(**fields):
    return Machine.model_validate({"host": "lockhouse", "kernel": "6.1", **fields})


class Made:
    """Trials of three lanes that take so many seconds, a few per cent apart."""

    def __init__(self, seed=1, spread=0.02):
        self.random = random.Random(seed)
        self.spread = spread

    def trial(self, number, text=None, on=None, plan=None, made=(), rounds=6, **seconds):
        seconds = {"a": 3.0, "b": 1.0, "c": 2.0} | seconds
        runs = [
            run(10 * i + r, lane, r, s * exp(self.random.gauss(0, self.spread)))
            for i, (lane, s) in enumerate(seconds.items())
            if s
            for r in range(1, rounds + 1)
        ]
        taken = RunSet([one.model_copy(update={"session": 1}) for one in runs],
                       [Session(number=1, machine=on or machine())])  # fmt: skip
        when = datetime.datetime(2031, 5, 1, tzinfo=datetime.UTC) + datetime.timedelta(days=number)
        return Past(number, when, parse(text or text_of()), plan or Plan(), taken, made)


class LaidOver(unittest.TestCase):
    def setUp(self):
        self.made = Made()

    def lanes(self, found, key="elapsed"):
        measure = next(one for one in found.measures if one.key == key)
        return measure, {lane.lane: lane for lane in measure.lanes}

    def test_what_the_machine_did_is_taken_out_of_a_lane_that_changed(self):
        before = self.made.trial(1)
        now = self.made.trial(2, text_of(b=OTHER_CODE), a=3.6, b=1.8, c=2.4)
        found = overlay(before, now, POINT)
        self.assertEqual(["a", "c"], found.anchors)
        self.assertEqual(["code of B"], [one.words for one in found.differences])
        elapsed, lanes = self.lanes(found)
        self.assertAlmostEqual(1 / 1.2, elapsed.machine.value, delta=0.03)
        self.assertAlmostEqual(1 / 1.8, lanes["b"].plain.value, delta=0.03)
        self.assertAlmostEqual(1 / 1.5, lanes["b"].ratio.value, delta=0.03)
        self.assertEqual("slower", lanes["b"].ratio.verdict)
        self.assertNotIn(lanes["a"].ratio.verdict, ("slower", "faster"))
        self.assertIn("B is 1.5", found.words)
        self.assertIn("is the machine's, and is taken out", found.words)

    def test_a_library_of_another_version_leaves_its_lanes_no_anchors(self):
        sheets = approach("q", "select 1", engine="duckdb")
        engines = {"duckdb": InstalledEngine(installed=True, versions={"duckdb": "1.3"})}
        later = {"duckdb": InstalledEngine(installed=True, versions={"duckdb": "1.4"})}
        text = text_of() + sheets
        before = self.made.trial(1, text, machine(engines=engines), q=1.0)
        now = self.made.trial(2, text, machine(engines=later), q=0.5)
        found = overlay(before, now, POINT)
        self.assertEqual(["a", "b", "c"], found.anchors)
        self.assertEqual(["duckdb 1.3, then 1.4"], [one.words for one in found.differences])
        self.assertEqual("faster", self.lanes(found)[1]["q"].ratio.verdict)

    def test_where_every_lane_is_touched_nothing_is_taken_out_and_that_is_said(self):
        before, now = self.made.trial(1), self.made.trial(2, plan=Plan(cache=["cold"]), b=2.0)
        found = overlay(before, now, POINT)
        self.assertEqual([], found.anchors)
        elapsed, lanes = self.lanes(found)
        self.assertIsNone(elapsed.machine)
        self.assertEqual(lanes["b"].plain, lanes["b"].ratio)
        self.assertIn("cannot be told from what the lanes did", found.words)
        self.assertIn("cache warm, then cold", found.words)

    def test_limits_of_time_touch_no_lane_that_came_to_its_end(self):
        later = Plan(limits={"seconds": 5, "memory_bytes": 4 * 2**30})
        found = overlay(self.made.trial(1), self.made.trial(2, plan=later), POINT)
        self.assertEqual(["a", "b", "c"], found.anchors)
        self.assertIn("seconds 120.0, then 5.0", found.words)

    def test_lanes_of_rounds_of_their_own_are_held_against_the_others_too(self):
        before = self.made.trial(1)
        now = self.made.trial(2, a=6.0, b=2.0, c=4.0)
        late = [
            one.model_copy(update={"round": one.round + 20, "run": one.run + 100})
            if one.approach == "b" else one
            for one in now.taken.runs
        ]  # fmt: skip
        now = replace(now, taken=replace(now.taken, runs=late))
        _, lanes = self.lanes(overlay(before, now, POINT))
        self.assertAlmostEqual(0.5, lanes["b"].plain.value, delta=0.03)
        self.assertAlmostEqual(1.0, lanes["b"].ratio.value, delta=0.05)

    def test_what_differs_is_named(self):
        table = {"table": "t", "form": "csv", "rows": 300, "seconds": 1, "fingerprint": "r"}
        before = self.made.trial(1, made=[MadeTable(bytes_hash="x", **table)], c=0)
        now = self.made.trial(
            2, text_of(a=OTHER_CODE), machine(kernel="6.2", host="weir"),
            made=[MadeTable(bytes_hash="y", **table)], b=0,
        )  # fmt: skip
        self.assertEqual(
            ["code of A", "B measured, then not measured", "C not measured, then measured",
             "what was made of the same recipe",
             "machine lockhouse, then weir", "the kernel 6.1, then 6.2"],
            [one.words for one in overlay(before, now, POINT).differences],
        )  # fmt: skip

    def test_equals_are_seldom_called_changed(self):
        told = 0
        for seed in range(100):
            made = Made(seed, 0.05)
            found = overlay(made.trial(1), made.trial(2), POINT)
            _, lanes = self.lanes(found)
            told += any(one.ratio.verdict in ("faster", "slower") for one in lanes.values())
        self.assertLessEqual(told, 10)

    def test_single_runs_say_no_more_than_they_can(self):
        found = overlay(self.made.trial(1, rounds=1), self.made.trial(2, rounds=1, b=9.0), POINT)
        _, lanes = self.lanes(found)
        self.assertIsNone(lanes["b"].ratio.low)
        self.assertEqual("not told apart", lanes["b"].ratio.verdict)


def told(past, **how):
    ran = ([one.point for one in trial.taken.runs if one.counted] for trial in past)
    return history(past, points_ran(ran), **how)


class OverTime(unittest.TestCase):
    def past(self, change_at=None, trials=12, seed=3, **how):
        made = Made(seed)
        return [
            made.trial(
                number,
                text_of(b=OTHER_CODE) if change_at and number >= change_at else None,
                a=3 * level, c=2 * level,
                b=level * (1.25 if change_at and number >= change_at else 1),
                **how,
            )
            for number in range(1, trials + 1)
            for level in [1 + 0.3 * (number % 3)]
        ]  # fmt: skip

    def test_since_when_a_lane_is_slower_and_what_changed_then(self):
        found = told(self.past(9))
        lanes = {lane.lane: lane for lane in found.lanes}
        (turn,) = lanes["b"].turns
        self.assertEqual((9, 8), (turn.trial, turn.before))
        self.assertTrue(turn.low < 1.25 < turn.high, turn)
        self.assertEqual([], [*lanes["a"].turns, *lanes["c"].turns])
        self.assertIn("since trial 9, 10 May 2031, beside A; between it and trial 8: code of B",
                      found.words)  # fmt: skip
        self.assertEqual(["code of B"], [one.words for one in found.trials[8].differences])

    def test_a_machine_that_is_slower_on_some_days_makes_no_lane_slower(self):
        found = told(self.past())
        self.assertEqual([], [turn for lane in found.lanes for turn in lane.turns])
        self.assertIn("No lane is told to take another time", found.words)

    def test_an_anchor_that_changed_is_named(self):
        made = Made(4)
        past = [made.trial(n, a=3.0 if n < 8 else 6.0) for n in range(1, 13)]
        found = told(past, anchor="a")
        self.assertIn("All others changed at once: more likely it was A that did", found.words)

    def test_a_lane_that_was_changed_is_no_anchor_unless_asked_for(self):
        made = Made(8)
        past = [
            made.trial(n, text_of(a=OTHER_CODE) if n > 7 else None, a=3.0 if n < 8 else 6.0)
            for n in range(1, 13)
        ]
        found = told(past)
        self.assertEqual("b", found.anchor)
        self.assertEqual([8], [turn.trial for turn in found.lanes[0].turns])
        self.assertEqual([], found.lanes[2].turns)

    def test_few_trials_and_lanes_that_come_later(self):
        made = Made(5)
        found = told([made.trial(1, c=0), made.trial(2), made.trial(3)])
        self.assertEqual([2, 3], [value.trial for value in found.lanes[2].values])
        self.assertIn("From five trials on", found.words)
        with self.assertRaises(BadInput):
            told([])
        with self.assertRaises(BadInput):
            told(self.past(), anchor="nobody")

    def test_points_of_most_trials_come_first(self):
        self.assertEqual([{"n": 2}, {"n": 3}, {"n": 1}],
                         points_ran([[{"n": 1}, {"n": 2}], [{"n": 2}, {"n": 3}]]))  # fmt: skip

    def test_turns_of_logarithms(self):
        self.assertEqual([], turns([0.0] * 30))
        steps = [0.0, 0.01, -0.01, 0.0, 0.01, 0.3, 0.31, 0.3, 0.29, 0.3, 0.9, 0.91, 0.9, 0.89]
        self.assertEqual([5, 10], [turn.place for turn in turns(steps)])
        self.assertEqual([], turns([0.0, 0.001] * 3 + [0.02, 0.021] * 3, matters=0.05))
        with self.assertRaises(ValueError):
            turns([0.0] * (MOST_TRIALS + 1))


class OnSeveralMachines(unittest.TestCase):
    def told(self, *trials):
        names = ["here", "weir", "quay"][: len(trials)]
        return across(trials, names, [{} for _ in trials], POINT)

    def test_the_order_held_and_who_gains_more_where(self):
        made = Made(6)
        found = self.told(
            made.trial(1), made.trial(2, a=6.0, b=2.0, c=4.0), made.trial(3, b=0.5)
        )  # fmt: skip
        self.assertEqual("The order of lanes held on all 3 machines.", found.words[0])
        lanes = {lane.lane: lane for lane in found.lanes}
        self.assertAlmostEqual(2, lanes["b"].gain.value, delta=0.15)
        self.assertEqual(2, lanes["b"].most)
        self.assertIsNone(lanes["c"].gain)
        self.assertIn("B gains ", found.words[1])
        self.assertIn("more on A on quay than on", found.words[1])

    def test_two_that_surely_changed_places_are_named(self):
        made = Made(7)
        found = self.told(made.trial(1), made.trial(2, b=2.0, c=1.0))
        self.assertEqual("C is faster than B on weir, and slower on here.", found.words[0])

    def test_equals_gain_nothing_and_one_that_did_not_run_is_left_out(self):
        told = 0
        for seed in range(60):
            made = Made(seed, 0.05)
            found = self.told(made.trial(1, c=0), made.trial(2), made.trial(3))
            told += any(lane.gain for lane in found.lanes)
            self.assertIsNone(found.lanes[2].medians[0])
        self.assertLessEqual(told, 6)


class Joining(unittest.TestCase):
    def test_token_and_code_are_sent_by_tls_or_on_this_machine_alone(self):
        for fine in ("http://127.0.0.1:8420", "http://localhost:1", "https://ivrell.example"):
            Application(fine, "token")
        for wrong in ("http://ivrell.example:8420", "ftp://127.0.0.1", "ivrell.example", ""):
            with self.subTest(wrong), self.assertRaises(BadInput):
                Application(wrong, "token")

    def test_data_that_is_not_what_was_made_elsewhere_is_refused(self):
        expected = [MadeBytes(fingerprint="r", form="csv", bytes_hash="x")]
        task = JoinedTask(trial=1, key="k", text="", plan=Plan(), expected=expected)
        running = Running(Application("http://127.0.0.1:1", "t"), task, threading.Event())
        table = {"table": "t", "form": "csv", "rows": 300, "seconds": 1}
        running.listen(DataMade(tables=[MadeTable(fingerprint="r", bytes_hash="x", **table)]))
        # Other values of a knob make another table of as many rows.
        running.listen(DataMade(tables=[MadeTable(fingerprint="s", bytes_hash="y", **table)]))
        with self.assertRaises(BadInput) as raised:
            running.listen(DataMade(tables=[MadeTable(fingerprint="r", bytes_hash="y", **table)]))
        self.assertIn("is not what was made elsewhere", str(raised.exception))
