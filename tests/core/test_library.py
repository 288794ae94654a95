"""Ivrell as a library: its worked examples, and what it says of what cannot be used."""

import contextlib
import doctest
import os
import subprocess
import sys
import tempfile
import tomllib
import unittest
from pathlib import Path
from unittest import mock
from xml.etree import ElementTree

import ivrell
import ivrell.api
import ivrell.approaches
from ivrell.core.records.events import RunEnded
from ivrell.core.trial.control import NoControl
from tests.support.comparisons import HEAD

ROOT = Path(__file__).resolve().parents[2]
DATA = tomllib.loads(HEAD)["data"]


def answer(data, knobs, stage):
    return [{"gauge": "Ash", "n": 1}]


class AsALibrary(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        there = mock.patch.dict(os.environ, {"IVRELL_DATA": str(self.folder / "data")})
        there.start()
        self.addCleanup(there.stop)

    def built(self, *approaches, **keys):
        return ivrell.Comparison.build(
            name="Readings per gauge", data=DATA, approaches=approaches, **keys
        )

    def test_the_worked_examples(self):
        with contextlib.chdir(ROOT):
            for module, fewest in ((ivrell.api, 10), (ivrell.approaches, 1)):
                found = doctest.testmod(module, globs={"ivrell": ivrell})
                self.assertGreater(found.attempted, fewest)
                self.assertEqual(found.failed, 0)

    def test_trials_over_time(self):
        quick, slow = ivrell.Approach("quick", answer), ivrell.Approach("other", answer)
        comparison = self.built(quick, slow, knobs={"rows": [30, 60]})
        plan = comparison.plan(rounds=2, warm_ups=0, knobs={"rows": [30]})
        trials = [comparison.run(plan, folder=self.folder / str(n)) for n in (1, 2)]
        found = trials[1].over(trials[0])
        self.assertEqual(["quick", "other"], found.anchors)
        self.assertEqual([], found.differences)
        told = ivrell.history(trials, rows=30)
        self.assertEqual([1, 2], [value.trial for value in told.lanes[0].values])
        with self.assertRaises(ivrell.BadInput):
            trials[1].over(trials[0], rows=7)

    def test_what_is_built_is_a_file(self):
        comparison = self.built(
            ivrell.Approach("here", answer, fields={"input": "csv", "name": "As it is"}),
            ivrell.Approach("there", "SELECT 1 AS n;\n", "duckdb"),
            question="How many?", knobs={"rows": [10, 20]},
        )  # fmt: skip
        self.assertIn('format = "ivrell-comparison/1"', comparison.text)
        self.assertEqual(ivrell.Comparison(comparison.text).contents, comparison.contents)
        first = comparison.contents.approach[0]
        self.assertEqual((first.label, first.wanted.form), ("As it is", "csv"))
        self.assertIn('return [{"gauge": "Ash", "n": 1}]', first.text())
        path = self.folder / "readings.toml"
        path.write_text(comparison.text)
        self.assertEqual(ivrell.read(path).contents, comparison.contents)
        self.assertEqual(ivrell.read(path).own_files, self.folder.resolve())

    def test_what_cannot_be_used_is_told(self):
        with self.assertRaisesRegex(ivrell.BadInput, "wo approaches have the id"):
            self.built(ivrell.Approach("a", answer), ivrell.Approach("a", answer))
        with self.assertRaisesRegex(ivrell.BadInput, "rounds"):
            self.built(ivrell.Approach("a", answer), knobs={"rows": [10]}).plan(rounds=0)
        with self.assertRaisesRegex(ivrell.BadInput, "no result folder"):
            ivrell.Trial.open(self.folder)
        (self.folder / "mine.txt").write_text("not to be touched")
        with self.assertRaisesRegex(ivrell.BadInput, "holds something else"):
            self.built(ivrell.Approach("a", answer), knobs={"rows": [10]}).run(folder=self.folder)
        with self.assertRaisesRegex(AttributeError, "Nothing"):
            ivrell.Nothing  # noqa: B018
        self.assertLessEqual(set(ivrell.__all__), set(dir(ivrell)))

    def test_functions_files_and_what_does_not_stand_by_itself(self):
        @ivrell.approach
        def counted(data, knobs, stage):
            import csv
            from collections import Counter
            from pathlib import Path

            with Path(data.readings).open() as lines:
                counts = Counter(row["gauge"] for row in csv.DictReader(lines))
            return [{"gauge": gauge, "n": n} for gauge, n in counts.items()]

        @ivrell.approach(id="other", input="parquet")
        def answer(data, knobs, stage):
            return []

        self.assertTrue(counted.text.startswith("def counted(data"))
        self.assertTrue(counted.text.endswith("answer = counted\n"))
        self.assertEqual(("other", {"input": "parquet"}), (answer.id, answer.fields))
        self.assertTrue(answer.text.startswith("def answer(") and "answer =" not in answer.text)
        query = self.folder / "count.sql"
        query.write_text("SELECT gauge, count(*) AS n FROM readings GROUP BY gauge")
        trial = self.built(
            counted, ivrell.Approach("query", query, "duckdb"), knobs={"rows": [10]}
        ).run(rounds=1, warm_ups=0)
        self.assertTrue(all(one.agreement.agrees for one in trial.at().lanes))
        seen = 3

        def uses(data, knobs, stage):
            return [{"n": seen + len(DATA)}]

        for wrong, told in ((uses, "DATA, seen from around it"), (lambda a, b, c: [], "with def"),
                            (len, "with def")):  # fmt: skip
            with self.assertRaisesRegex(ivrell.BadInput, told):
                ivrell.Approach("wrong", wrong).text  # noqa: B018

    def test_it_is_looked_at_in_a_notebook_and_as_frames(self):
        trial = self.built(
            ivrell.Approach("one", answer), ivrell.Approach("two", answer, fields={"name": "<b>"}),
            knobs={"rows": [10]},
        ).run(rounds=2, warm_ups=0, knobs={"rows": [10, 40]})  # fmt: skip
        shown = trial._repr_mimebundle_()
        self.assertIn("&lt;b&gt;", shown["text/html"])
        self.assertNotIn("<b>&", shown["text/html"])
        self.assertNotRegex(shown["text/html"], r"<script|https?://(?!www.w3.org)")
        self.assertIn("of 2 runs", shown["text/plain"])
        self.assertIn("lane", str(trial.board(rows=40)))
        drawn = trial.picture("rows")
        ElementTree.fromstring(drawn.svg)
        self.assertEqual({"text/plain", "image/svg+xml"}, set(drawn._repr_mimebundle_()))
        self.assertEqual(drawn.svg, drawn.save(self.folder / "rows.svg").read_text())
        self.assertRaises(ivrell.BadInput, drawn.save, self.folder / "rows.html")
        self.assertRaises(ivrell.BadInput, trial.picture, "width")
        self.assertIn("elapsed time", trial.pair("one", "two", rows=40).html)
        self.assertEqual(len(trial.records), len(trial.frame("pandas")))
        self.assertEqual(trial.runs().column_names, trial.frame("polars").columns)
        self.assertRaises(ivrell.BadInput, trial.frame, "cloth")

    def test_a_trial_from_its_first_run_to_its_report(self):
        comparison = self.built(
            ivrell.Approach("one", answer), ivrell.Approach("two", answer), knobs={"rows": [10]}
        )
        self.assertEqual(
            [lane.agreement.verdict for lane in comparison.check().points[0].lanes],
            ["same", "same"],
        )
        heard, place = [], self.folder / "results"

        class OnceRun(NoControl):
            def stop_all(self):
                return sum(isinstance(event, RunEnded) for event in heard) > 1

        stopped = comparison.run(
            comparison.plan(rounds=3, warm_ups=0, knobs={"rows": [10, 20]}),
            folder=place, progress=heard.append, control=OnceRun(),
        )  # fmt: skip
        self.assertEqual((stopped.ended, len(stopped.records)), ("stopped", 2))
        trial = ivrell.Trial.open(place).resume()
        self.assertEqual((trial.ended, len(trial.sessions)), ("done", 2))
        table = trial.runs()
        self.assertEqual(sum(table["counted"].to_pylist()), 12)
        self.assertEqual(set(table["rows"].to_pylist()), {10, 20})
        self.assertEqual(sorted(set(table["session"].to_pylist())), [1, 2])
        self.assertEqual(str(table.schema.field("elapsed_s").type), "double")
        self.assertEqual(trial.at(rows=20).point["rows"], 20)
        with self.assertRaisesRegex(ivrell.BadInput, "no point with rows 30"):
            trial.at(rows=30)
        self.assertEqual([knob.knob for knob in trial.sweep], ["rows"])
        self.assertEqual({lane for _, own in trial.agreement for lane in own}, {"one", "two"})
        self.assertEqual(trial.measures()[0].rows[0].key, "elapsed")
        copy = trial.report(self.folder / "told.html")
        self.assertIn("Readings per gauge", copy.read_text())
        self.assertEqual(trial.comparison.text, comparison.text)
        trial.judge_again("two")
        self.assertTrue(trial.at(rows=10).lane("two").agreement.itself)

    def test_one_lane_is_tried_and_interrupted(self):
        comparison = self.built(ivrell.Approach("one", answer), knobs={"rows": [10]})
        tried = comparison.try_lane("one")
        self.assertEqual(tried.rows, [["Ash", "1"]])
        with self.assertRaisesRegex(ivrell.BadInput, "two"):
            comparison.try_lane("two")

    def test_importing_it_loads_next_to_nothing(self):
        code = (
            "import sys; before = set(sys.modules)\n"
            "from ivrell import Approach, BadInput, Comparison, Trial, read\n"
            "new = {name.partition('.')[0] for name in set(sys.modules) - before}\n"
            "print(sorted(new - set(sys.stdlib_module_names)))"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(done.stdout.strip(), "['ivrell']", done.stderr)


if __name__ == "__main__":
    unittest.main()
