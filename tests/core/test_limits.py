"""Limits and crashes: every misdeed ends as a recorded run, and the next is clean."""

import json
import os
import signal
import subprocess
import sys
import tempfile
import textwrap
import time
import unittest
from pathlib import Path
from unittest import mock

from ivrell.core.measure import group, proc
from ivrell.core.measure.group import RunGroup
from ivrell.core.records.run import RunRecord
from ivrell.core.records.wire import LimitReached
from ivrell.core.trial import run_executor
from ivrell.core.trial.plan import Plan
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach, python_answer
from tests.support.processes import processes_with
from tests.support.waiting import wait_until

MIB = 2**20
ROOT = Path(__file__).resolve().parents[2]


def bounds_memory():
    """Whether the kernel can be asked to keep a group of processes to its memory here."""
    group = RunGroup.make(f"ivrell-{os.getpid()}-78", 5, 1 << 30)
    if group is None:
        return False
    try:
        names = ("memory.max", "memory.limit_in_bytes")
        return any((path / name).exists() for path in group._paths.values() for name in names)
    finally:
        group.remove()


class Misdeeds(TrialCase):
    """A lane that misbehaves beside one that does not, with and without a sandbox."""

    def misdeed(self, body, **limits):
        text = HEAD + approach("odd", python_answer(body)) + approach("good", COUNTING)
        name = f"trial-{len(list(self.folder.glob('trial-*')))}"
        trial = self.trial(text, name=name, rounds=1, limits={"seconds": 20, **limits})
        found = trial.conduct()
        self.kept = trial.folder
        runs = {run.approach: run for run in trial.runs}
        self.assertEqual(found.ended, "done")
        good = runs["good"]
        self.assertEqual(good.state, "done")
        self.assertLess(good.cpu_user_s + good.cpu_system_s, 0.5)
        self.assertLess(good.peak_memory_bytes - good.start_memory_bytes, 50 * MIB)
        return runs["odd"]

    def test_fork_bomb(self):
        run = self.misdeed("while True:\n    os.fork()", processes=40)
        self.assertEqual((run.state, run.limit.kind), ("limit", "processes"))

    def test_thirty_gigabytes(self):
        body = (
            "blocks = []\nfor _ in range(30_000):\n    blocks.append(bytearray(b'x') * (1 << 20))"
        )
        limit = 300 * MIB
        run = self.misdeed(body, memory_bytes=limit)
        self.assertEqual((run.state, run.limit.kind), ("limit", "memory"))
        curve = json.loads((self.kept / "curves" / f"{run.run}.json").read_text())
        self.assertLess(max(memory for _, _, memory in curve), limit + max(50 * MIB, limit // 20))

    def test_memory_of_the_whole_tree_is_bounded(self):
        body = """
        for _ in range(4):
            if not os.fork():
                block = bytearray(b'x') * (100 << 20)
                time.sleep(30)
        time.sleep(30)
        """
        run = self.misdeed(body, memory_bytes=300 * MIB)
        self.assertEqual((run.state, run.limit.kind), ("limit", "memory"))

    def test_many_processes_that_take_memory_at_once(self):
        body = """
        for _ in range(8):
            if not os.fork():
                block = bytearray(b'x') * (200 << 20)
                time.sleep(30)
        time.sleep(30)
        """
        run = self.misdeed(body, memory_bytes=300 * MIB)
        self.assertEqual((run.state, run.limit.kind), ("limit", "memory"))

    @unittest.skipUnless(bounds_memory(), "the system has no memory groups for this account")
    def test_the_kernel_keeps_a_run_to_its_memory(self):
        # A child that the kernel ends is the limit reached, though its parent goes on.
        body = """
        if not os.fork():
            block = bytearray(b'x') * (400 << 20)
            time.sleep(30)
        os.wait()
        """
        group = RunGroup.make(f"ivrell-{os.getpid()}-77", 50, 100 * MIB)
        self.addCleanup(group.remove)
        self.assertFalse(group.out_of_memory())
        done = subprocess.run(
            [sys.executable, "-c", "import os, time" + textwrap.dedent(body)],
            preexec_fn=group.join, timeout=60,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0)
        self.assertTrue(group.out_of_memory())

    def test_shared_pages_of_children_do_not_count_again(self):
        body = """
        block = bytearray(b'x') * (150 << 20)
        for _ in range(4):
            if not os.fork():
                time.sleep(0.5)
                os._exit(0)
        time.sleep(1)
        """
        run = self.misdeed(body, memory_bytes=1000 * MIB)
        self.assertEqual(run.state, "done")

    def test_endless_loop_by_elapsed_and_by_cpu_time(self):
        run = self.misdeed("while True: pass", seconds=0.5)
        self.assertEqual(run.limit, LimitReached("elapsed", 0.5))
        self.assertGreaterEqual(run.elapsed_at_least_s, 0.5)
        run = self.misdeed("while True: pass", cpu_seconds=0.4)
        self.assertEqual(run.limit, LimitReached("CPU time", 0.4))

    def test_signals_ignored_and_children_in_sessions_of_their_own(self):
        mark = f"ivrell-mark-{os.getpid()}-{time.monotonic_ns()}"
        body = f"""
        import signal
        for number in range(1, 32):
            try:
                signal.signal(number, signal.SIG_IGN)
            except OSError:
                pass
        for _ in range(3):
            if not os.fork():
                os.setsid()
                if not os.fork():
                    os.execv(sys.executable, [sys.executable, "-c",
                             "import time; time.sleep(60)", "{mark}"])
                os._exit(0)
        time.sleep(60)
        """
        run = self.misdeed(body, seconds=1)
        self.assertEqual(run.limit.kind, "elapsed")
        self.assertEqual(processes_with(mark), [])

    def test_one_large_file_and_many_small_ones(self):
        one = "with open('big', 'wb') as f:\n    while True:\n        f.write(bytes(1 << 20))"
        run = self.misdeed(one, written_bytes=30 * MIB)
        self.assertIn(run.state, ("limit", "failed"))
        self.assertLessEqual(run.left_bytes, 31 * MIB)
        many = """
        number = 0
        while True:
            number += 1
            with open(f"small{number}", "wb") as f:
                f.write(bytes(1 << 20))
            time.sleep(0.002)
        """
        run = self.misdeed(many, written_bytes=30 * MIB)
        self.assertEqual((run.state, run.limit.kind), ("limit", "written"))

    def test_every_descriptor_closed(self):
        run = self.misdeed("os.closerange(0, 1000)")
        self.assertEqual(run.state, "failed")

    def test_its_parent_killed(self):
        run = self.misdeed("os.kill(os.getppid(), 9)\ntime.sleep(1)")
        self.assertIn(run.state, ("failed", "done"))

    def test_everything_it_can_see_killed(self):
        if run_executor.why_not() is not None:
            self.skipTest("without a sandbox this would end more than the run")
        run = self.misdeed("os.kill(-1, 9)\ntime.sleep(1)")
        self.assertIn(run.state, ("failed", "done"))


class MisdeedsWithoutSandbox(Misdeeds):
    def setUp(self):
        super().setUp()
        patched = mock.patch.object(run_executor, "why_not", lambda: "not wanted here")
        patched.start()
        self.addCleanup(patched.stop)

    def test_its_parent_killed(self):
        run = self.misdeed("os.kill(os.getppid(), 9)\ntime.sleep(1)")
        self.assertEqual(run.state, "failed")
        self.assertEqual(run.error.kind, "took its watcher down")
        self.assertFalse(run.sandboxed)


class CrashSafety(TrialCase):
    """Killed at any moment, a trial loses at most the run in flight."""

    TEXT = HEAD + approach("slow", python_answer("time.sleep(0.15)")) + approach("good", COUNTING)

    def conductor(self):
        script = (
            "import sys; from pathlib import Path; sys.path[:0] = sys.argv[1:3]\n"
            "from tests.core.test_limits import CrashSafety\n"
            "from ivrell.core.trial.conduct import Trial\n"
            "from ivrell.core.trial.plan import Plan\n"
            "from ivrell.core.recipe.store import DataStore\n"
            "from tests.support.comparisons import UNDISTURBED\n"
            "folder = Path(sys.argv[3])\n"
            "plan = Plan(rounds=8, disturbed=UNDISTURBED)\n"
            "Trial(CrashSafety.TEXT, plan, folder / 'trial',"
            " DataStore(folder / 'made'), data_workers=1).conduct()"
        )
        where = [str(ROOT), str(ROOT / "src"), str(self.folder)]
        return subprocess.Popen([sys.executable, "-c", script, *where])

    def wait_for_runs(self, process, count):
        path = self.folder / "trial" / "runs.jsonl"

        def got_there():
            self.assertIsNone(process.poll(), "the trial did not get that far")
            return path.exists() and path.read_text().count("\n") >= count

        wait_until(got_there)

    def test_the_conductor_killed(self):
        process = self.conductor()
        self.wait_for_runs(process, 5)
        process.send_signal(signal.SIGKILL)
        process.wait()
        runner = str(self.folder / "trial" / "journal.jsonl")
        wait_until(lambda: not processes_with(runner))
        before = [RunRecord.model_validate_json(line) for line in self.lines()]
        trial = self.trial(self.TEXT, rounds=8, warm_ups=1)
        found = trial.conduct()
        self.assertEqual(found.ended, "done")
        self.assertEqual([run.run for run in trial.runs], list(range(1, 19)))
        self.assertEqual(trial.runs[: len(before)], before)
        planned = attempt_order(trial.comparison, Plan(rounds=8))
        self.assertEqual([run.identity for run in trial.runs], [p.identity for p in planned])

    def lines(self):
        return (self.folder / "trial" / "runs.jsonl").read_text().splitlines()

    def until_it_has_a_child(self, pid):
        deadline = time.monotonic() + 10
        while not proc.children(pid) and time.monotonic() < deadline:
            time.sleep(0.005)

    def test_worker_and_runner_killed(self):
        process = self.conductor()
        self.wait_for_runs(process, 3)
        journal = str(self.folder / "trial" / "journal.jsonl")
        runner = next(pid for pid in processes_with(journal) if pid != process.pid)
        self.until_it_has_a_child(runner)
        for pid in proc.descendants(runner):
            os.kill(pid, signal.SIGKILL)
        self.wait_for_runs(process, 6)
        os.kill(runner, signal.SIGKILL)
        self.assertEqual(process.wait(90), 0)
        runs = [RunRecord.model_validate_json(line) for line in self.lines()]
        self.assertEqual([run.run for run in runs], list(range(1, 19)))
        lost = [run for run in runs if run.state != "done"]
        self.assertGreaterEqual(len(lost), 1)
        self.assertLessEqual(len(lost), 2)
        for folder in group._own_groups().values():
            left = [path for path in folder.glob("ivrell-*-*")
                    if not Path(f"/proc/{path.name.split('-')[1]}").exists()]  # fmt: skip
            self.assertEqual(left, [])


def attempt_order(comparison, plan):
    from ivrell.core.trial.plan import ordered_runs

    return ordered_runs(comparison, plan)


class VersionOneGroups(unittest.TestCase):
    def test_cpuacct_counts_where_there_is_no_version_two(self):
        own = {kind: path for kind, path in group._own_groups().items() if kind}
        with mock.patch.object(group, "_own_groups", lambda: own):
            made = RunGroup.make(f"ivrell-{os.getpid()}-1")
            if made is None:
                self.skipTest("no groups of version 1 can be made here")
            self.addCleanup(made.remove)
            self.assertIsNone(made.stalled())
            process = subprocess.Popen(
                [sys.executable, "-c", "import time; e = time.process_time() + 0.3\n"
                 "while time.process_time() < e: pass"],
                preexec_fn=made.join,
            )  # fmt: skip
            process.wait()
            self.assertAlmostEqual(made.cpu().total, 0.32, delta=0.06)


class LeftBehind(TrialCase):
    def test_thousands_of_nested_folders_stop_nobody(self):
        deep = """
            import os
            def answer(data, knobs, stage):
                for _ in range(4000):
                    os.mkdir("d")
                    os.chdir("d")
                return [{"gauge": 1, "n": 1}]
        """
        text = HEAD + approach("deep", deep) + approach("good", COUNTING)
        for number in range(2):
            trial = self.trial(text, name=f"trial {number}", rounds=2)
            trial.conduct()
            states = {run.approach: run.state for run in trial.runs}
            self.assertEqual(states, {"deep": "done", "good": "done"})
        left = list(Path(tempfile.gettempdir()).glob(f"ivrell-run-{os.getpid()}-*"))
        self.assertEqual(left, [])

    def test_files_count_whatever_they_are_called_and_once(self):
        run = self.run_one(
            """
import os
for name in (".job-of-mine", ".answer-of-mine", "plain"):
    with open(name, "wb") as file:
        file.write(b"x" * 100_000)
os.link("plain", "again")
os.makedirs("below")
os.rename(".job-of-mine", "below/.job")
"""
        )
        self.assertEqual(run.left_bytes, 300_000)

    def test_no_name_hides_what_is_written_from_the_limit(self):
        for name in (".job-of-mine", ".answer.of-mine", ".approach/mine", "plain"):
            body = f"""
                import time
                os.makedirs(os.path.dirname({name!r}) or ".", exist_ok=True)
                for number in range(40):
                    with open({name!r} + str(number), "wb") as file:
                        file.write(b"x" * (1 << 20))
                time.sleep(2)
            """
            with self.subTest(name):
                text = HEAD + approach("one", python_answer(body))
                trial = self.trial(text, name=name[-4:], limits={"written_bytes": 30 << 20})
                trial.conduct()
                run = trial.runs[0]
                self.assertEqual((run.state, run.limit and run.limit.kind), ("limit", "written"))


if __name__ == "__main__":
    unittest.main()
