"""Texts that an approach in Python can start from: each runs as it is, and says the same."""

import unittest

from ivrell.core.engines.python_ways import WAYS
from ivrell.core.engines.registry import ENGINES
from tests.support.comparisons import HEAD, TrialCase, approach


class Ways(TrialCase):
    def test_every_one_runs_as_it_is_and_counts_the_rows(self):
        text = HEAD.replace('key = ["gauge"]', "")
        for number, way in enumerate(WAYS):
            text += approach(f"way_{number}", way.at("readings"), input=way.form, name=way.name)
        trial = self.trial(text)
        [point] = trial.conduct().points
        self.assertEqual([run.error for run in trial.runs if run.error], [])
        for lane in point.lanes:
            with self.subTest(lane.name):
                self.assertTrue(lane.agreement.agrees, lane.agreement.reasons)
        table = trial.answers.table("way_0", trial.runs[0].answer_fingerprint)
        self.assertEqual(table.to_pylist(), [{"rows": 300}])

    def test_the_engine_gives_them_with_their_form(self):
        engine = ENGINES["python"]
        self.assertEqual(engine.ways, tuple(way.name for way in WAYS))
        fields = engine.starting_in("a memory map", "passages")
        self.assertEqual(fields["input"], "csv")
        self.assertIn("data.passages", fields["code"])
        self.assertIsNone(engine.problem(engine.approach(engine="python", id="a", **fields)))


if __name__ == "__main__":
    unittest.main()
