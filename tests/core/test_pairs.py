"""Pairs, staircases, claims, notes and trade-offs: made from measured figures and nothing else."""

import unittest

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import edit
from ivrell.core.comparison.claims import Claim
from ivrell.core.comparison.file import parse
from ivrell.core.records.findings import Ratio
from ivrell.core.records.machine import Machine
from ivrell.core.records.pair import StagePair
from ivrell.core.records.session import RunSet
from ivrell.core.report.code_diff import code_diff, lines_changed
from ivrell.core.report.findings import findings
from ivrell.core.report.pair import _stage_words, _words, pair_findings
from tests.core.test_findings import AGREES, DIFFERS, MACHINE, QUICK, SLOW, run
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach, python_answer

ROWS = "def answer(db, knobs, stage):\n    for row in db:\n        write(row)\n        commit()\n"
ONCE = "def answer(db, knobs, stage):\n    for row in db:\n        write(row)\n    commit()\n"
WHOLE = "def answer(db, knobs, stage):\n    write_all(db)\n    commit()\n"
STEPS = (
    HEAD.replace("[answer]", '[targets]\nelapsed = "1.5 s"\n\n[answer]')
    + approach("rows", ROWS, name="Row by row")
    + approach("once", ONCE, name="One commit", parent="rows")
    + approach("whole", WHOLE, name="All at once", parent="once")
)
MIDDLE = [9, 2.0, 2.1, 1.9, 2.0, 2.05, 1.95]


def stages(took, write):
    return [
        {"name": "read", "elapsed_s": took - write, "cpu_s": 0.1},
        {"name": "write", "elapsed_s": write, "cpu_s": 0.1},
    ]


def runs_of(times, commits=(20_000, 1, 1), writes=(0.9, 0.5, 0.5)):
    return [
        run(10 * i + r, lane, r, t, counters={"commits": commits[i], "log flushes": commits[i]},
            stages=stages(t, t * writes[i]))
        for i, (lane, own) in enumerate(times.items())
        for r, t in enumerate(own)
    ]  # fmt: skip


def found_of(text, runs, **agreement):
    lanes = {one.approach for one in runs}
    agreed = {lane: agreement.get(lane, AGREES) for lane in lanes}
    return findings(parse(text), RunSet.of(runs, MACHINE), agreed, {"rows": 300})


def pair_of(text, runs, base, lane):
    comparison = parse(text)
    return pair_findings(comparison, RunSet.of(runs, MACHINE), found_of(text, runs), base, lane)


