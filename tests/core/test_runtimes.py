"""Other interpreters of the machine: registered, looked at, and approaches run in them."""

import shutil
import subprocess
import sys
import tempfile
import unittest
import venv
from pathlib import Path
from unittest.mock import patch

from ivrell.core.base.errors import BadInput
from ivrell.core.runtimes import Runtimes, look_at
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

WHO = """
    import datetime, decimal, platform, sys
    def answer(data, knobs, stage):
        with stage("look"):
            return [{"gauge": "Ash", "by": platform.python_implementation(), "at": sys.prefix,
                     "day": datetime.date(2031, 5, 1), "toll": decimal.Decimal("1.50")}]
"""


class Registered(TrialCase):
    def test_kept_by_name_and_looked_at_anew(self):
        runtimes = Runtimes(self.folder)
        added = runtimes.add("this one", sys.executable)
        self.assertEqual(added.implementation, "CPython")
        self.assertIn("pyarrow", added.packages)
        self.assertEqual([found.name for found in Runtimes(self.folder).all()], ["this one"])
        runtimes.remove("this one")
        self.assertEqual(runtimes.all(), [])

    def test_refused_with_what_to_do(self):
        runtimes = Runtimes(self.folder)
        for interpreter, why in (
            ("python", "begin with /"),
            ("/nowhere/python", "no such file"),
            ("/bin/sh", "does not answer"),
        ):
            with self.subTest(interpreter), self.assertRaisesRegex(BadInput, why):
                runtimes.add("bad", interpreter)
        with self.assertRaisesRegex(BadInput, "no runtime"):
            runtimes.get("bad")

    def test_a_lane_that_asks_for_an_unknown_one_is_told_before_anything_runs(self):
        with self.assertRaisesRegex(BadInput, 'no runtime "elsewhere"'):
            self.trial(HEAD + approach("one", WHO, runtime="elsewhere"), runtimes=self.folder)


class Kept(unittest.TestCase):
    def test_a_list_that_cannot_be_read_is_told_and_never_written_over(self):
        with tempfile.TemporaryDirectory() as name:
            path = Path(name) / "runtimes.json"
            known = Runtimes(Path(name))
            for broken in ("{not JSON", "[1, 2]", '{"mine": 3}'):
                path.write_text(broken)
                for change in (known.all, lambda: known.add("one", sys.executable),
                               lambda: known.remove("mine")):  # fmt: skip
                    with self.assertRaisesRegex(BadInput, "cannot be read"):
                        change()
                self.assertEqual(path.read_text(), broken)


class Run(TrialCase):
    def conducted(self, *lanes):
        trial = self.trial(HEAD + "".join(lanes), runtimes=self.folder)
        point = trial.conduct().points[0]
        self.assertEqual([run.error for run in trial.runs if run.error], [])
        return trial, {lane.id: lane for lane in point.lanes}

    @unittest.skipUnless(shutil.which("pypy3"), "pypy3 is not installed here")
    def test_another_implementation_gives_the_same_answer_in_its_own_process(self):
        Runtimes(self.folder).add("pypy", shutil.which("pypy3"))
        trial, lanes = self.conducted(
            approach("plain", COUNTING), approach("jit", COUNTING, runtime="pypy")
        )
        self.assertTrue(lanes["jit"].agreement.agrees, lanes["jit"].agreement)
        told = trial.machine.runtimes["pypy"]
        self.assertEqual(told.implementation, "PyPy")
        self.assertEqual(told.packages, dict(trial.preparation.runtimes["pypy"].packages))
        jit = next(run for run in trial.runs if run.approach == "jit")
        self.assertEqual([stage.name for stage in jit.stages], ["read"])
        self.assertGreater(jit.cpu_user_s + jit.cpu_system_s, 0)

    def test_an_environment_without_arrow_hands_over_days_and_decimals_as_such(self):
        place = self.folder / "bare"
        venv.create(place, symlinks=True)
        Runtimes(self.folder).add("bare", str(place / "bin" / "python"))
        trial, _ = self.conducted(approach("here", WHO), approach("there", WHO, runtime="bare"))
        answers = {
            run.approach: trial.answers.table(run.approach, run.answer_fingerprint)
            for run in trial.runs
        }
        self.assertEqual(answers["there"].schema, answers["here"].schema)
        self.assertEqual(answers["there"]["at"].to_pylist(), [str(place)])

    def test_another_version_of_a_library(self):
        place = self.folder / "other"
        venv.create(place, symlinks=True)
        package = next((place / "lib").glob("python*/site-packages")) / "tolls.py"
        package.write_text("VERSION = 'the other'\n")
        Runtimes(self.folder).add("other", str(place / "bin" / "python"))
        code = """
            import tolls
            def answer(data, knobs, stage):
                return [{"gauge": tolls.VERSION}]
        """
        trial, lanes = self.conducted(approach("there", code, runtime="other"))
        answer = trial.answers.table("there", trial.runs[0].answer_fingerprint)
        self.assertEqual(answer.to_pylist(), [{"gauge": "the other"}])
        self.assertTrue(lanes["there"].agreement.agrees)

    def test_an_interpreter_is_a_condition_that_can_be_compared(self):
        place = self.folder / "other"
        venv.create(place, symlinks=True)
        Runtimes(self.folder).add("other", str(place / "bin" / "python"))
        code = """
            import sys
            def answer(data, knobs, stage):
                return [{"gauge": sys.prefix}]
        """
        query = approach("query", "SELECT 1 AS gauge", engine="duckdb", input="parquet")
        trial = self.trial(HEAD + approach("own", code) + query, runtimes=self.folder,
                           runtime=["own", "other"])  # fmt: skip
        trial.conduct()
        told = {
            (run.approach, run.point["runtime"]): trial.answers.table(
                run.approach, run.answer_fingerprint
            ).to_pylist()[0]["gauge"]
            for run in trial.runs
        }
        self.assertEqual(told["own", "own"], sys.prefix)
        self.assertEqual(told["own", "other"], str(place))
        # Those that are no Python have no other interpreter.
        self.assertEqual(told["query", "other"], 1)
        self.assertIn("other", trial.machine.runtimes)
        with self.assertRaises(BadInput):
            self.trial(HEAD + approach("own", code), runtimes=self.folder, runtime=["nowhere"])


class Oldest(unittest.TestCase):
    def test_what_is_too_old_is_refused(self):
        with patch("ivrell.core.runtimes.OLDEST", (9, 9)):
            self.assertIn("9.9 or later is wanted", look_at("old", sys.executable).problem)

    @unittest.skipUnless(shutil.which("pypy3"), "pypy3 is not installed here")
    def test_the_worker_can_be_read_by_the_oldest_interpreter(self):
        root = Path(__file__).resolve().parents[2] / "src"
        names = (
            "ivrell.core.engines.python_task",
            "ivrell.core.engines.plain",
            "ivrell.core.run.worker.repeats",
            "ivrell.core.run.stages",
            "ivrell.core.run.worker.threads",
        )
        line = f"import sys; sys.path.insert(0, {str(root)!r}); import {', '.join(names)}"
        done = subprocess.run(["pypy3", "-c", line], capture_output=True, text=True)
        self.assertEqual(done.stderr, "")
