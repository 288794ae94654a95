"""An engine that another package brings, found by its entry point, without a change in Ivrell."""

import contextlib
import json
import os
import shutil
import site
import subprocess
import sys
import tempfile
import textwrap
import unittest
from pathlib import Path

from ivrell.core.base.json_lines import whole_lines
from ivrell.core.records.wire import Job
from tests.support.comparisons import COUNTING, HEAD, approach

ROOT = Path(__file__).resolve().parents[2]
DOCS = (ROOT / "docs" / "engines.md").read_text()
ENGINE = DOCS[DOCS.index("# tallying.py") :].partition("```")[0]
"""As the docs have it; the tests add what it would say if other machines had counted too."""

MORE = """
from ivrell.core.engines.base import Scope
from ivrell.core.records.wire import RemoteUse


def counted(self):
    return Counted({"tally: lines": float(self._lines)}, {}, RemoteUse(1.5, 0.25, 50_000_000))


TallyTask.counted = counted
TallyEngine.scope = lambda self, approach: Scope.REMOTE
BROKEN = object()
"""


def environment_with(packages: Path, home: Path, points: str) -> None:
    """Make the package be there as an installer leaves it."""
    (packages / "tallying.py").write_text(ENGINE + MORE)
    about = packages / "tallying-1.0.dist-info"
    about.mkdir()
    (about / "METADATA").write_text("Metadata-Version: 2.1\nName: tallying\nVersion: 1.0\n")
    (about / "entry_points.txt").write_text(f"[ivrell.engines]\n{points}")
    (packages / "ours.pth").write_text("\n".join([str(home / "src"), *site.getsitepackages()]))