class Pair(unittest.TestCase):
    def setUp(self):
        self.runs = runs_of({"rows": SLOW, "once": MIDDLE, "whole": QUICK})
        self.pair = pair_of(STEPS, self.runs, "rows", "once")

    def test_ratio_of_every_measure_with_its_verdict(self):
        rows = {row.key: row for row in self.pair.measures}
        self.assertEqual(rows["elapsed"].ratio.verdict, "faster")
        self.assertAlmostEqual(self.pair.ratio.value, 2.0, delta=0.02)
        self.assertEqual(rows["counter.commits"].ratio.verdict, "less")
        self.assertEqual(rows["counter.commits"].ratio.value, 20_000)
        self.assertEqual(rows["peak_memory"].ratio.verdict, "no difference that matters")
        back = pair_of(STEPS, self.runs, "once", "rows")
        self.assertAlmostEqual(back.ratio.value, 0.5, delta=0.01)
        self.assertEqual(back.ratio.verdict, "slower")

    def test_explained_from_stages_and_counters(self):
        told = " ".join(self.pair.words)
        self.assertIn("Of 2.00 s gained, 2.60 s are in stage write", told)
        self.assertIn("Commits went from 20,000 to 1", told)
        # The stage that got slower is not said to have gained.
        self.assertNotIn("stage read", told)

    def test_stages_of_one_alone_are_called_unmatched(self):
        other = [
            one.model_copy(update={"stages": []}) if one.approach == "once" else one
            for one in self.runs
        ]
        pair = pair_of(STEPS, other, "rows", "once")
        self.assertEqual([s.name for s in pair.stages if not s.matched][:2], ["read", "write"])
        self.assertIn("cannot be compared with each other", " ".join(pair.words))

    def test_code_difference(self):
        kinds = [(line.kind, line.text.strip()) for line in self.pair.code if line.kind != "same"]
        self.assertEqual(kinds, [("removed", "commit()"), ("added", "commit()")])
        self.assertEqual(self.pair.lines_changed, 1)
        diff = code_diff("a\nb\nc", "a\nx\ny\nc\n")
        self.assertEqual([(d.base_line, d.lane_line) for d in diff],
                         [(1, 1), (2, None), (None, 2), (None, 3), (3, 4)])  # fmt: skip
        self.assertEqual(lines_changed(diff), 2)
        self.assertEqual(lines_changed(code_diff("a", "a\n\n")), 0)

    def test_equals_are_not_explained_away(self):
        wild = [9, 2.0, 1.0, 3.0, 1.5, 2.5, 2.0]
        pair = pair_of(STEPS, runs_of({"rows": wild, "once": wild[::-1]}), "rows", "once")
        self.assertNotIn("gained", " ".join(pair.words))

    def test_equal_medians_and_equal_stages_are_told_without_a_fault(self):
        # Sure to be quicker in most rounds, with the same median all the same.
        first = [9, 2.0, 2.0, 2.0, 2.4, 2.4, 2.4, 2.4, 2.0]
        second = [9, 2.0, 1.5, 1.5, 2.2, 2.2, 2.2, 2.2, 2.2]
        runs = runs_of({"rows": first, "once": second}, writes=(0.5, 0.5))
        self.assertTrue(pair_of(STEPS, runs, "rows", "once").words)
        words = _stage_words(1.0, [StagePair(name="a", base_s=1.0, lane_s=1.0),
                                   StagePair(name=None, base_s=2.0, lane_s=2.0)])  # fmt: skip
        self.assertEqual(words, [])
        level = Ratio(1.2, 1.1, 1.3, 5, "faster")
        lane = found_of(STEPS, runs).lanes[0]
        [told] = _words(lane, lane, level, [StagePair(name="a", base_s=1, lane_s=1)], [])
        self.assertIn("faster", told)

    def test_refusals(self):
        for base, lane in (("rows", "rows"), ("rows", "nobody")):
            with self.assertRaises(BadInput):
                pair_of(STEPS, self.runs, base, lane)

    def test_the_run_nearest_to_the_median(self):
        self.assertIn(self.pair.base_run % 10, (1, 4))


class Stairs(unittest.TestCase):
    def steps(self, times, **agreement):
        found = found_of(STEPS, runs_of(times), **agreement)
        [stairs] = found.staircases
        return stairs

    def test_gain_of_each_step_and_so_far(self):
        stairs = self.steps({"rows": SLOW, "once": MIDDLE, "whole": QUICK})
        self.assertEqual([step.lane for step in stairs.steps], ["rows", "once", "whole"])
        first, second, third = stairs.steps
        self.assertIsNone(first.gain)
        self.assertAlmostEqual(second.gain.value, 2, delta=0.05)
        self.assertAlmostEqual(third.so_far.value, 4, delta=0.05)
        self.assertEqual((second.lines_changed, third.lines_changed), (1, 2))
        self.assertAlmostEqual(second.gain_per_line, 0.5, delta=0.02)
        self.assertEqual(stairs.first_to_meet, "whole")
        self.assertFalse(any(step.slower or step.wrong for step in stairs.steps))

    def test_a_step_back_and_a_wrong_one_stand_out(self):
        stairs = self.steps({"rows": MIDDLE, "once": SLOW, "whole": QUICK}, whole=DIFFERS)
        self.assertEqual([step.slower for step in stairs.steps], [False, True, False])
        self.assertEqual([step.wrong for step in stairs.steps], [False, False, True])
        # What answers wrongly meets no target.
        self.assertIsNone(stairs.first_to_meet)

    def test_who_gave_no_answer_gave_no_wrong_one(self):
        ended = DIFFERS.model_copy(update={"verdict": "no answer"})
        stairs = self.steps({"rows": MIDDLE, "once": SLOW, "whole": QUICK}, whole=ended)
        self.assertEqual([step.wrong for step in stairs.steps], [False, False, False])

    def test_a_lane_that_did_not_run_is_stepped_over(self):
        stairs = self.steps({"rows": SLOW, "whole": QUICK})
        self.assertEqual([step.lane for step in stairs.steps], ["rows", "whole"])

    def test_branches_and_circles(self):
        branched = STEPS + approach("other", WHOLE, parent="rows")
        runs = runs_of({"rows": SLOW, "once": MIDDLE, "whole": QUICK})
        runs += [run(90 + r, "other", r, t) for r, t in enumerate(QUICK)]
        ends = [stairs.steps[-1].lane for stairs in found_of(branched, runs).staircases]
        self.assertEqual(ends, ["whole", "other"])
        circle = STEPS.replace('name = "Row by row"', 'name = "Row by row"\nparent = "whole"')
        self.assertEqual(found_of(circle, runs[:21]).staircases, [])


