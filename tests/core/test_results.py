"""The result folder: whole files, whole lines, one conductor, clear words."""

import json
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import pyarrow.parquet

from ivrell.core.errors import BadInput
from ivrell.core.results.folder import CURVE, CURVES, MACHINE, PLAN, RUNS, ResultFolder


class Folder(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.kept = ResultFolder(Path(folder.name) / "trial")
        self.kept.make()

    def test_a_file_is_replaced_whole_or_not_at_all(self):
        self.kept.write_json(MACHINE, {"cores": 2})
        with mock.patch.object(Path, "replace", side_effect=OSError("cut off")), \
                self.assertRaises(OSError):  # fmt: skip
            self.kept.write_json(MACHINE, {"cores": 64})
        self.assertEqual(self.kept.read_json(MACHINE), {"cores": 2})

    def test_runs_are_added_behind_whole_lines(self):
        with self.kept.adding_runs() as add:
            add({"run": 1, "output": "one\u2028two"})
        with (self.kept.path / RUNS).open("a") as file:
            file.write('{"run": 2, "outp')
        self.assertEqual(self.kept.runs(), [{"run": 1, "output": "one\u2028two"}])
        with self.kept.adding_runs() as add:
            add({"run": 2})
        self.assertEqual([run["run"] for run in self.kept.runs()], [1, 2])

    def test_curves(self):
        self.kept.keep_curve(3, [[0.1, 0.05, 1000.4], [0.2, 0.1, 2000]])
        self.assertEqual(self.kept.curve(3), [(0.1, 0.05, 1000), (0.2, 0.1, 2000)])
        self.assertEqual(self.kept.curve(4), [])
        self.kept.write_curves([3, 4])
        table = pyarrow.parquet.read_table(self.kept.path / CURVES)
        self.assertEqual(table.schema, CURVE)
        self.assertEqual(table["run"].to_pylist(), [3, 3])

    def test_one_conductor_at_a_time(self):
        with self.kept.conducted():
            other = ResultFolder(self.kept.path)
            with self.assertRaisesRegex(BadInput, "Another process"), other.conducted():
                self.fail("two conduct one trial")
        with other.conducted():
            pass

    def test_what_is_no_result_folder_says_so(self):
        self.assertFalse(self.kept.is_one)
        self.assertFalse(self.kept.has_ended)
        with self.assertRaisesRegex(BadInput, "no result folder"):
            _ = self.kept.comparison_text
        with self.assertRaisesRegex(BadInput, "has no plan.json"):
            self.kept.read_json(PLAN)
        (self.kept.path / PLAN).write_text("{")
        with self.assertRaisesRegex(BadInput, "cannot be read"):
            self.kept.read_json(PLAN)

    def test_it_tells_what_is_in_it(self):
        self.kept.write_json(PLAN, {})
        self.kept.keep_curve(1, [])
        self.assertEqual(self.kept.contents(), {"curves/1.json": 2, "plan.json": 2})
        self.assertEqual(json.loads((self.kept.path / PLAN).read_text()), {})


if __name__ == "__main__":
    unittest.main()
