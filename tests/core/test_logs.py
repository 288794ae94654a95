"""Logs: a line an event, an end to their size, a reference for every error."""

import logging
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from ivrell.core.base.logs import OneLine, file_handler, referred
from tests.support.comparisons import COUNTING, HEAD, approach


class Logs(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "log" / "part.log"
        self.log = logging.Logger("ivrell.test")
        handler = file_handler(self.path)
        self.addCleanup(handler.close)
        self.log.addHandler(handler)

    def test_an_error_is_one_line_with_its_trace_under_its_reference(self):
        try:
            raise ValueError("first\nsecond")
        except ValueError:
            reference = referred(self.log, "trial %s", 7)
        self.log.info("next")
        first, second = self.path.read_text().splitlines()
        self.assertRegex(reference, r"^[0-9a-f]{8}$")
        self.assertIn(f"ERROR ivrell.test: {reference} trial 7 | Traceback", first)
        self.assertTrue(first.endswith("ValueError: first | second"), first)
        self.assertTrue(second.endswith("INFO ivrell.test: next"))

    def test_they_have_an_end_and_are_their_owner_s_alone(self):
        for number in range(30_000):
            self.log.info("%s %s", number, "x" * 1000)
        files = sorted(self.path.parent.iterdir())
        self.assertEqual([file.name for file in files],
                         ["part.log", "part.log.1", "part.log.2", "part.log.3"])  # fmt: skip
        self.assertLess(sum(file.stat().st_size for file in files), 17 * 2**20)
        self.assertEqual(self.path.stat().st_mode & 0o777, 0o600)

    def test_the_formatter_leaves_no_empty_piece(self):
        record = logging.LogRecord("a", logging.INFO, "", 0, "one\n\n  two\n", (), None)
        self.assertTrue(OneLine().format(record).endswith("one |   two"))


class CommandLine(unittest.TestCase):
    def test_verbose_tells_and_the_data_folder_keeps(self):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "gauges.toml").write_text(HEAD + approach("count", COUNTING))
            command = [sys.executable, "-m", "ivrell.cli", "--verbose", "run",
                       str(folder / "gauges.toml"), "--rounds", "1", "--warm-ups", "0",
                       "--disturbed-share", "100", "--out", str(folder / "out")]  # fmt: skip
            environment = {**os.environ, "IVRELL_DATA": str(folder / "data")}
            done = subprocess.run(command, capture_output=True, text=True, env=environment)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("DEBUG ivrell.trial: run 1 of count in round 1: done", done.stderr)
            kept = (folder / "data" / "log" / "commands.log").read_text()
            self.assertIn("ended: done, 1 runs", kept)
            command.remove("--verbose")
            command[-1] = str(folder / "again")
            done = subprocess.run(command, capture_output=True, text=True, env=environment)
            self.assertNotIn("DEBUG", done.stderr)


if __name__ == "__main__":
    unittest.main()