class ThirdParty(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.home = Path(tempfile.mkdtemp(prefix="ivrell-third-"))
        cls.addClassCleanup(shutil.rmtree, cls.home, ignore_errors=True)
        cls.home.chmod(0o755)
        shutil.copytree(ROOT / "src", cls.home / "src")
        command = [sys.executable, "-m", "venv", "--without-pip", cls.home / "venv"]
        subprocess.run(command, check=True)
        (packages,) = (cls.home / "venv").glob("lib/python*/site-packages")
        environment_with(
            packages, cls.home,
            "tally = tallying:ENGINE\nbroken = tallying:BROKEN\ngone = nowhere:ENGINE\n",
        )  # fmt: skip

    def ivrell(self, *arguments):
        return subprocess.run(
            [self.home / "venv/bin/python", *arguments],
            capture_output=True, text=True, cwd="/",
            env={**os.environ, "IVRELL_DATA": str(self.home / "data")},
        )  # fmt: skip

    def test_it_runs_beside_ours_with_what_it_counts(self):
        file = self.home / "gauges.toml"
        lane = '[[approach]]\nid = "tallied"\nengine = "tally"\nby = "gauge"\n'
        file.write_text(HEAD + approach("count", COUNTING) + lane)
        done = self.ivrell("-m", "ivrell.cli", "run", str(file), "--rounds", "2",
                           "--out", str(self.home / "out"))  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        runs = whole_lines(self.home / "out" / "runs.jsonl")
        own = [run for run in runs if run["approach"] == "tallied"]
        self.assertEqual({run["state"] for run in own}, {"done"}, own)
        self.assertEqual({run["counters"]["tally: lines"] for run in own}, {300.0})
        self.assertEqual({run["answer_rows"] for run in runs}, {3})
        for run in own:
            # What remote processes report is the run's, and it is said so.
            self.assertIn("remote", run["scope"])
            self.assertGreaterEqual(run["cpu_user_s"], 1.5)
            self.assertLess(run["cpu_user_s"], 2.5)
            self.assertGreaterEqual(run["cpu_system_s"], 0.25)
            self.assertIn("remote processes report", run["cpu_method"])
            self.assertGreater(run["peak_memory_bytes"], run["start_memory_bytes"] + 5e7 - 1e6)
        told = self.ivrell("-m", "ivrell.cli", "measures", str(self.home / "out"))
        self.assertIn("tally: lines", told.stdout)
        self.assertIn("tally", self.ivrell("-m", "ivrell.cli", "engines").stdout)

    def test_its_mistakes_have_a_place_and_broken_ones_take_nothing_down(self):
        file = self.home / "bad.toml"
        file.write_text(HEAD + '[[approach]]\nid = "x"\nengine = "tally"\nbuy = "gauge"\n')
        done = self.ivrell("-m", "ivrell.cli", "check", str(file))
        self.assertEqual(done.returncode, 2)
        self.assertIn("line 20, approach[0].by", done.stderr)
        code = "from ivrell.core.engines.registry import ENGINES; print(sorted(ENGINES))"
        told = self.ivrell("-c", code).stdout
        self.assertIn("tally", told)
        self.assertNotIn("broken", told)
        self.assertNotIn("gone", told)
        listed = self.ivrell("-m", "ivrell.cli", "engines").stdout
        self.assertIn(
            "cannot be used as the package tallying brings it: ModuleNotFoundError", listed
        )
        self.assertIn("TypeError: tallying:BROKEN is no engine called broken", listed)
        file.write_text(HEAD + '[[approach]]\nid = "x"\nengine = "gone"\n')
        asked = self.ivrell("-m", "ivrell.cli", "check", str(file))
        self.assertEqual(asked.returncode, 2)
        self.assertIn(
            'The engine "gone" cannot be used as the package tallying brings it', asked.stderr
        )
        listed = self.ivrell("-m", "ivrell.cli", "engines", "--json").stdout
        self.assertIn("gone", {e["name"]: e["problem"] for e in json.loads(listed) if e["problem"]})

    def test_the_docs_example_as_it_stands(self):
        space = {}
        exec(compile(ENGINE, "tallying.py", "exec"), space)  # noqa: S102
        path = self.home / "readings.csv"
        path.write_text("reading,gauge\n1,Ash\n2,Ash\n")
        job = Job({"by": "gauge"}, {"readings": str(path)}, "csv", {}, self.home)
        task = space["ENGINE"].prepare(job)
        self.assertEqual(task.run(contextlib.nullcontext), [{"gauge": "Ash", "n": 2}])
        self.assertEqual(task.counted().counters, {"tally: lines": 2.0})

    def test_the_application_offers_it_shows_it_and_runs_it(self):
        code = textwrap.dedent(
            """
            from tests.support.server import ServerCase, work
            from ivrell.server.trials.models import Trial
            class Offered(ServerCase):
                def test(self):
                    names = [e["name"] for e in self.call("get", "engines/")["engines"]]
                    self.assertIn("tally", names)
                    made = self.call("post", self.at("lanes/"), {"engine": "tally"}, 201)
                    lane = made["lanes"][-1]
                    self.assertEqual((lane["engine"], lane["problem"]), ("tally", None))
                    self.assertIn("by", lane["settings_text"])
                    body = {"rounds": 1, "warm_ups": 0, "lanes": [lane["id"]]}
                    number = self.call("post", self.at("launch/"), body, 201)["id"]
                    trial = Trial.objects.get(pk=number)
                    work(trial)
                    found = self.call("get", f"trials/{trial.pk}/findings/")
                    self.assertEqual(found["lanes"][0]["state"], "done")
                    keys = [row["key"] for row in found["measures"]]
                    self.assertIn("counter.tally: lines", keys)
            """
        )
        (self.home / "test_offered.py").write_text(code)
        runner = (
            f"import sys; sys.path[:0] = [{str(ROOT)!r}, {str(self.home)!r}]\n"
            "from tests.run import _with_records\n"
            "sys.exit(not _with_records(['test_offered']).wasSuccessful())\n"
        )
        done = self.ivrell("-c", runner)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)


if __name__ == "__main__":
    unittest.main()
