"""Runs that something else disturbed: told from runs that disturb themselves, and done again."""

import subprocess
import sys
import tempfile
import time
import unittest
from collections import Counter
from pathlib import Path
from statistics import median

from ivrell.core.comparison.file import parse
from ivrell.core.measure.around import SHORT_S
from ivrell.core.measure.quiet import QuietMoment
from ivrell.core.records.events import RunStarted
from ivrell.core.records.machine import Machine
from ivrell.core.records.plan import Disturbed
from ivrell.core.records.session import RunSet
from ivrell.core.report.findings import findings
from ivrell.core.trial.disturbance import (
    HOST,
    OTHERS,
    QUOTA,
    SWAPPING,
    Repeats,
    disturbance,
)
from tests.core.test_findings import run
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach, python_answer

POINT = {"rows": 300}


def seen(elapsed=1.0, **fields):
    usual = {"held_up_s": 0.0, "others_cpu_s": 0.0, "most_threads": 1}
    return run(1, "a", 1, elapsed, **(usual | fields))


class Told(unittest.TestCase):
    def told(self, **fields):
        found = disturbance(seen(**fields), cores=2)
        return found and (found.by, round(found.share, 3))

    def test_a_quiet_run(self):
        self.assertIsNone(self.told())
        self.assertIsNone(disturbance(seen(elapsed=None), 2))

    def test_waiting_for_others_and_for_itself(self):
        self.assertEqual(self.told(held_up_s=0.4, others_cpu_s=0.9), (OTHERS, 0.4))
        # Eight threads on two cores wait for each other.
        self.assertIsNone(self.told(held_up_s=0.9, others_cpu_s=0.0, most_threads=8))
        self.assertEqual(
            self.told(held_up_s=0.9, others_cpu_s=0.02, most_threads=8), (OTHERS, 0.02)
        )

    def test_another_core_taken_all_the_time(self):
        self.assertEqual(self.told(others_cpu_s=1.0), (OTHERS, 0.4))
        # What watching takes is no disturbance.
        self.assertIsNone(self.told(others_cpu_s=0.12))

    def test_short_runs_by_their_waiting_alone(self):
        short = {"elapsed": 0.01, "others_cpu_s": 0.01}
        self.assertEqual(self.told(held_up_s=0.003, **short), (OTHERS, 0.3))
        self.assertIsNone(self.told(held_up_s=0.003, most_threads=4, **short))
        # More threads than cores wait for each other; who was there around it tells.
        around = {"most_threads": 4, "others_around": 0.9}
        self.assertEqual(self.told(held_up_s=0.003, **around, **short), (OTHERS, 0.35))
        self.assertIsNone(self.told(held_up_s=0.003, **around | {"others_around": 0.0}, **short))
        # Repeats of a short call last long enough together.
        self.assertEqual(self.told(held_up_s=0.003, inner_repeats=100, **short), (OTHERS, 0.4))

    def test_the_host_a_quota_and_swapping(self):
        self.assertEqual(self.told(stolen_s=0.61), (HOST, 0.6))
        self.assertIsNone(self.told(elapsed=0.002, stolen_s=0.01, others_cpu_s=None))
        self.assertEqual(self.told(throttled_s=0.2), (QUOTA, 0.2))
        self.assertEqual(self.told(swapped_bytes=1e6, pressure={"memory": 0.3}), (SWAPPING, 0.3))
        self.assertIsNone(self.told(swapped_bytes=0.0, pressure={"memory": 0.3}))


