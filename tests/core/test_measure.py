"""Figures against programs whose truth is known."""

import subprocess
import sys
import time
import unittest
from pathlib import Path

from ivrell.core.measure import group as group_module
from ivrell.core.measure import proportional
from ivrell.core.measure.group import RunGroup
from ivrell.core.results.folder import ResultFolder
from tests.support.comparisons import HEAD, TrialCase, approach, python_answer

MB = 1_000_000

# Burns CPU time until the process's own clock says that it is enough.
BURN = """
def burn(seconds):
    end = time.process_time() + seconds
    while time.process_time() < end:
        pass
"""


def cpu(run):
    return run.cpu_user_s + run.cpu_system_s


class ElapsedAndCpu(TrialCase):
    def test_sleep_takes_time_but_no_cpu(self):
        run = self.run_one("time.sleep(0.5)")
        self.assertEqual(run.state, "done")
        self.assertGreaterEqual(run.elapsed_s, 0.5)
        self.assertLess(run.elapsed_s, 0.6)
        self.assertLess(cpu(run), 0.02)

    def test_one_process(self):
        run = self.run_one(BURN + "burn(1.0)")
        self.assertAlmostEqual(cpu(run), 1.0, delta=0.05)
        self.assertLessEqual(cpu(run) / run.elapsed_s, 1.02)

    def test_three_children_that_are_waited_for(self):
        run = self.run_one(
            BURN
            + """
children = []
for _ in range(3):
    pid = os.fork()
    if not pid:
        burn(0.4)
        os._exit(0)
    children.append(pid)
for pid in children:
    os.waitpid(pid, 0)
"""
        )
        self.assertAlmostEqual(cpu(run), 1.2, delta=0.06)

    def test_three_orphans_that_nobody_waits_for(self):
        # Each burner's parent ends at once, so the burner is adopted by the runner.
        run = self.run_one(
            BURN
            + """
ready, done = os.pipe()
for _ in range(3):
    if not os.fork():
        if not os.fork():
            os.close(ready)
            burn(0.4)
            os.write(done, b"x")
            os._exit(0)
        os._exit(0)
    os.wait()
got = b""
while len(got) < 3:
    got += os.read(ready, 3)
"""
        )
        self.assertAlmostEqual(cpu(run), 1.2, delta=0.06)

    def test_children_that_still_live_at_the_end_are_counted_until_then(self):
        run = self.run_one(
            BURN
            + """
ready, done = os.pipe()
if not os.fork():
    burn(0.5)
    os.write(done, b"x")
    time.sleep(30)
os.read(ready, 1)
"""
        )
        self.assertEqual(run.state, "done")
        self.assertAlmostEqual(cpu(run), 0.5, delta=0.04)

    def test_fifty_short_children(self):
        run = self.run_one(
            BURN
            + """
import resource
began = time.process_time()
for _ in range(50):
    if not os.fork():
        burn(0.02)
        os._exit(0)
    os.wait()
used = resource.getrusage(resource.RUSAGE_CHILDREN)
sys.stdout.write(str(time.process_time() - began + used.ru_utime + used.ru_stime))
"""
        )
        # What starting and ending fifty processes takes is the system's affair; that all of it
        # is counted is ours.
        self.assertGreater(cpu(run), 1.0)
        self.assertAlmostEqual(cpu(run), float(run.output), delta=0.03)

    def test_children_whose_end_is_ignored(self):
        group = RunGroup.make("ivrell-test")
        if group is None:
            self.skipTest("control groups cannot be made here")
        group.remove()
        run = self.run_one(
            BURN
            + """
import signal
signal.signal(signal.SIGCHLD, signal.SIG_IGN)
ready, done = os.pipe()
for _ in range(3):
    if not os.fork():
        burn(0.4)
        os.write(done, b"x")
        os._exit(0)
got = b""
while len(got) < 3:
    got += os.read(ready, 3)
time.sleep(0.1)
"""
        )
        self.assertEqual(run.cpu_method, "control group of the run")
        self.assertAlmostEqual(cpu(run), 1.2, delta=0.06)

    def test_no_control_group_stays_behind(self):
        own = group_module._own_groups()
        if RunGroup.make("ivrell-999999999-1", 5) is None:
            self.skipTest("control groups cannot be made here")
        # The one made above stands for a runner that died; the next runner sweeps it away.
        self.run_one("pass")
        left = {path.name for folder in own.values() for path in folder.glob("ivrell-*-*")}
        self.assertNotIn("ivrell-999999999-1", left)
        alive = {name for name in left if Path(f"/proc/{name.split('-')[1]}").exists()}
        self.assertEqual(left, alive)

    def test_what_was_used_before_the_clock_started_is_left_out(self):
        trial_code = (
            "import time\n"
            "end = time.process_time() + 0.5\n"
            "while time.process_time() < end: pass\n"
            "def answer(data, knobs, stage):\n    return [{'gauge': 'Ash', 'n': 1}]\n"
        )
        trial = self.trial(HEAD + approach("only", trial_code))
        trial.conduct()
        self.assertLess(cpu(trial.runs[0]), 0.02)
        self.assertGreater(trial.runs[0].start_s, 0.4)

    def test_user_and_system_are_told_apart(self):
        run = self.run_one(
            """
end = time.process_time() + 0.5
with open("/dev/zero", "rb", buffering=0) as zeros:
    while time.process_time() < end:
        zeros.read(1 << 22)
"""
        )
        self.assertGreater(run.cpu_system_s, run.cpu_user_s)


