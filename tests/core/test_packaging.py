"""The package as it is installed elsewhere: what is in it, and that it works there."""

import email
import os
import shutil
import subprocess
import sys
import tempfile
import tomllib
import unittest
from pathlib import Path

from tests.support.installed import ROOT, installed


class Wheel(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        cls.installed = installed(cls.folder)

    def ran(self, *arguments):
        """A command of what was installed, in a folder of its own."""
        place = tempfile.mkdtemp(dir=self.folder)
        env = {**os.environ, "PYTHONPATH": str(self.installed), "IVRELL_DATA": f"{place}/data"}
        return subprocess.run(
            [sys.executable, *arguments], cwd=place, env=env, capture_output=True, text=True
        )

    def test_what_it_holds(self):
        package = self.installed / "ivrell"
        for name in (
            "py.typed",
            "core/report/document/report.html",
            "demo/tolls-per-lock.toml",
            "server/trials/migrations/0001_initial.py",
        ):
            self.assertTrue((package / name).is_file(), name)
        templates = {p.name for p in (ROOT / "src/ivrell/server/templates").iterdir()}
        self.assertEqual({p.name for p in (package / "server/templates").iterdir()}, templates)
        if (ROOT / "src/ivrell/web/index.html").exists():
            self.assertTrue((package / "web/index.html").is_file())
        self.assertFalse((self.installed / "tests").exists())

    def test_what_it_says_of_itself(self):
        [info] = self.installed.glob("ivrell-*.dist-info")
        told = email.message_from_string((info / "METADATA").read_text())
        self.assertEqual(told["License-Expression"], "Apache-2.0")
        self.assertTrue((info / "licenses/LICENSE").is_file())
        for extra in ("server", "spark", "mariadb"):
            self.assertIn(extra, told.get_all("Provides-Extra"))
        needed = [line for line in told.get_all("Requires-Dist") if "extra ==" not in line]
        self.assertFalse([line for line in needed if "django" in line.lower()])
        points = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["scripts"]
        self.assertIn(f"ivrell = {points['ivrell']}", (info / "entry_points.txt").read_text())

    def test_a_demo_that_it_ships_runs(self):
        demo = self.installed / "ivrell/demo/tolls-per-lock.toml"
        command = ["-c", "import sys; from ivrell.cli.main import command; sys.exit(command())"]
        done = self.ran(*command, "run", str(demo), "--rounds", "1", "--warm-ups", "0", "--set",
                        "rows=1000", "--json")  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        where = self.ran("-c", "import ivrell; print(ivrell.__file__)").stdout
        self.assertTrue(where.startswith(str(self.installed)), where)

    def test_the_application_is_started_by_its_command(self):
        done = self.ran("-m", "ivrell.cli", "serve", "--port", "1", "--data-dir", "/proc/nowhere")
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertIn("data folder cannot be made", done.stdout)


if __name__ == "__main__":
    unittest.main()
