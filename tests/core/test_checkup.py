"""The look at a machine: what is there, what is missing, and what that means."""

import json
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from ivrell.core import checkup as looking
from ivrell.core.checkup import checkup


def about(found):
    return {one.about: one for one in found.checks}


class Looked(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory(prefix="ivrell-no-programs-")
        self.addCleanup(folder.cleanup)
        self.empty = folder.name

    def test_what_is_not_good_says_what_that_means_and_how_to_mend_it(self):
        limited = (
            mock.patch.object(looking, "groups_allowed", return_value=False),
            mock.patch.object(looking, "quota_cores", return_value=0.5),
            mock.patch.object(looking, "on_battery", return_value=True),
            mock.patch.object(looking, "browser", return_value=None),
            mock.patch.object(looking.sandbox, "why_not", return_value="no bubblewrap"),
            mock.patch.object(looking, "_first_line", return_value="hpet"),
        )
        for one in limited:
            one.start()
            self.addCleanup(one.stop)
        found = about(checkup(Path(self.empty) / "not" / "made"))
        for name, state in (
            ("sandbox", "missing"), ("control groups", "limited"), ("cores", "limited"),
            ("power", "limited"), ("PDF", "missing"), ("clock", "limited"),
        ):  # fmt: skip
            with self.subTest(name):
                self.assertEqual(state, found[name].state)
                self.assertTrue(found[name].means and found[name].remedy)
        self.assertEqual("no bubblewrap", found["sandbox"].found)

    def test_a_machine_on_which_things_are_missing(self):
        done = subprocess.run(
            [sys.executable, "-m", "ivrell.cli", "doctor", "--json"], capture_output=True,
            text=True, timeout=300, stdin=subprocess.DEVNULL,
            env={**os.environ, "PATH": self.empty, "IVRELL_DATA": self.empty},
        )  # fmt: skip
        self.assertEqual(0, done.returncode, done.stderr)
        found = {one["about"]: one for one in json.loads(done.stdout)["checks"]}
        for name in ("sandbox", "git", "PDF"):
            self.assertEqual("missing", found[name]["state"], found[name])
        self.assertEqual("good", found["python"]["state"])
        told = subprocess.run(
            [sys.executable, "-m", "ivrell.cli", "doctor"], capture_output=True, text=True,
            timeout=300, stdin=subprocess.DEVNULL, env={**os.environ, "IVRELL_DATA": self.empty},
        )  # fmt: skip
        self.assertIn("control groups", told.stdout)
        self.assertRegex(told.stdout, r"\d+ looked at; .* to mend or to know")


if __name__ == "__main__":
    unittest.main()
