"""What start, test and the command line set up first."""

import os
import shutil
import signal
import subprocess
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

from ivrell.core.engines import base
from ivrell.core.engines.registry import ENGINES

SETUP = Path(__file__).resolve().parents[2] / "tools" / "setup.sh"


class Environment(unittest.TestCase):
    def elsewhere(self, *stamps):
        """Whether an environment with these stamps counts as made for another folder."""
        with tempfile.TemporaryDirectory() as name:
            for number, text in enumerate(stamps):
                (Path(name) / f".ivrell-{number}").write_text(text)
            script = f'source "{SETUP}"; made_elsewhere "{name}"'
            return subprocess.run(["bash", "-c", script]).returncode == 0

    def test_one_that_came_with_a_copied_checkout_is_noticed(self):
        home = SETUP.parents[1]
        self.assertFalse(self.elsewhere())
        self.assertFalse(self.elsewhere(f"abc  -\n{home}\n"))
        self.assertTrue(self.elsewhere("abc  -\n/somewhere/else\n"))
        self.assertTrue(self.elsewhere(f"abc  -\n{home}\n", "abc  -\n/somewhere/else\n"))
        # As earlier versions left it: no folder stands there, so nobody can tell.
        self.assertTrue(self.elsewhere("abc  -\n"))


class Steps(unittest.TestCase):
    """Steps side by side, in a checkout's copy of the scripts."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.home = Path(folder.name)
        (self.home / "tools").mkdir()
        for name in ("setup.sh", "steps.sh"):
            shutil.copy(SETUP.with_name(name), self.home / "tools")

    def begun(self, script):
        """Bash with the scripts loaded, begun."""
        head = f'set -euo pipefail; source "{self.home}/tools/setup.sh"; '
        head += f'source "{self.home}/tools/steps.sh"; '
        return subprocess.Popen(
            ["bash", "-c", head + script], text=True, stdin=subprocess.PIPE,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        )  # fmt: skip

    def ran(self, script):
        process = self.begun(script)
        out, told = process.communicate(timeout=60)
        return process.returncode, out, told

    def test_they_go_side_by_side_and_tell_their_seconds(self):
        began = time.monotonic()
        status, out, told = self.ran(
            "step one sleep 3; step two sleep 3; step quick true; finish_steps; echo on"
        )
        self.assertLess(time.monotonic() - began, 5.5)
        self.assertEqual((status, out), (0, "on\n"))
        self.assertRegex(told, "side by side: one and two\n  one: [34] s\n  two: [34] s\n$")

    def test_nothing_is_said_where_all_is_there(self):
        self.assertEqual(self.ran("step one true; finish_steps"), (0, "", ""))

    def test_one_that_fails_says_which_and_what_it_said_last(self):
        status, out, told = self.ran(
            "npm_fails() { for n in $(seq 40); do echo line $n; done; false; echo never; }\n"
            "step 'the page' npm_fails; step fine true; finish_steps; echo on"
        )
        self.assertEqual((status, out), (1, ""))
        self.assertIn("Setting up failed at: the page", told)
        self.assertIn(str(self.home / ".setup" / "the-page.log"), told)
        self.assertTrue(told.endswith("  line 39\n  line 40\n"), told)
        self.assertNotIn("line 20", told)

    def test_one_set_up_at_a_time(self):
        first = self.begun("lock_setup; echo has it; read -r; unlock_setup; echo gave it; read -r")
        self.assertEqual(first.stdout.readline(), "has it\n")
        second = self.begun("lock_setup; echo has it")
        self.assertIn("Another set-up goes on", second.stderr.readline())
        first.kill()
        self.assertEqual(second.communicate(timeout=30)[0], "has it\n")
        first.communicate()

    def test_what_arrives_behind_is_told_while_it_does(self):
        mark = self.home / ".setup" / "arriving"
        package = self.home / "src" / "ivrell"
        lacking = mock.patch.object(ENGINES["sheet"], "packages", ("gone_fishing",))
        there = mock.patch.object(base, "package_folder", return_value=package)
        process = self.begun(
            "setup_sheets() { sleep 30; }; setup_mariadb() { true; }; arrive_behind; sleep 30"
        )
        with lacking, there:
            deadline = time.monotonic() + 20
            while not (state := base.state_of(ENGINES["sheet"])).arriving:
                self.assertLess(time.monotonic(), deadline)
                time.sleep(0.05)
            self.assertIn("just now", state.lack)
            self.assertFalse(base.state_of(ENGINES["duckdb"]).arriving)
            os.kill(int(mark.read_text()), signal.SIGKILL)
            while base.state_of(ENGINES["sheet"]).arriving:
                self.assertLess(time.monotonic(), deadline)
                time.sleep(0.05)
            self.assertIn("Install it with", base.state_of(ENGINES["sheet"]).lack)
        process.kill()
        process.communicate()


if __name__ == "__main__":
    unittest.main()