class Budget(unittest.TestCase):
    def repeats(self, planned=4, **fields):
        return Repeats(Disturbed(**fields), planned, 2)

    def judged(self, repeats, number=1, attempt=0, **fields):
        one = seen(held_up_s=0.5, others_cpu_s=1.0, **fields)
        one.run = one.round = number
        repeats.judge(one, attempt)
        repeats.take(one)
        return one

    def test_half_of_the_planned_runs_and_no_more(self):
        repeats = self.repeats()
        self.assertEqual(
            [self.judged(repeats, n).set_aside for n in (1, 2, 3)], [True, True, False]
        )
        self.assertEqual(repeats.wanted(run(9, "a", 1, 1.0).identity), 1)
        self.assertIsNone(repeats.wanted(run(9, "a", 3, 1.0).identity))

    def test_one_that_is_done_again_is_wanted_no_more(self):
        repeats = self.repeats()
        first = self.judged(repeats, 1)
        again = first.model_copy(update={"run": 5, "repeat_of": 1})
        repeats.take(again)
        self.assertEqual(repeats.wanted(first.identity), 1, "it was disturbed once more")
        repeats.take(run(6, "a", 1, 1.0, repeat_of=1))
        self.assertIsNone(repeats.wanted(first.identity))

    def test_what_is_not_disturbed_for_long_counts(self):
        repeats = self.repeats(share=0.6)
        kept = self.judged(repeats)
        self.assertEqual(
            (kept.set_aside, kept.disturbed_by, kept.disturbed_share), (False, "", 0.5)
        )

    def test_where_nothing_tells_the_share_is_not_nought(self):
        repeats = self.repeats()
        quiet = seen(stolen_s=0.0)
        blind = seen(held_up_s=None, run_queue_wait_s=None, others_cpu_s=None)
        for one in (quiet, blind):
            repeats.judge(one, 0)
        self.assertEqual((quiet.disturbed_share, blind.disturbed_share), (0.0, None))

    def test_time_ends_it_and_so_do_three_times(self):
        repeats = self.repeats(planned=100, minutes=1)
        self.assertFalse(self.judged(repeats, attempt=3).set_aside)
        repeats.spend(61)
        late = self.judged(repeats, 2)
        self.assertEqual((late.set_aside, late.disturbed_by, late.counted), (False, OTHERS, True))
        self.assertEqual(repeats.patience_s, 0)

    def test_a_load_that_was_asked_for_disturbs_nobody(self):
        self.assertFalse(self.judged(self.repeats(), point={"background": "1 busy core"}).set_aside)

    def test_who_waits_in_vain_waits_less(self):
        repeats = self.repeats(wait_s=4)
        repeats.waited(4.0)
        self.assertEqual(repeats.patience_s, 2)
        repeats.waited(0.1)
        self.assertEqual(repeats.patience_s, 4)


class Quiet(unittest.TestCase):
    def test_a_busy_machine_is_seen(self):
        burner = subprocess.Popen([sys.executable, "-c", "while True: pass"])
        try:
            time.sleep(0.2)
            quiet = QuietMoment()
            self.assertFalse(any(quiet() for _ in range(3)))
        finally:
            burner.kill()
            burner.wait()


class InFindings(unittest.TestCase):
    def test_they_count_for_nothing_and_are_told(self):
        text = HEAD + approach("a", COUNTING) + approach("b", COUNTING)
        runs = [run(n, lane, n, took) for lane, took in (("a", 1.0), ("b", 2.0)) for n in (1, 2, 3)]
        odd = run(9, "a", 2, 50.0, set_aside=True, disturbed_by=HOST, disturbed_share=0.7)
        late = run(7, "b", 4, 9.0, disturbed_by=OTHERS, disturbed_share=0.2)
        found = findings(parse(text), RunSet.of([*runs, odd, late], Machine(cores=2)), {}, POINT)
        a = found.lanes[0]
        self.assertEqual((a.elapsed.count, a.elapsed.largest, len(a.runs)), (3, 1.0, 4))
        words = {c.word: c for c in found.cautions}
        self.assertIn("1 run was disturbed by the host", words["repeated runs"].reason)
        self.assertIn("1 of b's 4 counted runs", words["disturbed runs count"].reason)

    def test_cpu_time_speaks_where_elapsed_time_was_disturbed(self):
        text = HEAD + approach("a", COUNTING) + approach("b", COUNTING)
        wild = [(1.0, 3.0), (3.0, 1.0), (1.2, 2.9), (2.5, 1.1), (1.4, 2.0)]

        def told(**fields):
            runs = [
                run(10 * n + (lane == "b"), lane, n, took, cpu_user_s=cpu * (1 + n / 100),
                    cpu_system_s=0.0, **fields)
                for n, both in enumerate(wild, 1)
                for lane, took, cpu in zip("ab", both, (0.5, 1.2), strict=True)
            ]  # fmt: skip
            return findings(parse(text), RunSet.of(runs, Machine(cores=2)), {}, POINT).conclusion

        busy = told(disturbed_by=OTHERS, disturbed_share=0.5)
        self.assertRegex(busy, r"not told apart from .* By CPU time, .* a takes 2\.40 times .*less")
        self.assertNotIn("By CPU time", told())


