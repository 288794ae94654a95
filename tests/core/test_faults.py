"""What was cut, gone, doubled or has no room is told in words, and nothing else is lost."""

import json
import os
import sqlite3
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from ivrell.core.base.errors import BadInput, is_disk_full, room_on_disk
from ivrell.core.contain import sandbox
from ivrell.core.engines.registry import ENGINES
from ivrell.core.report.measures import as_csv
from ivrell.core.results.folder import ResultFolder
from ivrell.core.trial.conduct import Trial
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach


class NotInstalled(TrialCase):
    def setUp(self):
        super().setUp()
        lacking = mock.patch.object(ENGINES["duckdb"], "packages", ("gone_fishing",))
        lacking.start()
        self.addCleanup(lacking.stop)

    def lane(self, name):
        return approach(name, "SELECT count(*) AS n FROM readings", engine="duckdb")

    def test_lanes_of_an_engine_that_is_not_here_are_out_and_the_others_run(self):
        trial = self.trial(HEAD + self.lane("away") + approach("here", COUNTING), rounds=2)
        away, here = trial.conduct().points[0].lanes
        self.assertEqual((away.state, here.state, here.elapsed.count), ("failed", "done", 2))
        self.assertIn("not installed here (gone_fishing missing)", away.trouble)
        self.assertIn("pip install gone_fishing", away.trouble)

    def test_with_no_lane_left_there_is_no_trial(self):
        with self.assertRaisesRegex(BadInput, "pip install gone_fishing"):
            self.trial(HEAD + self.lane("away"))


class Resumed(TrialCase):
    def resumed(self, spoil):
        """A trial of two lanes that is gone on with after something in its folder was spoilt."""
        text = HEAD + approach("a", COUNTING) + approach("b", COUNTING)
        first = self.trial(text, rounds=2)
        first.conduct()
        for name in ("findings.json", "agreement.json", "report.html"):
            (first.folder / name).unlink()
        lines = (first.folder / "runs.jsonl").read_text().splitlines(keepends=True)
        (first.folder / "runs.jsonl").write_text("".join(lines[:-1]))
        spoil(first.folder)
        return Trial(text, first.plan, first.folder, self.store, data_workers=1)

    def test_with_an_answer_gone_or_cut_the_other_lanes_go_on(self):
        def gone(folder):
            for path in (folder / "answers").glob("a-*.arrow"):
                path.unlink()

        def cut(folder):
            for path in (folder / "answers").glob("a-*.arrow"):
                path.write_bytes(path.read_bytes()[:40])

        def nothing_left(folder):
            for path in (folder / "answers").iterdir():
                path.write_bytes(b"")

        for spoil in (gone, cut, nothing_left):
            with self.subTest(spoil.__name__):
                self.folder = Path(tempfile.mkdtemp(dir=self.folder))
                trial = self.resumed(spoil)
                with self.assertLogs("ivrell.answers", "WARNING"):
                    point = trial.conduct().points[0]
                self.assertEqual([lane.elapsed.count for lane in point.lanes], [2, 2])
                for lane in point.lanes:
                    self.assertIn(lane.agreement.verdict, ("no answer", "same"))

    def test_a_run_that_stands_there_twice_counts_once(self):
        def doubled(folder):
            path = folder / "runs.jsonl"
            lines = path.read_text().splitlines(keepends=True)
            path.write_text("".join([*lines, lines[0]]))

        trial = self.resumed(doubled)
        with self.assertLogs("ivrell.results", "WARNING"):
            point = trial.conduct().points[0]
        self.assertEqual([lane.elapsed.count for lane in point.lanes], [2, 2])

    def test_two_runs_of_one_number_are_refused(self):
        def another(folder):
            path = folder / "runs.jsonl"
            run = json.loads(path.read_text().splitlines()[0])
            path.write_text(path.read_text() + json.dumps(run | {"elapsed_s": 99.0}) + "\n")

        with self.assertRaisesRegex(BadInput, "two runs of the number"):
            self.resumed(another).conduct()


class FullDisk(unittest.TestCase):
    def test_errors_of_libraries_are_known_for_what_they_are(self):
        for error in (
            OSError(28, "No space left on device"),
            ValueError("IO Error: could not write: No space left on device"),
            RuntimeError("database or disk is full"),
        ):
            self.assertTrue(is_disk_full(error), error)
            with self.assertRaisesRegex(BadInput, "disk is full"), room_on_disk("there"):
                raise error
        self.assertFalse(is_disk_full(OSError(2, "No such file")))
        with self.assertRaises(KeyError), room_on_disk("there"):
            raise KeyError("x")

    @unittest.skipIf(sandbox.why_not(), "no bubblewrap here")
    def test_a_trial_says_so_whenever_it_happens(self):
        lanes = approach("a", COUNTING) + approach("q", "SELECT 1 AS gauge, 2 AS n", "sqlite")
        text = HEAD.replace("[300]", "[400_000]") + lanes
        # Before the first word is written, and before a table is.
        for size in (16 << 10, 2 << 20):
            with self.subTest(size=size), tempfile.TemporaryDirectory() as folder:
                (Path(folder) / "c.toml").write_text(text)
                small = Path(folder) / "small"
                small.mkdir()
                done = subprocess.run(
                    ["bwrap", "--dev-bind", "/", "/", "--size", str(size), "--tmpfs", str(small),
                     sys.executable, "-m", "ivrell.cli", "run", f"{folder}/c.toml", "--rounds", "1",
                     "--warm-ups", "0", "--no-sandbox", "--out", str(small / "out")],
                    env={**os.environ, "IVRELL_DATA": str(small / "data")},
                    capture_output=True, text=True, timeout=120,
                )  # fmt: skip
                self.assertEqual(done.returncode, 2, done.stderr[-2000:])
                self.assertRegex(done.stderr, "disk is full|B are free")
                self.assertNotIn("Traceback", done.stderr)


class FullMeanwhile(TrialCase):
    def test_data_that_does_not_fit_any_more(self):
        full = OSError(28, "No space left on device", "there")
        lanes = approach("a", COUNTING) + approach("q", "SELECT 1 AS gauge, 2 AS n", "sqlite")
        for place, error in (
            ("ivrell.core.recipe.store.Making.run", full),
            (
                "ivrell.core.recipe.databases.sqlite.SqliteLoader.load",
                sqlite3.OperationalError("database or disk is full"),
            ),
        ):
            with self.subTest(place), mock.patch(place, side_effect=error):
                trial = self.trial(HEAD + lanes, name=place[-9:])
                with self.assertRaisesRegex(BadInput, "disk is full"):
                    trial.conduct()
        trial = self.trial(HEAD + lanes)
        self.assertEqual(trial.conduct().ended, "done")


class Exports(TrialCase):
    def test_no_cell_of_an_export_is_taken_for_a_formula(self):
        trial = self.trial(HEAD + approach("a", COUNTING) + 'name = "=1+1"\n')
        trial.conduct()
        from ivrell.core.trial.measured import measures_in

        [found] = measures_in(ResultFolder(trial.folder))
        rows = as_csv(found.rows, found.names).splitlines()
        self.assertTrue(any(",'=1+1," in row for row in rows), rows[1])
        self.assertFalse(any(cell[:1] in "=+@|" for row in rows for cell in row.split(",") if cell))


if __name__ == "__main__":
    unittest.main()
