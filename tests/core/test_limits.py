"""Limits, isolation and crashes: every misdeed ends as a recorded run, and the next is clean."""

import json
import os
import shutil
import signal
import site
import subprocess
import sys
import tempfile
import textwrap
import time
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

from ivrell.core.contain import sandbox
from ivrell.core.contain.calls import Filter, compiled
from ivrell.core.errors import Stopped
from ivrell.core.json_lines import whole_lines
from ivrell.core.measure import group, proc
from ivrell.core.measure.group import RunGroup
from ivrell.core.records.run import RunRecord
from ivrell.core.records.wire import Job, LimitReached, Order, RunSpec
from ivrell.core.trial import attempt, launch
from ivrell.core.trial.answer_desk import AnswerDesk, NotReceived
from ivrell.core.trial.plan import Plan
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach, python_answer
from tests.support.processes import processes_with

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
        if attempt.why_not() is not None:
            self.skipTest("without a sandbox this would end more than the run")
        run = self.misdeed("os.kill(-1, 9)\ntime.sleep(1)")
        self.assertIn(run.state, ("failed", "done"))


class MisdeedsWithoutSandbox(Misdeeds):
    def setUp(self):
        super().setUp()
        patched = mock.patch.object(attempt, "why_not", lambda: "not wanted here")
        patched.start()
        self.addCleanup(patched.stop)

    def test_its_parent_killed(self):
        run = self.misdeed("os.kill(os.getppid(), 9)\ntime.sleep(1)")
        self.assertEqual(run.state, "failed")
        self.assertEqual(run.error.kind, "took its watcher down")
        self.assertFalse(run.sandboxed)


