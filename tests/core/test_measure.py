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

# Burns CPU time until the process's own clock says that it is enough, and prints what the system
# counted: on a busy machine starting, switching and ending processes takes more than a little.
BURN = """
import resource

began = time.process_time()

def burn(seconds):
    end = time.process_time() + seconds
    while time.process_time() < end:
        pass

def tell(children=None):
    if children is None:
        used = resource.getrusage(resource.RUSAGE_CHILDREN)
        children = used.ru_utime + used.ru_stime
    sys.stdout.write(str(time.process_time() - began + children))
"""

# Three children tell what they used, 8 characters each, through a pipe.
HEARD = """
got = b""
while len(got) < 24:
    got += os.read(ready, 24)
tell(sum(float(got[at : at + 8]) for at in (0, 8, 16)))
"""


def cpu(run):
    return run.cpu_user_s + run.cpu_system_s


class ElapsedAndCpu(TrialCase):
    def holds(self, run, least):
        """What was counted is what the system counted, and at least what was burnt."""
        self.assertGreater(cpu(run), least - 0.01)
        self.assertAlmostEqual(cpu(run), float(run.output), delta=0.03)

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
tell()
"""
        )
        self.holds(run, 1.2)

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
            os.write(done, b"%8.4f" % time.process_time())
            os._exit(0)
        os._exit(0)
    os.wait()
"""
            + HEARD
        )
        self.holds(run, 1.2)

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
for _ in range(50):
    if not os.fork():
        burn(0.02)
        os._exit(0)
    os.wait()
tell()
"""
        )
        # What starting and ending fifty processes takes is the system's affair; that all of it
        # is counted is ours.
        self.holds(run, 1.0)

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
        os.write(done, b"%8.4f" % time.process_time())
        os._exit(0)
"""
            + HEARD
            + "time.sleep(0.1)\n"
        )
        self.assertEqual(run.cpu_method, "control group of the run")
        self.holds(run, 1.2)

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


class FilesInMemory(TrialCase):
    def test_what_lies_in_no_folder_and_is_not_mapped_counts(self):
        run = self.run_one(
            """
import os
file = os.memfd_create("held")
for _ in range(120):
    os.write(file, b"x" * 1_000_000)
time.sleep(0.2)
"""
        )
        if not run.sandboxed:
            self.skipTest("only what sandboxed runs hold is looked at")
        self.assertAlmostEqual(run.peak_above_start_bytes / 120e6, 1, delta=0.1)

    def test_it_counts_towards_the_limit(self):
        run = self.run_one(
            """
import os
file = os.memfd_create("held")
for _ in range(2000):
    os.write(file, b"x" * 1_000_000)
    time.sleep(0.001)
""",
            memory_bytes=300 * MB,
        )
        if run.sandboxed:
            self.assertEqual((run.state, run.limit.kind), ("limit", "memory"))


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

    def test_threads_have_stages_of_their_own(self):
        run = self.run_one(
            """
import threading
def work(number):
    with stage(f"part {number}"):
        time.sleep(0.3)
threads = [threading.Thread(target=work, args=(n,)) for n in range(4)]
for thread in threads:
    thread.start()
for thread in threads:
    thread.join()
with stage("alone"):
    end = time.process_time() + 0.05
    while time.process_time() < end:
        pass
"""
        )
        stages = {stage.name: stage for stage in run.stages}
        for number in range(4):
            self.assertAlmostEqual(stages[f"part {number}"].elapsed_s, 0.3, delta=0.12)
            self.assertTrue(stages[f"part {number}"].overlaps)
        self.assertFalse(stages["alone"].overlaps)
        self.assertAlmostEqual(stages["alone"].cpu_s, 0.05, delta=0.02)
        self.assertAlmostEqual(run.spans[0].start_s, run.spans[1].start_s, delta=0.1)

    def test_threads_in_one_stage_take_the_time_that_went_by(self):
        run = self.run_one(
            """
from concurrent.futures import ThreadPoolExecutor
def work(number):
    with stage("fetch"):
        time.sleep(0.2)
with ThreadPoolExecutor(4) as pool:
    list(pool.map(work, range(4)))
"""
        )
        [fetch] = run.stages
        self.assertAlmostEqual(fetch.elapsed_s, 0.2, delta=0.12)
        self.assertEqual((fetch.times, fetch.overlaps), (4, True))

    def test_tasks_and_generators(self):
        run = self.run_one(
            """
import asyncio
async def fetch(name, seconds):
    with stage(name):
        await asyncio.sleep(seconds)
async def both():
    with stage("all"):
        await asyncio.gather(fetch("one", 0.1), fetch("two", 0.2))
asyncio.run(both())
def rows():
    with stage("read"):
        for n in range(2):
            time.sleep(0.05)
            yield n
for row in rows():
    with stage("use"):
        time.sleep(0.1)
"""
        )
        took = {stage.name: stage.elapsed_s for stage in run.stages}
        for name, seconds in (("one", 0.1), ("two", 0.2), ("read", 0.1), ("use", 0.2)):
            self.assertAlmostEqual(took[name], seconds, delta=0.08, msg=name)
        self.assertAlmostEqual(took["all"], 0.0, delta=0.05)