class Claims(unittest.TestCase):
    claim = '\n[[claim]]\ntext = "One commit wins"\nlower = "once"\nhigher = "rows"\n'

    def state(self, times, more="", **agreement):
        found = found_of(STEPS + self.claim + more, runs_of(times), **agreement)
        return found.claims[0]

    def test_held_against_what_was_measured(self):
        self.assertEqual(self.state({"rows": SLOW, "once": MIDDLE}).state, "holds")
        back = self.state({"rows": MIDDLE, "once": SLOW})
        self.assertEqual(back.state, "contradicted")
        self.assertIn("times slower", back.reason)
        level = self.state({"rows": QUICK, "once": QUICK[::-1]})
        self.assertIn(level.state, ("contradicted", "cannot tell"))
        self.assertEqual(self.state({"rows": SLOW}).state, "not measured")
        wrong = self.state({"rows": SLOW, "once": MIDDLE}, once=DIFFERS)
        self.assertEqual(wrong.state, "contradicted")

    def test_of_other_measures_and_of_some_points(self):
        measure = 'measure = "counter.commits"\n'
        self.assertEqual(self.state({"rows": SLOW, "once": MIDDLE}, measure).state, "holds")
        where = 'where = { rows = ">= 1_000" }\n'
        self.assertEqual(
            self.state({"rows": SLOW, "once": QUICK}, where).state, "not of this point"
        )

    def test_where(self):
        claim = Claim(text="x", lower="a", higher="b", where={"rows": "<= 20_000", "cache": "warm"})
        self.assertTrue(claim.is_about({"rows": 20_000, "cache": "warm"}))
        self.assertFalse(claim.is_about({"rows": 20_001, "cache": "warm"}))
        self.assertFalse(claim.is_about({"rows": 5, "cache": "cold"}))
        self.assertFalse(claim.is_about({"cache": "warm"}))
        with self.assertRaises(ValueError):
            Claim(text="x", lower="a", higher="b", where={"rows": "<= many"})

    def test_the_file_names_lanes_that_are_there(self):
        for text in ('[[claim]]\ntext = "x"\nlower = "rows"\nhigher = "gone"\n',
                     '[[note]]\ntext = "x"\nlane = "gone"\n',
                     '[[note]]\ntext = "x"\nlane = "rows"\npair = ["rows", "once"]\n',
                     '[[claim]]\ntext = "x"\nlower = "rows"\nhigher = "rows"\n'):  # fmt: skip
            with self.assertRaises(BadInput):
                parse(STEPS + "\n" + text)


class Remarks(unittest.TestCase):
    notes = ({"text": "Try **fewer** commits.\nAnd more."}, {"text": "x", "lane": "once"},
             {"text": "y", "pair": ["rows", "once"]})  # fmt: skip
    claims = ({"text": "c", "lower": "once", "higher": "rows", "where": {"rows": "<= 20_000"}},)

    def setUp(self):
        self.text = edit.set_remarks(STEPS, self.notes, self.claims)

    def test_written_and_read_again(self):
        read = parse(self.text)
        self.assertEqual(read.note[0].text, self.notes[0]["text"])
        self.assertEqual(read.note[2].pair, ["rows", "once"])
        self.assertEqual(read.claim[0].where, {"rows": "<= 20_000"})
        self.assertTrue(self.text.startswith(STEPS.rstrip()[:200]))
        none = parse(edit.set_remarks(self.text, [], []))
        self.assertEqual((none.note, none.claim), ([], []))

    def test_a_renamed_lane_keeps_them_and_a_removed_one_takes_them_along(self):
        renamed = parse(edit.change_approach(self.text, "once", {"id": "single"}))
        self.assertEqual(renamed.note[1].lane, "single")
        self.assertEqual(renamed.note[2].pair, ["rows", "single"])
        self.assertEqual(renamed.claim[0].lower, "single")
        left = parse(edit.remove_approach(self.text, "whole"))
        self.assertEqual(len(left.note), 3)
        gone = parse(edit.remove_approach(edit.change_approach(
            self.text, "whole", {"parent": "rows"}), "once"))  # fmt: skip
        self.assertEqual(
            ([note.text for note in gone.note], gone.claim), ([self.notes[0]["text"]], [])
        )