@unittest.skipIf(sandbox.why_not(), f"no sandbox here: {sandbox.why_not()}")
class Shut(TrialCase):
    """What a sandboxed run can see, reach and write."""

    def body(self, lines):
        run = self.run_one(lines)
        self.assertEqual((run.state, run.sandboxed), ("done", True), run.error)
        return run.output

    def test_no_network(self):
        body = """
        import socket
        try:
            socket.create_connection(("127.0.0.1", 5432), 1)
        except OSError as error:
            sys.stdout.write(type(error).__name__)
        sys.stdout.write(" " + " ".join(name for _, name in socket.if_nameindex()))
        """
        self.assertEqual(self.body(body), "ConnectionRefusedError lo")

    def test_inputs_are_read_only_and_its_folder_is_not(self):
        body = """
        import sysconfig
        for path in (data.readings, "/etc/new", sysconfig.get_paths()["purelib"] + "/x"):
            try:
                open(path, "a")
            except OSError as error:
                sys.stdout.write(type(error).__name__ + " ")
        open("mine", "w").write("x")
        open(os.environ["TMPDIR"] + "/mine", "w").write("x")
        """
        refused = self.body(body).split()
        self.assertEqual(len(refused), 3)
        self.assertLessEqual(set(refused), {"OSError", "PermissionError"})

    @unittest.skipUnless(os.access("/var/lib", os.W_OK), "nothing can be put there")
    def test_what_lies_beside_a_place_of_the_system_can_be_reached(self):
        # Where data is kept that root's Ivrell makes, and some program's own folder too.
        with tempfile.TemporaryDirectory(prefix="ivrell-", dir="/var/lib") as beside:
            place = Path(beside)
            place.chmod(0o755)
            (place / "table.csv").write_text("here")
            told = sandbox.Sandbox(self.folder, compiled(Filter.RUN), inputs=(beside,)).around(
                ["cat", f"{beside}/table.csv"]
            )
            self.folder.chmod(0o755)
            done = subprocess.run(told, capture_output=True, text=True)
        self.assertEqual((done.stdout, done.stderr), ("here", ""))

    def test_ivrell_s_own_data_and_other_processes_are_out_of_sight(self):
        folder = self.folder / "ivrell"
        (folder / "records").mkdir(parents=True)
        (folder / "secret").write_text("nobody")
        body = f"""
        there = os.path.exists({str(folder)!r})
        sys.stdout.write(" ".join(os.listdir({str(folder)!r}) if there else []) + "/")
        sys.stdout.write(str(len([p for p in os.listdir("/proc") if p.isdigit()])))
        """
        with mock.patch.dict(os.environ, {"IVRELL_DATA": str(folder)}):
            seen, _, processes = self.body(body).partition("/")
        self.assertEqual(seen, "")
        self.assertLess(int(processes), 6)

    def test_homes_other_installations_and_other_results_are_out_of_sight(self):
        places = [self.folder / name for name in ("home", "other-ivrell", "results")]
        for place in places:
            place.mkdir()
            place.chmod(0o755)
            (place / "private.txt").write_text("theirs")
        outer = [
            str(place) for place in (*places, Path.home(), "/home", "/srv", "/mnt", "/var/log")
        ]
        body = f"""
        import json
        seen = [place for place in {outer!r} if os.path.exists(place) and os.listdir(place)]
        # Ways to the interpreter may be there, with nothing else upon them.
        walked = [os.path.join(at, name) for place in seen for at, _, names in os.walk(place)
                  for name in names if name in ("private.txt", ".bashrc", ".profile")]
        sys.stdout.write(json.dumps(walked))
        """
        self.assertEqual(json.loads(self.body(body)), [])

    def test_of_a_file_of_the_user_s_own_that_file_alone_is_seen(self):
        folder = self.folder / "mine"
        folder.mkdir()
        (folder / "gauges.csv").write_text("gauge,level\nAsh,1\nElm,2\n")
        (folder / "diary.csv").write_text("private\n1\n")
        text = HEAD.split("[data]")[0] + (
            f'[data]\n[data.tables.readings]\nfile = "{folder}/gauges.csv"\n'
        )
        text += approach("odd", python_answer(
            f"sys.stdout.write(' '.join(os.listdir({str(folder)!r})) + open(data.readings).read())"
        ))  # fmt: skip
        trial = self.trial(text.replace("rows = [300]", "unused = [1]"), rounds=1)
        trial.conduct()
        [run] = trial.runs
        self.assertEqual(run.state, "done", run.error)
        self.assertTrue(run.output.startswith("gauges.csvgauge,level"), run.output)

    def test_files_in_places_that_are_memory_count_as_memory(self):
        for place in ("/dev/shm", "/tmp"):
            for most, ends in ((60 * MIB, "limit"), (600 * MIB, "done")):
                body = f"""
                with open("{place}/block", "wb") as file:
                    for _ in range(60):
                        file.write(bytes(1 << 20))
                time.sleep({3 if ends == "limit" else 0.3})
                """
                lane = approach("odd", python_answer(body))
                name = f"{place.replace('/', '-')}-{ends}"
                trial = self.trial(HEAD + lane, name=name, limits={"memory_bytes": most})
                trial.conduct()
                [run] = trial.runs
                self.assertEqual(run.state, ends, (place, run.limit, run.error))
                if ends == "limit":
                    self.assertEqual(run.limit.kind, "memory")

    def test_nothing_is_left_to_take_walls_down_with(self):
        folder = self.folder / "ivrell"
        (folder / "records").mkdir(parents=True)
        (folder / "secret").write_text("nobody may read this")
        body = f"""
        import ctypes, json
        told = dict(line.split(":", 1) for line in open("/proc/self/status") if ":" in line)
        libc = ctypes.CDLL(None, use_errno=True)
        tries = dict(
            uncover=libc.umount2({str(folder)!r}.encode(), 2),
            remount=libc.mount(b"none", b"/", None, 32 | 4096, None),
            uid=libc.setuid(0),
        )
        read = []
        for path in ("/etc/shadow", {str(folder / "secret")!r}, "/root/.profile"):
            try:
                read.append(len(open(path).read()))
            except OSError:
                pass
        for path in ("/etc/hostname", "/usr/bin/mine", "/var/tmp/mine"):
            try:
                open(path, "a").write("x")
                read.append(path)
            except OSError:
                pass
        sys.stdout.write(json.dumps(dict(
            caps=[told[name].strip() for name in ("CapEff", "CapPrm", "CapInh", "CapBnd")],
            privileges=told["NoNewPrivs"].strip(), tries=tries, read=read,
            root=os.getuid() == 0 or os.geteuid() == 0,
        )))
        """
        with mock.patch.dict(os.environ, {"IVRELL_DATA": str(folder)}):
            found = json.loads(self.body(body))
        self.assertEqual({int(capabilities, 16) for capabilities in found["caps"]}, {0})
        self.assertEqual(found["privileges"], "1")
        self.assertEqual(found["read"], [])
        self.assertFalse(found["root"])
        self.assertEqual(set(found["tries"].values()), {-1})

    def test_memory_that_looks_like_disk_has_an_end(self):
        body = """
        for place in ("/dev/shm", "/tmp", "/run"):
            written = 0
            try:
                with open(place + "/fill", "wb") as file:
                    for _ in range(900):
                        file.write(bytes(1 << 20))
                        file.flush()
                        written += 1
            except OSError:
                pass
            sys.stdout.write(f"{written} ")
        """
        found = [int(number) for number in self.body(body).split()]
        self.assertLessEqual(found[0], 256)
        self.assertLessEqual(found[1], 64)
        self.assertLessEqual(found[2], 1)