class Memory(TrialCase):
    def above_start(self, run):
        return run.peak_memory_bytes - run.start_memory_bytes

    def test_300_mb_held(self):
        run = self.run_one("held = bytearray(300_000_000)\ntime.sleep(0.1)")
        self.assertAlmostEqual(self.above_start(run), 300 * MB, delta=15 * MB)
        self.assertEqual(run.memory_method, "kernel high-water mark")

    def test_spike_shorter_than_a_sample_is_caught(self):
        run = self.run_one("held = bytearray(200_000_000)\ndel held")
        self.assertAlmostEqual(self.above_start(run), 200 * MB, delta=10 * MB)

    def test_memory_held_before_the_start_is_not_above_it(self):
        code = (
            "import time\nheld = bytearray(200_000_000)\n"
            "def answer(data, knobs, stage):\n    time.sleep(0.1)\n"
            "    return [{'gauge': 'Ash', 'n': 1}]\n"
        )
        trial = self.trial(HEAD + approach("only", code))
        trial.conduct()
        run = trial.runs[0]
        self.assertLess(self.above_start(run), 5 * MB)
        self.assertGreater(run.start_memory_bytes, 200 * MB)

    def seen_closely(self, body):
        """What the lane's memory run says, and the lane's findings."""
        trial = self.trial(HEAD + approach("only", python_answer(body)), rounds=2)
        lane = trial.conduct().points[0].lanes[0]
        (closely,) = [run for run in trial.runs if run.memory_run]
        counted = [run for run in trial.runs if not run.memory_run]
        self.assertEqual(len(counted), 2)
        for run in counted:
            self.assertIsNone(run.peak_memory_bytes)
            self.assertIn("share memory", run.not_measured["peak_memory_bytes"])
        self.assertEqual(lane.memory_run, closely.run)
        self.assertEqual(lane.peak_memory.median, self.above_start(closely))
        self.assertEqual(lane.elapsed.count, 2)
        self.assertIn("proportional", closely.memory_method)
        return self.above_start(closely)

    def test_children_are_summed(self):
        above = self.seen_closely(
            """
for _ in range(2):
    if not os.fork():
        held = bytearray(100_000_000)
        time.sleep(0.6)
        os._exit(0)
for _ in range(2):
    os.wait()
"""
        )
        self.assertAlmostEqual(above, 200 * MB, delta=0.06 * 200 * MB)

    def test_pages_shared_by_fork_count_once(self):
        above = self.seen_closely(
            """
shared = bytearray(os.urandom(1000)) * 150_000
for _ in range(3):
    if not os.fork():
        own = bytearray(50_000_000)
        time.sleep(0.5)
        os._exit(0)
for _ in range(3):
    os.wait()
"""
        )
        self.assertAlmostEqual(above, 300 * MB, delta=0.06 * 300 * MB)

    def test_peaks_of_children_that_last_130_ms(self):
        above = self.seen_closely(
            """
for _ in range(2):
    if not os.fork():
        held = bytearray(100_000_000)
        time.sleep(0.13)
        del held
        os._exit(0)
for _ in range(2):
    os.wait()
"""
        )
        self.assertAlmostEqual(above, 200 * MB, delta=0.06 * 200 * MB)

    def test_processes_held_still_one_by_one_where_no_group_can(self):
        with subprocess.Popen(
            [sys.executable, "-c", "import sys; sys.stdin.read()"], stdin=subprocess.PIPE
        ) as child:
            time.sleep(0.2)
            alone = proportional.sum_of([child.pid], None)
            self.assertGreater(alone, 1 * MB)
            self.assertNotIn("T", Path(f"/proc/{child.pid}/stat").read_text().split()[2])
            child.stdin.close()

    def test_curve_follows_the_run(self):
        trial_run = self.run_one("time.sleep(0.3)\nheld = bytearray(100_000_000)\ntime.sleep(0.3)")
        curve = ResultFolder(self.folder / "trial").curve(trial_run.run)
        start = trial_run.start_memory_bytes
        early = [m - start for t, _, m in curve if t < 0.25]
        late = [m - start for t, _, m in curve if 0.45 < t < 0.58]
        self.assertLess(max(early), 10 * MB)
        self.assertGreater(min(late), 90 * MB)


class Stages(TrialCase):
    def test_stages_have_their_own_time_only(self):
        run = self.run_one(
            """
with stage("outer"):
    time.sleep(0.1)
    with stage("inner"):
        time.sleep(0.2)
with stage("inner"):
    time.sleep(0.1)
"""
        )
        stages = {stage.name: stage for stage in run.stages}
        self.assertAlmostEqual(stages["outer"].elapsed_s, 0.1, delta=0.05)
        self.assertAlmostEqual(stages["inner"].elapsed_s, 0.3, delta=0.05)
        self.assertEqual(stages["inner"].times, 2)
        self.assertLessEqual(sum(s.elapsed_s for s in run.stages), run.elapsed_s)


if __name__ == "__main__":
    unittest.main()
