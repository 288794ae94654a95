"""Walls of a run: what it sees, what it may tell and hand over, and who looks at that."""

import json
import os
import shutil
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

from ivrell.core.base.errors import Stopped
from ivrell.core.base.json_lines import whole_lines
from ivrell.core.contain import sandbox
from ivrell.core.contain.calls import Filter, compiled
from ivrell.core.records.wire import Job, Order, RunSpec
from ivrell.core.run import launch
from ivrell.core.run.answers.receiver import AnswerReceiver, NotReceived
from ivrell.core.trial import run_executor
from ivrell.core.trial.plan import Plan
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach, python_answer

MIB = 2**20
ROOT = Path(__file__).resolve().parents[2]


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

    def test_who_asks_for_the_network_is_told_that_there_is_none(self):
        run = self.run_one('import urllib.request\nurllib.request.urlopen("http://locks.example/")')
        self.assertEqual(run.state, "failed")
        self.assertIn("Runs have no network", run.error.message)

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
            with (
                self.subTest(told=told),
                AnswerReceiver(runs, 1 << 28, 60, sandboxed=False) as desk,
            ):
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


def after_counting(more):
    """Code of a lane that does something more when its worker tells what was counted."""
    return (
        "main = sys.modules['__main__']\ntold = main._Line.tell\ndef tell(line, says):\n"
        "    told(line, says)\n    if type(says).__name__ == 'Counted':\n"
        f"        {more}\nmain._Line.tell = tell"
    )


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
        more = {"event": "counted", "counters": {}, "unknown": {},
                "peak_memory_bytes": 1, "cpu_user_s": 0.0}  # fmt: skip
        line = json.dumps(more).encode() + b"\n"
        code = after_counting(f"os.write(line._events, {line!r})")
        run = self.run_one(f"{code}\nheld = b'x' * 60_000_000")
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
        run = self.run_one(after_counting("told(line, main.Restore())"))
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
            memory_alone=False, restores=False, server=None, patience_s=0.0, order=Order(job),
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
        made = run_executor.RunExecutor._spec

        def elsewhere(*given):
            return replace(made(*given), interpreter="/tmp/no/such/python")

        with mock.patch.object(run_executor.RunExecutor, "_spec", elsewhere):
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


class WhoLooksAtAnswers(TrialCase):
    def test_killed_between_runs_or_while_it_looks_it_is_started_again(self):
        real_take, real_told = AnswerReceiver.take, AnswerReceiver._told
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
        with mock.patch.object(AnswerReceiver, "take", take), \
                mock.patch.object(AnswerReceiver, "_told", told):  # fmt: skip
            found = trial.conduct()
        self.assertEqual(killed, ["between", "while"])
        self.assertEqual([run.state for run in trial.runs], ["done"] * 3)
        self.assertEqual(found.points[0].lanes[0].answer_rows, trial.runs[0].answer_rows)

    def test_killed_while_it_starts_it_is_started_again(self):
        real_told, killed = AnswerReceiver._told, []

        def told(desk, *args):
            if not killed:
                killed.append(desk._process.pid)
                desk._process.kill()
            return real_told(desk, *args)

        with mock.patch.object(AnswerReceiver, "_told", told):
            trial = self.trial(HEAD + approach("a", COUNTING))
            trial.conduct()
        self.assertEqual(len(killed), 1)
        self.assertEqual([run.state for run in trial.runs], ["done"])

    def test_it_is_not_waited_for_by_who_stops(self):
        desk = AnswerReceiver(self.folder, 1 << 28, 60, sandboxed=False)
        with self.assertRaises(Stopped):
            desk.wait_until_ready(lambda: True)


if __name__ == "__main__":
    unittest.main()