class HandedOver(TrialCase):
    """What a run leaves as its answer is a stranger's, and hurts nobody."""

    LEAVES = """
        import os, sys
        import pyarrow
        def answer(data, knobs, stage):
            def handed(task, answer, folder):
                {leave}
                return sys.modules["__main__"].Size(1, 1, 1)
            sys.modules["__main__"]._hand_over = handed
            return [dict(gauge="Ash", n=1)]
    """

    def left(self, leave):
        lane = approach("odd", self.LEAVES.format(leave=leave))
        trial = self.trial(HEAD + lane + approach("good", COUNTING))
        began = time.monotonic()
        found = trial.conduct()
        self.assertLess(time.monotonic() - began, 60)
        self.assertEqual(found.ended, "done")
        runs = {run.approach: run for run in trial.runs}
        self.assertEqual(runs["good"].state, "done")
        self.assertEqual(runs["odd"].state, "failed", runs["odd"])
        return runs["odd"].error.message

    def test_a_link_is_not_followed(self):
        target = self.folder / "elsewhere"
        target.write_text("mine")
        said = self.left(f'os.symlink({str(target)!r}, folder / ".answer.arrow")')
        self.assertIn("no plain file", said)
        self.assertEqual(target.read_text(), "mine")

    def test_a_process_that_was_taken_over_leads_nowhere(self):
        runs, elsewhere = self.folder / "runs", self.folder / "elsewhere"
        elsewhere.write_text("mine")
        (runs / "1").mkdir(parents=True)
        good = {"made": False, "fingerprint": "0" * 32, "rows": 1}
        for told, leave in (
            ({**good, "fingerprint": "../../../x"}, None),
            ({**good, "fingerprint": None}, None),
            ({**good, "rows": "many"}, None),
            ({**good, "path": str(elsewhere)}, None),
            ({**good, "made": True}, lambda: (runs / "desk/1.arrow").symlink_to(elsewhere)),
            (None, None),
        ):
            with self.subTest(told=told), AnswerDesk(runs, 1 << 28, 60, sandboxed=False) as desk:
                desk.wait_until_ready()
                if leave:
                    leave()
                with mock.patch.object(desk, "_told", lambda *_, told=told: told), \
                        self.assertRaises(NotReceived):  # fmt: skip
                    desk.take(runs / "1", 1 << 20, lambda: False)
        self.assertEqual(elsewhere.read_text(), "mine")
        self.assertNotEqual(elsewhere.stat().st_mode & 0o777, 0o600)

    def test_a_pipe_is_not_waited_for(self):
        self.assertIn("no plain file", self.left('os.mkfifo(folder / ".answer.arrow")'))

    def test_a_folder_and_garbage_and_nothing(self):
        self.assertIn("no plain file", self.left('(folder / ".answer.arrow").mkdir()'))
        self.left('(folder / ".answer.arrow").write_bytes(os.urandom(5000))')
        self.left("pass")

    def test_offsets_that_lead_astray(self):
        self.left(
            'import struct; path = str(folder / ".answer.arrow"); '
            't = pyarrow.table(dict(gauge=["Ash", "Elm"])); '
            'f = pyarrow.OSFile(path, "wb"); w = pyarrow.ipc.new_file(f, t.schema); '
            "w.write_table(t); w.close(); f.close(); "
            'whole = open(path, "rb").read(); good = struct.pack("<3i", 0, 3, 6); '
            "assert whole.count(good) == 1; "
            'bad = whole.replace(good, struct.pack("<3i", 0, 3, 2**30)); '
            'open(path, "wb").write(bad)'
        )

    def test_marks_that_no_record_can_hold_are_taken_out(self):
        run = self.run_one("with stage('a\\x00b\\ud800c'):\n    raise ValueError('x\\x00\\udfffy')")
        self.assertEqual(run.error.message, "x\ufffd\ufffdy")
        run.model_dump_json().encode()


