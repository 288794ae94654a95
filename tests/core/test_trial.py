"""A trial from end to end: order, limits, trouble, stops, what is left on disk."""

import json
import math
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from collections import Counter
from itertools import pairwise
from pathlib import Path
from random import Random
from unittest import mock

import pyarrow.parquet

from ivrell.core.base.errors import BadInput
from ivrell.core.base.json_lines import as_line, whole_lines
from ivrell.core.base.locks import FileLock
from ivrell.core.measure import proc
from ivrell.core.records.events import RunEnded, RunStarted
from ivrell.core.records.run import RunRecord
from ivrell.core.records.wire import Job, LimitReached, Order, RunSpec
from ivrell.core.report.words import ratio_told
from ivrell.core.results.folder import FINDINGS
from ivrell.core.run.launch import Runner, RunnerGone
from ivrell.core.trial.control import NoControl
from ivrell.core.trial.plan import Plan, Rotation, ordered_runs
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach, python_answer
from tests.support.processes import processes_with
from tests.support.waiting import PATIENCE_S

GOOD = approach("good", COUNTING)


class Whole(TrialCase):
    def test_result_folder_holds_everything(self):
        query = approach("sql", "SELECT gauge, count(*) AS n FROM readings GROUP BY 1", "duckdb")
        trial = self.trial(HEAD + GOOD + query, rounds=2, warm_ups=1)
        found = trial.conduct()
        folder = trial.folder
        self.assertEqual((folder / "comparison.toml").read_text(), trial.text)
        runs = trial.results.runs()
        self.assertEqual(runs, trial.runs)
        self.assertEqual(len(runs), 6)
        self.assertEqual([run.warm_up for run in runs], [True] * 2 + [False] * 4)
        self.assertEqual({run.state for run in runs}, {"done"})
        curves = pyarrow.parquet.read_table(folder / "curves.parquet")
        self.assertEqual(curves.column_names, ["run", "t_s", "cpu_s", "memory_bytes"])
        self.assertIn("duckdb", trial.results.sessions()[0].machine.engines["duckdb"].versions)
        point = found.points[0]
        self.assertEqual(len(point.ranking), 2)
        for lane in point.lanes:
            self.assertEqual(lane.elapsed.count, 2)
            self.assertTrue(lane.agreement.agrees)
        self.assertEqual(trial.results.read(FINDINGS), found)
        events = (folder / "journal.jsonl").read_text().splitlines()
        self.assertEqual(sum('"ended"' in line for line in events), 6)

    def test_every_point_is_run(self):
        trial = self.trial(HEAD + GOOD, knobs={"rows": [10, 20]})
        found = trial.conduct()
        self.assertEqual([point.point["rows"] for point in found.points], [10, 20])
        answers = {run.point["rows"]: run.answer_rows for run in trial.runs}
        self.assertEqual(set(answers), {10, 20})

    def test_a_trial_cut_off_goes_on_with_what_is_left(self):
        trial = self.trial(HEAD + GOOD, rounds=3)
        trial.conduct()
        lines = (trial.folder / "runs.jsonl").read_text().splitlines(keepends=True)
        (trial.folder / "runs.jsonl").write_text(lines[0] + lines[1][:40])
        again = self.trial(HEAD + GOOD, rounds=3)
        found = again.conduct()
        self.assertEqual([run.run for run in again.runs], [1, 2, 3])
        self.assertEqual(RunRecord.model_validate_json(lines[0]), again.runs[0])
        self.assertEqual(found.points[0].lanes[0].elapsed.count, 3)