class Words(unittest.TestCase):
    def test_a_trade_off_is_told(self):
        runs = [
            run(10 * i + r, lane, r, t, peak_memory_bytes=10_000_000 + memory,
                counters={"pages": p})
            for i, (lane, own, memory, p) in enumerate(
                (("rows", MIDDLE, 5_000_000, 9000.0), ("once", QUICK, 15_000_000, 90.0)))
            for r, t in enumerate(own)
        ]  # fmt: skip
        found = found_of(STEPS, runs)
        self.assertEqual(
            found.tradeoff,
            "It takes 3.00 times the peak memory, but a hundredth of the pages.",
        )

    def test_the_baseline_that_wins_is_held_against_the_next(self):
        runs = [
            run(10 * i + r, lane, r, t, peak_memory_bytes=10_000_000 + memory)
            for i, (lane, own, memory) in enumerate(
                (("rows", QUICK, 15_000_000), ("once", MIDDLE, 5_000_000)))
            for r, t in enumerate(own)
        ]  # fmt: skip
        told = found_of(STEPS, runs).tradeoff
        self.assertEqual(told, "Twice as fast as One commit, it takes 3.00 times the peak memory.")

    def test_next_to_no_memory_is_no_measure_of_times(self):
        runs = [
            run(10 * i + r, lane, r, t, peak_memory_bytes=10_000_000 + memory)
            for i, (lane, own, memory) in enumerate(
                (("rows", MIDDLE, 400_000), ("once", QUICK, 30_000_000)))
            for r, t in enumerate(own)
        ]  # fmt: skip
        self.assertIn("takes 30.0 MB of peak memory", found_of(STEPS, runs).tradeoff)

    def test_targets_and_the_shortest_code_that_meets_them(self):
        found = found_of(STEPS, runs_of({"rows": SLOW, "once": QUICK, "whole": QUICK}))
        self.assertIn("2 of 3 meet 1.50 s; the shortest code that does is All at once (3 lines)",
                      found.target)  # fmt: skip
        none = found_of(STEPS, runs_of({"rows": SLOW}))
        self.assertEqual(none.target, "None of 1 meets 1.50 s.")

    def test_conditions(self):
        engines = {
            "python": {"installed": True, "versions": {"numpy": "2.1"}},
            "duckdb": {"installed": True, "versions": {"duckdb": "1"}},
        }
        machine = Machine(
            cores=2, processor="Some processor", memory_bytes=8 * 10**9, engines=engines
        )
        runs = runs_of({"rows": SLOW})
        found = findings(parse(STEPS), RunSet.of(runs, machine), {"rows": AGREES}, {"rows": 300})
        self.assertEqual(found.conditions, ["rows 300", "2 cores of Some processor",
                                            "8.00 GB of memory"])  # fmt: skip

    def test_more_rounds_that_would_tell(self):
        wild = [9, 1.3, 0.85, 1.0, 1.2, 0.8, 1.1]
        found = found_of(STEPS, runs_of({"rows": QUICK, "once": wild}))
        self.assertRegex(found.conclusion, r"About \d+ more rounds would tell\.")


class Real(TrialCase):
    def test_agreement_of_two_lanes_alone(self):
        """Both differ from the reference, and say the same."""
        from ivrell.core.agreement.record import Answers

        odd = python_answer("pass")
        text = HEAD + approach("a", COUNTING) + approach("b", odd) + approach("c", odd)
        trial = self.trial(text, rounds=2)
        found = trial.conduct().points[0]
        answers = Answers(trial.comparison, trial.results.answers)
        for one in trial.runs:
            answers.count(one.approach, one.point, one.answer_fingerprint)

        def verdict(base, lane):
            told = pair_findings(
                trial.comparison,
                RunSet.of(trial.runs, trial.machine),
                found,
                base,
                lane,
                answers.of_two(base, lane, found.point),
            )
            return told.agreement.verdict

        self.assertEqual(verdict("b", "c"), "same")
        self.assertEqual(verdict("a", "b"), "different")


if __name__ == "__main__":
    unittest.main()
