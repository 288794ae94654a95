"""Trying to break a conclusion: which changes are made, what they do to the lead, in what words."""

import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import ivrell
from ivrell import challenging
from ivrell.core.challenge.changes import CONDITIONS, challenged
from ivrell.core.challenge.words import told
from ivrell.core.comparison.file import parse
from ivrell.core.records.challenge import ChallengeFindings, ChangedLane, ChangeOutcome
from ivrell.core.records.sweep import Crossing
from tests.support.comparisons import DEMO, HEAD, approach

COLUMNS = """
[data.tables.locks]
rows = 40
columns = [{ name = "lock", kind = "code", width = 4, unique = true }]

[data.tables.visits]
rows = "{rows}"
order = "shuffled"
columns = [
  { name = "visit", kind = "sequence" },
  { name = "lock", kind = "reference", to = "locks.lock", skew = 1.2 },
  { name = "toll", kind = "integer", low = 1, high = 90 },
  { name = "remark", kind = "words", needle = { value = "sunk", at = "{where}" } },
]
"""
SMALL = """format = "ivrell-comparison/1"
name = "Readings"
question = "How many readings has each gauge?"
baseline = "steady"

[answer]
key = ["gauge"]

[knobs]
rows = [5000]

[data]
seed = 3

[data.tables.readings]
rows = "{rows}"
columns = [{ name = "gauge", kind = "category", values = ["Ash", "Elm"] }]
"""
READ = """
import time

def answer(data, knobs, stage):
    with open(data.readings) as lines:
        next(lines)
        rows = [line.rstrip("\\n") for line in lines]
    counts = {}
    for row in rows:
        counts[row] = counts.get(row, 0) + 1
    %s
    return [{"gauge": gauge or None, "n": n} for gauge, n in counts.items()]
"""


def words_of(changed):
    return [change.words for change in changed.changes]


class Changes(unittest.TestCase):
    def text(self):
        text = HEAD + COLUMNS + approach("one", "def answer(data, knobs, stage): return []")
        return text.replace("rows = [300]", 'rows = [300]\nwhere = ["first", "middle"]')

    def test_they_are_of_the_recipe_and_each_is_one_knob(self):
        found = challenged(self.text(), {})
        for words in (
            "3,000 rows of readings, 3,000 rows of visits", "a fifth of visits repeated rows",
            "one of a hundred lines of visits broken", "visits in order of its making",
            "visits sorted by visit", "visits.lock: all values alike often",
            "visits.lock: half of the rows without a match", "visits.lock: a tenth missing",
            "visits.toll: 10 different values", "visits.toll: numbers up to 100,000,000,000",
            "visits.remark: up to 120 words", "the sought value of visits.remark nowhere",
            "the sought value of visits.remark in the last row",
        ):  # fmt: skip
            self.assertTrue(any(words in w for w in words_of(found)), (words, words_of(found)))
        for change in found.changes:
            self.assertNotEqual(change.value, change.usual)
            there = {k: v for k, v in found.point(change).items() if found.base[k] != v}
            self.assertEqual(there, {change.knob: change.value})
            self.assertIn(change.value, parse(found.text).knobs[change.knob])

    def test_as_things_are_the_data_are_what_they_were(self):
        for text in (self.text(), DEMO.read_text()):
            before, found = parse(text), challenged(text, {})
            base = {knob: values[0] for knob, values in before.knobs.items()}
            self.assertEqual(
                before.data.resolved(base), parse(found.text).data.resolved(found.base)
            )

    def test_what_cannot_be_is_told_and_left_out(self):
        found = challenged(self.text(), {"rows": 50})
        self.assertEqual(found.base["rows"], 50)
        impossible = {change.words for change, _ in found.impossible}
        self.assertFalse(impossible & set(words_of(found)))
        for change in found.changes:
            parse(found.text).data.resolved(found.point(change))

    def test_the_leader_becomes_the_baseline_and_answers_are_held_against_the_old_one(self):
        text = SMALL + approach("steady", READ % "pass") + approach("quick", READ % "pass")
        made = parse(challenged(text, {}, baseline="quick").text)
        self.assertEqual((made.baseline_id, made.answer.reference), ("quick", "steady"))

    def test_an_order_may_be_a_knob(self):
        text = SMALL.replace('rows = "{rows}"', 'rows = "{rows}"\norder = "{order}"')
        text = text.replace("rows = [5000]", 'rows = [5]\norder = ["in order", "by gauge", "up"]')
        recipe = parse(text + approach("steady", READ % "pass")).data
        orders = [
            recipe.resolved({"rows": 5, "order": order}).tables["readings"].order
            for order in ("in order", "by gauge")
        ]
        self.assertEqual(orders, [None, "by gauge"])
        with self.assertRaises(ivrell.BadInput) as raised:
            recipe.resolved({"rows": 5, "order": "up"})
        self.assertIn("no order", str(raised.exception))