class OrderOfRuns(TrialCase):
    def test_every_round_holds_every_lane_in_an_order_set_by_the_seed(self):
        text = HEAD + "".join(approach(f"lane{i}", COUNTING) for i in range(6))
        comparison = self.trial(text).comparison

        def order(seed):
            plan = Plan(rounds=4, warm_ups=1, order_seed=seed)
            return [(run.round, run.approach) for run in ordered_runs(comparison, plan)]

        self.assertEqual(order(3), order(3))
        self.assertNotEqual(order(3), order(4))
        rounds = [[lane for r, lane in order(3) if r == n] for n in range(5)]
        self.assertEqual({tuple(sorted(r)) for r in rounds}, {tuple(sorted(rounds[0]))})
        self.assertGreater(len({tuple(r) for r in rounds}), 1)

    def test_orders_are_balanced_for_place_and_for_what_comes_before(self):
        for count in (1, 2, 3, 4, 5, 8):
            whole = count if count % 2 == 0 else 2 * count
            rotation = Rotation(count, Random(5))
            orders = [rotation.next() for _ in range(whole)]
            for place in range(count):
                there = Counter(order[place] for order in orders)
                self.assertEqual(set(there.values()), {whole // count}, (count, place))
            follows = Counter(pair for order in orders for pair in pairwise(order))
            self.assertLessEqual(len(set(follows.values())), 1, count)
            self.assertEqual(len(follows), count * (count - 1))
            # Even where rounds are few: two of two lanes begin with each once.
            self.assertEqual(len({order[0] for order in orders[:count]}), count)
        self.assertNotEqual(*(Rotation(6, Random(seed)).next() for seed in (1, 2)))

    def test_unknown_lane_and_no_lane(self):
        with self.assertRaisesRegex(BadInput, 'no approach "other".*good'):
            self.trial(HEAD + GOOD, lanes=["other"])
        with self.assertRaisesRegex(BadInput, "no approach to run"):
            self.trial(HEAD)


class Trouble(TrialCase):
    """One lane goes wrong: it is told where and why, and the others go on."""

    def trouble(self, code, engine="python", **limits):
        text = HEAD + GOOD + approach("odd", code, engine)
        trial = self.trial(text, rounds=2, limits=limits)
        found = trial.conduct()
        good = [run for run in trial.runs if run.approach == "good"]
        self.assertEqual([run.state for run in good], ["done", "done"])
        odd = [run for run in trial.runs if run.approach == "odd"]
        lane = found.points[0].lanes[1]
        return odd, lane, found.points[0]

    def test_python_error_names_its_line(self):
        code = "def answer(data, knobs, stage):\n    x = 1\n    return x / 0\n"
        odd, lane, point = self.trouble(code)
        self.assertEqual(odd[0].error.kind, "ZeroDivisionError")
        self.assertEqual(odd[0].error.line, 3)
        self.assertIn("x / 0", odd[0].error.trace)
        self.assertNotIn("worker/main.py", odd[0].error.trace)
        self.assertEqual(lane.state, "failed")
        self.assertEqual(point.ranking[-1], "odd")
        self.assertIn("failed", {caution.word for caution in point.cautions})

    def test_error_while_preparing(self):
        odd, _, _ = self.trouble("import a_library_nobody_has\n")
        self.assertEqual(odd[0].error.kind, "ModuleNotFoundError")
        self.assertIsNone(odd[0].elapsed_s)
        self.assertIn("elapsed_s", odd[0].not_measured)

    def test_sql_error_names_its_line(self):
        sql = "SELECT gauge,\n       count(*) AS n,\n       wrong\nFROM readings GROUP BY 1"
        odd, _, _ = self.trouble(sql, "duckdb")
        self.assertEqual(odd[0].error.line, 3)
        self.assertIn("wrong", odd[0].error.message)

    def test_no_answer(self):
        odd, _, _ = self.trouble("def answer(data, knobs, stage):\n    pass\n")
        self.assertIn("returned nothing", odd[0].error.message)

    def test_answer_that_is_no_table(self):
        odd, _, _ = self.trouble("def answer(data, knobs, stage):\n    return 42\n")
        self.assertIn("(of type int) could not be made into a table", odd[0].error.message)

    def test_no_function(self):
        odd, _, _ = self.trouble("x = 1\n")
        self.assertIn("answer(data, knobs, stage)", odd[0].error.message)

    def test_unknown_table_names_those_there_are(self):
        odd, _, _ = self.trouble("def answer(data, knobs, stage):\n    return data.reedings\n")
        self.assertIn("there are: readings", odd[0].error.message)

    def test_process_that_kills_itself(self):
        odd, _, _ = self.trouble(python_answer("os.kill(os.getpid(), 9)"))
        self.assertIn("SIGKILL", odd[0].error.message)

    def test_never_ends(self):
        odd, lane, point = self.trouble(python_answer("time.sleep(600)"), seconds=0.5)
        self.assertEqual(len(odd), 1, "a lane at its limit is not run again")
        self.assertEqual(odd[0].limit, LimitReached("elapsed", 0.5))
        self.assertGreaterEqual(odd[0].elapsed_at_least_s, 0.5)
        self.assertEqual(lane.trouble, "did not finish in 0.5 s")
        self.assertIn("limit reached", {caution.word for caution in point.cautions})

    def test_takes_too_much_memory(self):
        code = python_answer("held = []\nwhile True:\n    held.append(bytearray(10_000_000))")
        odd, lane, _ = self.trouble(code, memory_bytes=200_000_000)
        self.assertEqual(odd[0].limit.kind, "memory")
        self.assertIn("200 MB", lane.trouble)

    def test_prints_a_gigabyte(self):
        code = python_answer("for _ in range(1024):\n    sys.stdout.write('x' * (1 << 20))")
        odd, lane, _ = self.trouble(code, output_bytes=4 << 20)
        self.assertEqual(odd[0].limit.kind, "output")
        self.assertLess(len(odd[0].output), 100_000)
        self.assertIn("left out", odd[0].output)
        self.assertIn("printed more than", lane.trouble)

    def test_what_is_printed_is_kept(self):
        code = python_answer("print('the gauge at Elm is stuck')\nsys.stderr.write('so it is')")
        odd, _, _ = self.trouble(code)
        self.assertIn("stuck", odd[0].output)
        self.assertIn("so it is", odd[0].output)

    def test_children_in_sessions_of_their_own_are_ended_with_the_run(self):
        mark = f"ivrell-straggler-{os.getpid()}"
        code = python_answer(
            f"""
import subprocess
for _ in range(3):
    subprocess.Popen([sys.executable, "-c", "import time; time.sleep(300)", "{mark}"],
                     start_new_session=True)
time.sleep(300)
"""
        )
        odd, _, _ = self.trouble(code, seconds=1)
        self.assertEqual(odd[0].state, "limit")
        self.assertEqual(processes_with(mark), [])

    def test_children_left_by_a_run_that_ended_well_are_ended_too(self):
        mark = f"ivrell-left-{os.getpid()}"
        code = python_answer(
            f"""
import subprocess
subprocess.Popen([sys.executable, "-c", "import time; time.sleep(300)", "{mark}"],
                 start_new_session=True)
"""
        )
        odd, _, _ = self.trouble(code)
        self.assertEqual(odd[0].state, "done")
        self.assertEqual(processes_with(mark), [])

    def test_environment_is_scrubbed(self):
        os.environ["IVRELL_SECRET_KEY"] = "not for approaches"
        self.addCleanup(os.environ.pop, "IVRELL_SECRET_KEY")
        code = python_answer("print(sorted(os.environ), os.getcwd())")
        odd, _, _ = self.trouble(code)
        self.assertNotIn("IVRELL", odd[0].output)
        self.assertIn("ivrell-run-", odd[0].output)

    def test_files_left_behind_are_counted(self):
        odd, _, _ = self.trouble(python_answer("open('left.bin', 'wb').write(bytes(5000))"))
        self.assertEqual(odd[0].left_bytes, 5000)


class Stopping(TrialCase):
    def test_stop_all_keeps_what_was_done(self):
        text = HEAD + GOOD + approach("slow", python_answer("time.sleep(60)"))
        trial = self.trial(text, rounds=5)
        trial.control = asker = Asker()

        def listen(event):
            if isinstance(event, RunStarted) and event.approach == "slow":
                asker.ask()

        trial.listen = listen
        found = trial.conduct()
        self.assertLess(time.monotonic() - asker.asked_at, 20)
        self.assertEqual(found.ended, "stopped")
        self.assertIn("stopped", {run.state for run in trial.runs})
        self.assertTrue((trial.folder / "findings.json").exists())

    def test_a_runner_that_ended_between_runs_is_replaced_and_nobody_blamed(self):
        trial = self.trial(HEAD + GOOD, rounds=3)
        killed = []

        def listen(event):
            if isinstance(event, RunEnded) and not killed:
                watching = processes_with("run/runner/main.py")
                [runner] = set(watching) & set(proc.children(os.getpid()))
                os.kill(runner, signal.SIGKILL)
                killed.append(runner)
                self.wait_for(lambda: proc.read(f"/proc/{runner}/cmdline") == "")

        trial.listen = listen
        trial.conduct()
        self.assertTrue(killed)
        self.assertEqual([run.state for run in trial.runs], ["done"] * 3)

    def test_a_runner_that_ends_as_it_is_asked_for_a_run_blames_nobody(self):
        killed = []

        def dies(runner, message):
            if "order" in message and not killed:
                killed.append(runner.pid)
                os.kill(runner.pid, signal.SIGSTOP)
                said(runner, message)
                os.kill(runner.pid, signal.SIGKILL)
            else:
                said(runner, message)

        said = Runner._say
        with mock.patch.object(Runner, "_say", dies):
            trial = self.trial(HEAD + GOOD, rounds=2)
            trial.conduct()
        self.assertTrue(killed)
        self.assertEqual([run.state for run in trial.runs], ["done"] * 2)

    def test_runner_ends_the_run_when_its_conductor_is_gone(self):
        mark = f"ivrell-orphan-{os.getpid()}"
        spec = self.spec(python_answer(f"print('{mark}')\nos.execvp('sleep', ['{mark}', '300'])"))
        runner = Runner(self.folder / "journal.jsonl")
        runner._say(spec.as_json())
        self.wait_for(lambda: processes_with(mark))
        runner._process.stdin.close()
        runner._process.wait(10)
        runner._process.stdout.close()
        self.wait_for(lambda: not processes_with(mark))

    def test_death_of_the_runner_is_noticed_and_takes_the_worker_along(self):
        mark = f"ivrell-worker-{os.getpid()}"
        runner = Runner(self.folder / "journal.jsonl")
        self.addCleanup(runner.close)
        spec = self.spec(python_answer(f"os.execvp('sleep', ['{mark}', '300'])"))

        def kill():
            if processes_with(mark):
                os.kill(runner.pid, signal.SIGKILL)
            return False

        with self.assertRaises(RunnerGone):
            list(runner.events(spec, kill))
        self.wait_for(lambda: not processes_with(mark))

    def spec(self, code):
        from ivrell.core.contain.environment import scrubbed_environment
        from ivrell.core.trial.plan import Limits

        folder = self.folder / "run"
        folder.mkdir()
        approach = {"id": "x", "engine": "python", "code": code, "input": "csv"}
        return RunSpec(
            run=1,
            interpreter=sys.executable,
            environment=scrubbed_environment(folder),
            limits=Limits().for_run(),
            cores=None,
            background="quiet",
            walls=None,
            memory_alone=False,
            restores=False,
            server=None,
            patience_s=0.0,
            order=Order(Job(approach, {}, "csv", {}, folder)),
        )

    def wait_for(self, condition, seconds=PATIENCE_S):
        deadline = time.monotonic() + seconds
        while not condition():
            self.assertLess(time.monotonic(), deadline, "waited in vain")
            time.sleep(0.05)


class Asker(NoControl):
    """Asks to stop everything, a moment after it is told to ask."""

    asked_at = math.inf

    def ask(self):
        self.asked_at = time.monotonic() + 0.3

    def stop_all(self):
        return time.monotonic() > self.asked_at


class EarlierVersions(TrialCase):
    """Result folders that were made before some fields came."""

    NEW = ("memory_run", "several_processes", "tables_s", "spent_s")

    def test_one_is_gone_on_with_and_judged_again(self):
        text = HEAD + approach("good", COUNTING) + approach("wrong", "def answer(d, k, s): 1 / 0")
        trial = self.trial(text, rounds=3)
        trial.conduct()
        path = trial.folder / "runs.jsonl"
        runs = whole_lines(path)[:3]
        for run in runs:
            for name in self.NEW:
                del run[name]
            (run["error"] or {}).pop("printed", None)
            run["core_wait_s"] = run.pop("run_queue_wait_s")
        path.write_text("".join(map(as_line, runs)))
        [session] = json.loads((trial.folder / "sessions.json").read_text())
        (trial.folder / "sessions.json").unlink()
        machine = session["machine"] | {"runtimes": {"other": "CPython 3.9.1"}}
        (trial.folder / "machine.json").write_text(json.dumps(machine))
        judged = self.trial(text, rounds=3).judge_again("good")
        self.assertTrue(judged.points[0].lanes[0].agreement.agrees)
        found = self.trial(text, rounds=3).conduct()
        self.assertEqual(found.points[0].lanes[0].elapsed.count, 3)


class RecordsOnDisk(TrialCase):
    def test_marks_that_some_take_for_ends_of_lines_may_be_printed(self):
        text = HEAD + approach("good", python_answer("print('one\\u2028two\\x85three')"))
        trial = self.trial(text, rounds=2)
        trial.conduct()
        path = trial.folder / "runs.jsonl"
        whole = path.read_bytes()
        # As a kill leaves it: a line that is not whole.
        path.write_bytes(whole + b'{"run": 3, "appr')
        again = self.trial(text, rounds=2)
        again.conduct()
        self.assertEqual(len(again.runs), 2)
        self.assertEqual(path.read_bytes(), whole)
        self.assertIn("two\x85three", again.runs[0].output)
        self.assertEqual(self.trial(text, rounds=2).judge_again().ended, "done")

    def test_an_answer_crosses_file_systems(self):
        shm = Path("/dev/shm")
        if not os.access(shm, os.W_OK) or shm.stat().st_dev == self.folder.stat().st_dev:
            self.skipTest("there is no other file system here")
        with (
            tempfile.TemporaryDirectory(dir=shm) as other,
            mock.patch.object(tempfile, "tempdir", other),
        ):
            trial = self.trial(HEAD + approach("good", COUNTING))
            found = trial.conduct()
        self.assertEqual(found.ended, "done")
        self.assertEqual(found.points[0].lanes[0].answer_rows, 3)
        self.assertTrue(list((trial.folder / "answers").glob("*.arrow")))

    def test_minutes_go_on_where_an_earlier_session_stopped(self):
        text = HEAD + approach("good", COUNTING)
        until = {"narrower_than": 1e-6, "at_least": 2, "at_most": 500, "minutes": 60}
        trial = self.trial(text, until=until)
        trial.control = mock.Mock(stop_run=lambda number: False, dropped=set)
        trial.control.stop_all = lambda: len(trial.runs) >= 3
        trial.conduct()
        lines = whole_lines(trial.folder / "runs.jsonl")
        self.assertGreater(lines[-1]["spent_s"], lines[0]["spent_s"])
        lines[-1]["spent_s"] = 3700.0
        (trial.folder / "runs.jsonl").write_text("".join(map(as_line, lines)))
        again = self.trial(text, until=until)
        again.conduct()
        self.assertEqual(len(again.runs), len(lines))


class OneConductor(TrialCase):
    def test_a_second_one_of_the_same_folder_is_refused(self):
        trial = self.trial(HEAD + GOOD, rounds=2)
        trial.folder.mkdir()
        lock = FileLock(trial.folder / "conductor.lock")
        self.assertTrue(lock.take())
        with self.assertRaisesRegex(BadInput, "Another process conducts"):
            trial.conduct()
        self.assertFalse((trial.folder / "runs.jsonl").exists())
        lock.release()
        self.assertEqual(trial.conduct().ended, "done")

    def test_what_a_killed_one_left_is_swept_by_the_next(self):
        gone = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"],
                              capture_output=True, text=True).stdout.strip()  # fmt: skip
        left = Path(tempfile.gettempdir()) / f"ivrell-run-{gone}-left"
        (left / "7").mkdir(parents=True)
        other = Path(tempfile.gettempdir()) / f"ivrell-run-{os.getpid()}-mine"
        other.mkdir()
        self.addCleanup(other.rmdir)
        self.trial(HEAD + GOOD).conduct()
        self.assertFalse(left.exists())
        self.assertTrue(other.exists())


class Bounds(TrialCase):
    def test_a_baseline_at_its_limit_bounds_how_much_faster_the_others_are(self):
        slow = python_answer("time.sleep(30)")
        quick = python_answer("time.sleep(0.05)")
        trial = self.trial(HEAD + approach("slow", slow) + approach("quick", quick),
                           rounds=2, limits={"seconds": 1})  # fmt: skip
        found = trial.conduct().points[0]
        ratio = next(lane for lane in found.lanes if lane.id == "quick").ratio
        self.assertEqual((ratio.bound, ratio.verdict), ("at least", "faster"))
        # Of a limit of one second; the other takes 0.05 s, or more beside other tests.
        self.assertGreater(ratio.value, 4)
        self.assertLess(ratio.value, 21)
        self.assertRegex(found.conclusion, r"at least [\d.]+ times faster than slow")
        self.assertRegex(ratio_told(ratio), r"^at least ")


if __name__ == "__main__":
    unittest.main()
