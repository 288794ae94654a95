"""The tutorial, followed by somebody who types what it says."""

import shlex
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.core.test_help import commands, fences


class Tutorial(unittest.TestCase):
    def test_who_types_what_it_says_gets_what_it_promises(self):
        (text,) = fences("tutorial.md", "toml")
        promised = {
            "check": "same", "--out found": "is the quickest|not told apart",
            "--set rows": "For rows|at every size|rows", "report": "tolls.html",
        }  # fmt: skip
        typed = commands("tutorial.md")
        self.assertEqual(len(typed), len(promised))
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "tolls.toml").write_text(text)
            for line, (part, words) in zip(typed, promised.items(), strict=True):
                self.assertIn(part, line)
                done = subprocess.run(
                    [sys.executable, "-m", "ivrell.cli", *shlex.split(line)[1:]], cwd=folder,
                    capture_output=True, text=True, stdin=subprocess.DEVNULL, timeout=300,
                )  # fmt: skip
                self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
                self.assertRegex(done.stdout, words)
            report = Path(folder, "tolls.html").read_text()
        self.assertIn("What did each lock take?", report)
        self.assertIn("Query over text", report)


if __name__ == "__main__":
    unittest.main()
