"""The registry of measures: what it says of runs, and that everything shows what stands in it."""

import csv
import io
import json
import tempfile
import unittest
from contextlib import redirect_stdout
from pathlib import Path

from ivrell.cli.main import main
from ivrell.core.comparison.file import parse
from ivrell.core.records.findings import Findings
from ivrell.core.records.machine import Machine
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import RunSet
from ivrell.core.report.findings import findings
from ivrell.core.report.measures import MEASURES, as_csv, counter_measure, measure_of
from ivrell.core.report.ratios import measured
from ivrell.core.results.folder import ResultFolder
from ivrell.core.trial.measured import measures_in
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

TEXT = HEAD + approach("good", COUNTING) + approach("odd", COUNTING)
POINT = {"rows": 300}


def run(number, lane, *, warm_up=False, state="done", memory_run=False, **figures):
    told = {"elapsed_s": 1.0, "cpu_user_s": 0.75, "cpu_system_s": 0.25, "stages": [],
            "peak_memory_bytes": 30_000_000, "start_memory_bytes": 20_000_000, "counters": {},
            "answer_rows": 3, "start_s": 0.1, "error": None, "limit": None}  # fmt: skip
    return RunRecord.model_validate(
        {"run": number, "approach": lane, "engine": "python", "position": 1, "point": POINT,
         "round": number, "warm_up": warm_up, "state": state, "memory_run": memory_run,
         **told, **figures}
    )  # fmt: skip


class Registry(unittest.TestCase):
    def rows(self, *runs):
        return {row.key: row for row in measured(parse(TEXT), RunSet.of(runs, Machine()), POINT)}

    def test_keys_and_labels_stand_once(self):
        for name in ("key", "label"):
            told = [getattr(measure, name) for measure in MEASURES]
            self.assertEqual(len(told), len(set(told)))
        for measure in MEASURES:
            self.assertTrue(measure.how.endswith("."), measure.key)

    def test_medians_over_counted_runs_and_against_the_baseline(self):
        rows = self.rows(
            run(1, "good", warm_up=True, elapsed_s=90.0),
            run(2, "good"), run(3, "good", elapsed_s=3.0), run(4, "good", elapsed_s=2.0),
            run(5, "odd", elapsed_s=1.0), run(6, "odd", state="failed", elapsed_s=50.0),
        )  # fmt: skip
        good, odd = rows["elapsed"].lanes["good"], rows["elapsed"].lanes["odd"]
        self.assertEqual((good.median, good.smallest, good.largest, good.count), (2.0, 1.0, 3.0, 3))
        self.assertEqual((odd.median, odd.count, odd.of_baseline), (1.0, 1, 0.5))
        self.assertEqual(rows["cpu_total"].lanes["good"].median, 1.0)
        self.assertEqual(rows["cores_busy"].lanes["odd"].median, 1.0)
        self.assertEqual(rows["peak_memory"].lanes["good"].median, 10_000_000)
        self.assertAlmostEqual(rows["cpu_per_million_rows"].lanes["odd"].median, 1e6 / 300)

    def test_memory_of_a_lane_of_several_processes_is_its_memory_run_s(self):
        hidden = {"peak_memory_bytes": None, "start_memory_bytes": None}
        closely = run(9, "odd", memory_run=True, peak_memory_bytes=90_000_000, elapsed_s=700.0)
        rows = self.rows(run(1, "good"), run(2, "odd", **hidden), closely)
        self.assertEqual(rows["peak_memory"].lanes["odd"].median, 70_000_000)
        self.assertEqual(rows["elapsed"].lanes["odd"].median, 1.0)

    def test_what_nobody_tells_is_no_row_and_counters_are_measures(self):
        rows = self.rows(
            run(1, "good", counters={"log bytes": 4096, "commits": 2}), run(2, "odd"),
        )  # fmt: skip
        self.assertNotIn("written_bytes", rows)
        self.assertEqual(set(rows["counter.log bytes"].lanes), {"good"})
        self.assertEqual(rows["counter.log bytes"].unit, "bytes")
        self.assertEqual(measure_of(rows["counter.log bytes"]).words(4096.0), "4.10 kB")
        self.assertEqual(measure_of(rows["counter.commits"]).words(2.0), "2")
        self.assertEqual(counter_measure("service: CPU seconds").unit, "seconds")

    def test_csv_keeps_numbers_whole(self):
        rows = measured(
            parse(TEXT), RunSet.of([run(1, "good", elapsed_s=0.1234567890123)], Machine()), POINT
        )
        lines = list(csv.DictReader(io.StringIO(as_csv(rows, {"good": 'The "good", one'}))))
        [elapsed] = [line for line in lines if line["measure"] == "elapsed time"]
        self.assertEqual(float(elapsed["median"]), 0.1234567890123)
        self.assertEqual((elapsed["name"], elapsed["unit"]), ('The "good", one', "seconds"))


class Shown(TrialCase):
    """What a real trial tells, in every place."""

    def test_findings_folder_command_and_report_show_the_same(self):
        text = TEXT.replace("expression", "expression")
        trial = self.trial(text, rounds=2)
        found = trial.conduct().points[0]
        shape = Findings.model_validate_json(found.model_dump_json())
        keys = [row.key for row in shape.measures]
        for key in ("elapsed", "cpu_total", "peak_memory", "cpu_per_million_rows", "code_lines"):
            self.assertIn(key, keys)
        rows = {row.key: row.lanes for row in shape.measures}
        for lane in shape.lanes:
            # One figure, one value, wherever it stands.
            for key in ("elapsed", "cpu_user", "cpu_total", "peak_memory"):
                self.assertEqual(rows[key][lane.id].median, getattr(lane, key).median, key)
        [kept] = measures_in(ResultFolder(trial.folder))
        self.assertEqual([row.key for row in kept.rows], keys)
        out = io.StringIO()
        with redirect_stdout(out):
            self.assertEqual(main(["measures", str(trial.folder), "--json"]), 0)
        told = json.loads(out.getvalue())
        self.assertEqual([row["key"] for row in told[0]["measures"]], keys)
        with redirect_stdout(io.StringIO()) as out:
            self.assertEqual(main(["measures", str(trial.folder), "--csv"]), 0)
        self.assertIn("CPU time per million rows,seconds,good", out.getvalue())
        report = (trial.folder / "report.html").read_text()
        for row in shape.measures:
            self.assertIn(f">{row.label}</td>", report)

    def test_a_folder_of_an_earlier_version_tells_them_too(self):
        trial = self.trial(TEXT, rounds=1)
        trial.conduct()
        kept = ResultFolder(trial.folder)
        path = kept.path / "findings.json"
        told = json.loads(path.read_text())
        for point in told["points"]:
            del point["measures"]
        path.write_text(json.dumps(told))
        self.assertTrue(measures_in(kept)[0].rows)
        self.trial(TEXT, rounds=1).judge_again()

    def test_what_is_no_result_folder_is_told(self):
        with tempfile.TemporaryDirectory() as name:
            self.assertEqual(main(["measures", str(Path(name))]), 2)

    def test_findings_of_runs_without_counters_hold(self):
        runs = [run(1, "good"), run(2, "odd")]
        shape = findings(parse(TEXT), RunSet.of(runs, Machine(cores=2)), {}, POINT)
        self.assertTrue(shape.measures)


if __name__ == "__main__":
    unittest.main()