BURNING = "while True: pass"
BURST = "import time; end = time.time() + 1.5\nwhile time.time() < end: pass"


class Real(TrialCase):
    def beside(self, program, **plan):
        """The runs of a short lane beside another program."""
        self.folder = Path(tempfile.mkdtemp(dir=self.folder))
        other = subprocess.Popen([sys.executable, "-c", program])
        trial = self.trial(HEAD + approach("a", COUNTING), **plan)
        try:
            trial.conduct()
        finally:
            other.kill()
            other.wait()
        return trial.runs

    def test_what_is_too_short_for_ticks_is_told_by_what_goes_on_around_it(self):
        alone = {"repeat": 0, "wait_s": 0}
        runs = self.beside(BURNING, rounds=3, disturbed=alone)
        for one in runs:
            self.assertLess(one.elapsed_s, SHORT_S)
            self.assertIn(one.disturbed_by, (OTHERS, HOST))
        # In a moment the host may have given the other program less.
        self.assertGreater(median(one.others_around for one in runs), 0.4)
        # Repeats that are too short together are one such part.
        [repeated] = self.beside(BURNING, min_sample_s=0.02, disturbed=alone)
        self.assertGreater(repeated.inner_repeats, 2)
        self.assertLess(repeated.elapsed_s * repeated.inner_repeats, SHORT_S)
        self.assertGreater(repeated.others_around, 0.4)
        quiet = self.beside("pass", rounds=5, disturbed=alone)
        self.assertLess(median(one.others_around for one in quiet), 0.1)

    def test_the_clock_waits_for_a_quiet_moment_for_so_long(self):
        [in_vain] = self.beside(BURNING, disturbed={"repeat": 0, "wait_s": 0.6})
        self.assertGreaterEqual(in_vain.quiet_wait_s, 0.6)
        [waited] = self.beside(BURST, disturbed={"repeat": 0, "wait_s": 60})
        self.assertLess(waited.quiet_wait_s, 50)
        self.assertEqual(waited.state, "done")

    def test_stop_is_heard_while_it_waits(self):
        trial = self.trial(HEAD + approach("a", COUNTING), disturbed={"wait_s": 600})
        waits = []

        def listen(event):
            if isinstance(event, RunStarted):
                waits.append(time.monotonic())

        trial.listen = listen
        trial.control.stop_all = lambda: bool(waits) and time.monotonic() > waits[0] + 1
        burner = subprocess.Popen([sys.executable, "-c", BURNING])
        try:
            self.assertEqual(trial.conduct().ended, "stopped")
        finally:
            burner.kill()
            burner.wait()
        self.assertEqual(trial.runs[0].state, "stopped")

    def test_a_trial_beside_a_busy_program_repeats_within_its_budget(self):
        body = "import time\nend = time.process_time() + 0.1\nwhile time.process_time() < end: pass"
        text = HEAD + approach("a", python_answer(body)) + approach("b", python_answer(body))
        plan = {"rounds": 2, "cores": 1, "disturbed": {"repeat": 0.5, "wait_s": 0}}
        trial = self.trial(text, **plan)
        burners = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(4)]
        try:
            trial.conduct()
        finally:
            for burner in burners:
                burner.kill()
                burner.wait()
        again = [one for one in trial.runs if one.set_aside]
        self.assertEqual(len(again), 2)
        self.assertEqual({one.disturbed_by for one in again} - {OTHERS, HOST}, set())
        slots = Counter((one.approach, one.round) for one in trial.runs if one.counted)
        self.assertEqual(set(slots.values()), {1})
        self.assertEqual(len(slots), 4)
        # Cut off before what was set aside was done again, it is done again now.
        file = trial.results.path / "runs.jsonl"
        lines = file.read_text().splitlines(keepends=True)
        cut = next(i for i, one in enumerate(trial.runs) if one.set_aside) + 1
        file.write_text("".join(lines[:cut]))
        trial.results.path.joinpath("findings.json").unlink()
        resumed = self.trial(text, **plan)
        resumed.conduct()
        self.assertEqual(resumed.runs[cut].repeat_of, resumed.runs[cut - 1].run)
        self.assertEqual(sum(one.counted for one in resumed.runs), 4)


if __name__ == "__main__":
    unittest.main()