class Told(TrialCase):
    """A lane that writes into the pipe by which its worker tells of it."""

    def told(self, *events):
        lines = "\n".join(json.dumps(event) for event in events) + "\n"
        body = f"os.write(int(sys.argv[2]), {lines.encode()!r})\nheld = bytearray(60_000_000)"
        lane = approach("odd", python_answer(body))
        trial = self.trial(HEAD + lane + approach("good", COUNTING))
        self.assertEqual(trial.conduct().ended, "done")
        runs = {run.approach: run for run in trial.runs}
        self.assertEqual(runs["good"].state, "done")
        return runs["odd"]

    def test_figures_of_the_system_cannot_be_told(self):
        body = """
        import builtins
        main = sys.modules["__main__"]
        told = main._Line.tell
        def tell(line, says):
            told(line, says)
            if type(says).__name__ == "Counted":
                more = {"event": "counted", "counters": {}, "unknown": {}}
                more |= {"peak_memory_bytes": 1, "cpu_user_s": 0.0}
                os.write(line._events, main.json.dumps(more).encode() + b"\\n")
        main._Line.tell = tell
        held = b"x" * 60_000_000
        """
        run = self.run_one(textwrap.dedent(body))
        self.assertEqual(run.state, "done", run.error)
        self.assertGreater(run.peak_memory_bytes, 60_000_000)

    def test_the_page_that_shows_the_stage_cannot_be_cut(self):
        body = """
        board = int(sys.argv[4])
        try:
            os.ftruncate(board, 0)
        except PermissionError:
            pass
        else:
            raise ValueError("cut")
        with stage("seen"):
            time.sleep(0.2)
        """
        run = self.run_one(textwrap.dedent(body))
        self.assertEqual(run.state, "done", run.error)
        self.assertEqual([stage.name for stage in run.stages], ["seen"])

    def test_stages_without_end_are_told_in_few_lines(self):
        body = "for n in range(3000):\n    with stage(f'{n}-' + 'x' * 500):\n        pass"
        run = self.run_one(body)
        self.assertEqual(run.state, "done", run.error)
        self.assertEqual(len(run.stages), 201)
        self.assertEqual(run.stages[-1].name, "other stages")
        self.assertEqual(run.stages[-1].times, 2800)

    def test_a_line_without_an_end_is_not_waited_for(self):
        body = "piece = b'x' * (1 << 16)\nwhile True:\n    os.write(int(sys.argv[2]), piece)"
        run = self.run_one(body)
        self.assertEqual((run.state, run.error.kind), ("failed", "told what is not so"))

    def test_tables_that_others_share_are_not_put_back_for_a_reader(self):
        body = """
        main = sys.modules["__main__"]
        told = main._Line.tell
        def tell(line, says):
            told(line, says)
            if type(says).__name__ == "Counted":
                told(line, main.Restore())
        main._Line.tell = tell
        """
        run = self.run_one(textwrap.dedent(body))
        self.assertEqual((run.state, run.error.kind), ("failed", "told what is not so"))

    def test_who_speaks_in_the_worker_s_place_fails_alone(self):
        for event in (
            {"event": "ready", "start_s": 9e9, "engine": ""},
            {"event": "stopped"},
            {"event": "stopped", "used": 7, "set_up": []},
            {"event": "counted", "counters": {}, "unknown": {}},
            {"event": "failed"},
            {"event": "exported", "rows": "x"},
        ):
            with self.subTest(event=event):
                run = self.told(event)
                self.assertEqual(run.state, "failed")
                self.assertEqual(run.error.kind, "told what is not so")
                self.assertIsNone(run.elapsed_s)
                self.assertIn("elapsed_s", run.not_measured)


