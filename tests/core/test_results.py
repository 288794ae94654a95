"""The result folder: whole files, whole lines, one conductor, clear words."""

import json
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import pyarrow.parquet
from pydantic import TypeAdapter, ValidationError

from ivrell.core.base.errors import BadInput
from ivrell.core.records.findings import Ratio
from ivrell.core.records.machine import Machine
from ivrell.core.records.run import RunRecord
from ivrell.core.records.wire import LimitReached
from ivrell.core.results.folder import AGREEMENT, CURVE, CURVES, MACHINE, RUNS, ResultFolder
from ivrell.core.trial.plan import PLAN, Plan


def record(number, **fields):
    return RunRecord(
        run=number, approach="good", engine="python", point={}, round=1, position=1,
        warm_up=False, state="done", **fields,
    )  # fmt: skip


class Folder(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.kept = ResultFolder(Path(folder.name) / "trial")
        self.kept.make()

    def test_a_file_is_replaced_whole_or_not_at_all(self):
        self.kept.keep(MACHINE, Machine(cores=2))
        with mock.patch.object(Path, "replace", side_effect=OSError("cut off")), \
                self.assertRaises(OSError):  # fmt: skip
            self.kept.keep(MACHINE, Machine(cores=64))
        self.assertEqual(self.kept.read(MACHINE).cores, 2)

    def test_runs_are_added_behind_whole_lines(self):
        with self.kept.adding_runs() as add:
            add(record(1, output="one\u2028two"))
        with (self.kept.path / RUNS).open("a") as file:
            file.write('{"run": 2, "outp')
        self.assertEqual(self.kept.runs(), [record(1, output="one\u2028two")])
        with self.kept.adding_runs() as add:
            add(record(2))
        self.assertEqual([run.run for run in self.kept.runs()], [1, 2])

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
            self.kept.read(PLAN)
        (self.kept.path / PLAN.name).write_text("{")
        with self.assertRaisesRegex(BadInput, "cannot be read"):
            self.kept.read(PLAN)

    def test_it_tells_what_is_in_it(self):
        self.kept.keep(PLAN, Plan(rounds=3))
        self.kept.keep_curve(1, [])
        self.assertEqual(set(self.kept.contents()), {"curves/1.json", "plan.json"})
        self.assertEqual(self.kept.read(PLAN), Plan(rounds=3))

    def test_words_of_an_earlier_version_are_read(self):
        """What stood in folders before: words that have other names now."""
        former = {"rounds": 2, "kept": 4, "shortest_s": 0.05, "lanes": ["good"]}
        (self.kept.path / PLAN.name).write_text(json.dumps(former))
        plan = self.kept.read(PLAN)
        self.assertEqual((plan.calls_per_process, plan.min_sample_s), (4, 0.05))
        self.assertEqual(plan.approaches, ["good"])
        run = record(1).model_dump(mode="json")
        run["core_wait_s"] = run.pop("run_queue_wait_s")
        run |= {"core_wait_s": 0.25, "limit": {"kind": "handing over", "value": 3.0}}
        (self.kept.path / RUNS).write_text(json.dumps(run) + "\n")
        [read] = self.kept.runs()
        self.assertEqual(read.run_queue_wait_s, 0.25)
        self.assertEqual(read.limit, LimitReached("result export", 3.0))
        lane = {"verdict": "different", "reasons": [], "agrees": False, "camp": 2}
        (self.kept.path / AGREEMENT.name).write_text(json.dumps({"{}": {"good": lane}}))
        agreement = self.kept.read(AGREEMENT)["{}"]["good"]
        self.assertEqual((agreement.group, agreement.agrees), (2, False))
        (self.kept.path / MACHINE.name).write_text('{"cores": 2, "runtimes": {"other": "3.9"}}')
        self.assertEqual(self.kept.read(MACHINE).runtimes, {})

    def test_former_verdicts_are_read(self):
        text = '{"value": 1, "low": null, "high": null, "rounds": 1, "verdict": "%s"}'
        read = TypeAdapter(Ratio).validate_json
        self.assertEqual(read(text % "cannot tell apart").verdict, "not told apart")
        with self.assertRaises(ValidationError):
            read(text % "who knows")


if __name__ == "__main__":
    unittest.main()