class Words(unittest.TestCase):
    def outcome(self, words, verdict, **more):
        return ChangeOutcome(
            words=words, what="data", knob="k", usual=0, value=1, verdict=verdict, **more
        )

    def test_whole_turns_wrong_unsure_and_left_out(self):
        wrong = ChangedLane(
            lane="b",
            name="Frame",
            usual_s=1,
            changed_s=None,
            of_leader=None,
            wrong="3 rows differ.",
        )
        crossing = Crossing(before="b", after="a", at=4_700, low=4_100, high=5_600)
        found = told("Query", True, [
            self.outcome("400 rows", "turned over", leader="b", lead=0.5, low=0.4, high=0.6,
                         crossing=crossing),
            self.outcome("nulls", "held", lanes=[wrong]),
            self.outcome("shuffled", "held"),
            self.outcome("a cold cache", "unsure"),
            self.outcome("more rows", "not run", reason="there was no time for it"),
        ], {"a": "Query", "b": "Frame"})  # fmt: skip
        self.assertEqual(found, [
            "The lead of Query held in 2 of 4 changes.",
            "It turns over with 400 rows (the lead changes at 4,700 (4,100 to 5,600)): Frame is "
            "2.00 times (1.67 to 2.50) faster there.",
            "Not told apart: with a cold cache.",
            "Frame is wrong with nulls.",
            "Not looked at: more rows.",
        ])  # fmt: skip


class Run(unittest.TestCase):
    def test_what_turns_it_over_is_found_and_who_is_wrong_where(self):
        slow = "time.sleep(0.3 if len(rows) < 1_500 else 0.005)"
        text = (
            SMALL
            + approach("steady", READ % "time.sleep(0.09)")
            + approach("quick", READ % slow)
            + approach("careless", READ % 'counts.pop("", None); time.sleep(0.2)')
        )
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder, "readings.toml")
            file.write_text(text)
            done = subprocess.run(
                [sys.executable, "-m", "ivrell.cli", "challenge", str(file), "--minutes", "3",
                 "--json", "--out", f"{folder}/found"],
                capture_output=True, text=True, timeout=400, stdin=subprocess.DEVNULL,
            )  # fmt: skip
            self.assertEqual(done.returncode, 0, done.stderr)
            found = ChallengeFindings.model_validate_json(done.stdout)
            kept = json.loads(Path(folder, "found", challenging.CHALLENGE).read_text())
        self.assertEqual(kept, json.loads(done.stdout))
        self.assertEqual(found.leader, "quick")
        verdicts = {one.words: one.verdict for one in found.outcomes}
        self.assertEqual(verdicts.pop("500 rows of readings"), "turned over")
        ran = {words: verdict for words, verdict in verdicts.items() if verdict != "not run"}
        self.assertNotIn("turned over", ran.values())
        self.assertIn(ran.get("50,000 rows of readings", "held"), ("held", "unsure"))
        self.assertEqual(
            {one.words for one in found.outcomes if one.what == "condition"},
            {one.words for one in CONDITIONS},
        )
        few = found.outcomes[0]
        self.assertEqual((few.leader, few.words), ("steady", "500 rows of readings"))
        self.assertLess(few.high, 1)
        if few.crossing is not None:
            self.assertTrue(500 < few.crossing.at < 5_000, few.crossing)
        missing = next(o for o in found.outcomes if o.words == "readings.gauge: a tenth missing")
        self.assertEqual([lane.lane for lane in missing.newly_wrong], ["careless"])
        self.assertIn("careless is wrong with readings.gauge: a tenth missing.", found.words)
        self.assertLess(found.runs, found.grid / 4)

    def test_where_nobody_wins_there_is_nothing_to_doubt(self):
        text = SMALL + approach("steady", "def answer(data, knobs, stage): raise ValueError")
        with tempfile.TemporaryDirectory() as folder, self.assertRaises(ivrell.BadInput) as raised:
            challenging.challenge(ivrell.Comparison(text), minutes=1, folder=Path(folder, "f"))
        self.assertIn("no winner to doubt", str(raised.exception))


if __name__ == "__main__":
    unittest.main()