class WordsOfTheConductor(TrialCase):
    def test_a_stop_said_right_behind_the_run_is_heard(self):
        code = python_answer("time.sleep(60)")
        job = Job({"id": "one", "engine": "python", "code": code}, {}, "csv", {}, self.folder / "7")
        spec = RunSpec(
            run=7, interpreter=sys.executable, environment={"PATH": os.defpath},
            limits=Plan().limits.for_run(), cores=None, background="quiet", walls=None,
            memory_alone=False, restores=False, server=None, order=Order(job),
        )  # fmt: skip
        said = [spec.as_json(), {"word": "stop", "run": 6}, {"word": "stop", "run": 7}]
        with launch.Runner(self.folder / "journal.jsonl") as runner:
            runner._process.stdin.write(b"".join(json.dumps(s).encode() + b"\n" for s in said))
            began = time.monotonic()
            runner._process.stdin.flush()
            events = [json.loads(runner._process.stdout.readline()) for _ in range(2)]
        self.assertLess(time.monotonic() - began, 20)
        self.assertEqual([e["event"] for e in events], ["started", "ended"])
        self.assertEqual(events[1]["state"], "stopped")


class FailuresInWords(TrialCase):
    def test_the_last_lines_printed_stand_with_the_error(self):
        body = """
        import subprocess
        subprocess.run([sys.executable, "-c", "raise SystemExit('the lock is shut')"], check=True)
        """
        error = self.run_one(textwrap.dedent(body)).error
        self.assertEqual(error.kind, "CalledProcessError")
        self.assertIn("the lock is shut", error.printed)

    def test_what_the_sandbox_could_not_start_is_not_blamed_on_the_approach(self):
        if sandbox.why_not():
            self.skipTest(sandbox.why_not())
        made = attempt.Attempts._spec

        def elsewhere(*given):
            return replace(made(*given), interpreter="/tmp/no/such/python")

        with mock.patch.object(attempt.Attempts, "_spec", elsewhere):
            error = self.run_one("pass").error
        self.assertEqual(error.kind, "sandbox failed")
        self.assertIn("No such file", error.message)