class AfterTheAnswer(TrialCase):
    """Work that the clock would miss is done before it stops, or told."""

    def found(self, body):
        self.asked = getattr(self, "asked", 0) + 1
        text = HEAD + approach("only", python_answer(body))
        trial = self.trial(text, name=f"trial {self.asked}")
        point = trial.conduct().points[0]
        return trial.runs[0], {caution.word: caution for caution in point.cautions}

    def test_what_makes_its_rows_when_asked_is_asked_inside_the_clock(self):
        for made in ("Rows()", "slow()"):
            run, _ = self.found(
                """
def slow():
    time.sleep(0.25)
    yield {"gauge": 1, "n": 1}
class Rows:
    def __iter__(self):
        return slow()
return """
                + made
            )
            self.assertEqual((run.state, run.answer_rows), ("done", 1), run.why_in_trouble)
            self.assertGreater(run.elapsed_s, 0.24, made)

    def test_readers_and_batches_of_arrow(self):
        for answer in (
            "table.to_reader()",
            "table.to_batches()",
            "(b for b in table.to_batches())",
        ):
            run, _ = self.found(
                "import pyarrow as pa\n"
                'table = pa.table({"gauge": [1, 2], "n": [3, 4]})\n'
                f"return {answer}"
            )
            self.assertEqual((run.state, run.answer_rows), ("done", 2), run.why_in_trouble)

    def test_a_thread_or_a_child_that_works_on_is_told(self):
        _, words = self.found(
            """
import threading
def on():
    end = time.perf_counter() + 0.4
    while time.perf_counter() < end:
        pass
threading.Thread(target=on).start()
return [{"gauge": 1, "n": 1}]
"""
        )
        self.assertIn("of CPU time after it gave its answer", words["work after the answer"].reason)
        _, words = self.found(
            """
import subprocess, sys
subprocess.Popen([sys.executable, "-c", "import time; time.sleep(3)"])
return [{"gauge": 1, "n": 1}]
"""
        )
        self.assertIn("left 1 process running", words["work after the answer"].reason)
        _, words = self.found('return [{"gauge": 1, "n": 1}]')
        self.assertNotIn("work after the answer", words)

    def test_who_calls_itself_a_sandbox_is_measured_all_the_same(self):
        code = """
            import ctypes, subprocess, sys, time
            ctypes.CDLL(None).prctl(15, b"bwrap", 0, 0, 0)
            child = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(9)"])
            def answer(data, knobs, stage):
                held = bytearray(120_000_000)
                for at in range(0, len(held), 4096):
                    held[at] = 1
                return [{"gauge": 1, "n": 1}]
        """
        trial = self.trial(HEAD + approach("only", code))
        trial.conduct()
        told = [run.peak_above_start_bytes for run in trial.runs if run.peak_memory_bytes]
        self.assertTrue(told, [run.not_measured for run in trial.runs])
        self.assertGreater(max(told), 100 * MB)


if __name__ == "__main__":
    unittest.main()