class BelowTmp(TrialCase):
    """An Ivrell whose folder lies where sandboxes put an empty one."""

    def test_its_runs_are_sandboxed_too(self):
        if sandbox.why_not():
            self.skipTest(sandbox.why_not())
        with tempfile.TemporaryDirectory(prefix="ivrell-below-", dir="/tmp") as name:
            home = Path(name)
            shutil.copytree(ROOT / "src", home / "src")
            subprocess.run(
                [sys.executable, "-m", "venv", "--without-pip", home / "venv"], check=True
            )
            (packages,) = (home / "venv").glob("lib/python*/site-packages")
            (packages / "ours.pth").write_text(
                "\n".join([str(home / "src"), *site.getsitepackages()])
            )
            file = home / "gauges.toml"
            file.write_text(HEAD + approach("count", COUNTING))
            done = subprocess.run(
                [home / "venv/bin/python", "-m", "ivrell.cli", "run", file, "--rounds", "1",
                 "--out", home / "out"],
                capture_output=True, text=True, cwd="/",
                env={**os.environ, "IVRELL_DATA": str(home / "data")},
            )  # fmt: skip
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
            runs = whole_lines(home / "out" / "runs.jsonl")
        self.assertTrue(all(run["sandboxed"] for run in runs))


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
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline and process.poll() is None:
            if path.exists() and path.read_text().count("\n") >= count:
                return
            time.sleep(0.02)
        self.fail("the trial did not get that far")

    def test_the_conductor_killed(self):
        process = self.conductor()
        self.wait_for_runs(process, 5)
        process.send_signal(signal.SIGKILL)
        process.wait()
        runner = str(self.folder / "trial" / "journal.jsonl")
        deadline = time.monotonic() + 10
        while processes_with(runner) and time.monotonic() < deadline:
            time.sleep(0.05)
        self.assertEqual(processes_with(runner), [])
        before = [RunRecord.model_validate_json(line) for line in self.lines()]
        trial = self.trial(self.TEXT, rounds=8, warm_ups=1)
        found = trial.conduct()
        self.assertEqual(found.ended, "done")
        self.assertEqual([run.run for run in trial.runs], list(range(1, 19)))
        self.assertEqual(trial.runs[: len(before)], before)
        order = {run.run: (run.approach, run.round) for run in trial.runs}
        planned = Plan(rounds=8)
        self.assertEqual(
            order,
            {p.number: (p.approach, p.round) for p in attempt_order(trial.comparison, planned)},
        )

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


class WhoLooksAtAnswers(TrialCase):
    def test_killed_between_runs_or_while_it_looks_it_is_started_again(self):
        real_take, real_told = AnswerDesk.take, AnswerDesk._told
        killed = []

        def take(desk, *args):
            if not killed:
                killed.append("between")
                desk._process.kill()
            return real_take(desk, *args)

        def told(desk, *args):
            if killed == ["between"] and desk._ready:
                killed.append("while")
                desk._process.kill()
                desk._process.wait()
            return real_told(desk, *args)

        trial = self.trial(HEAD + approach("good", COUNTING), rounds=3)
        with mock.patch.object(AnswerDesk, "take", take), \
                mock.patch.object(AnswerDesk, "_told", told):  # fmt: skip
            found = trial.conduct()
        self.assertEqual(killed, ["between", "while"])
        self.assertEqual([run.state for run in trial.runs], ["done"] * 3)
        self.assertEqual(found.points[0].lanes[0].answer_rows, trial.runs[0].answer_rows)

    def test_killed_while_it_starts_it_is_started_again(self):
        real_told, killed = AnswerDesk._told, []

        def told(desk, *args):
            if not killed:
                killed.append(desk._process.pid)
                desk._process.kill()
            return real_told(desk, *args)

        with mock.patch.object(AnswerDesk, "_told", told):
            trial = self.trial(HEAD + approach("a", COUNTING))
            trial.conduct()
        self.assertEqual(len(killed), 1)
        self.assertEqual([run.state for run in trial.runs], ["done"])

    def test_it_is_not_waited_for_by_who_stops(self):
        desk = AnswerDesk(self.folder, 1 << 28, 60, sandboxed=False)
        with self.assertRaises(Stopped):
            desk.wait_until_ready(lambda: True)


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
