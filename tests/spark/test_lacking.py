"""A cluster that does not start takes its lanes out, and not the trial."""

from pathlib import Path
from unittest import mock

from ivrell.core.base.errors import BadInput
from ivrell.core.spark.clusters import Clusters
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

SPARK = """
def answer(spark, data, knobs, stage):
    return data.readings.groupBy("gauge").count()
"""


class Lacking(TrialCase):
    def setUp(self):
        super().setUp()
        self.registry = self.folder / "registry"
        Clusters(self.registry).add("pair", "standalone:2", "", {})
        nowhere = mock.patch(
            "ivrell.core.spark.standalone.spark_home", return_value=Path("/nowhere/spark")
        )
        nowhere.start()
        self.addCleanup(nowhere.stop)

    def lane(self, name):
        return approach(name, SPARK, engine="spark", input="csv", at="pair")

    def test_its_lanes_fail_in_words_and_the_others_are_compared(self):
        text = HEAD + approach("here", COUNTING) + self.lane("there") + self.lane("also")
        trial = self.trial(text, rounds=2, runtimes=self.registry)
        found = trial.conduct()
        self.assertEqual(found.ended, "done")
        here, there, also = found.points[0].lanes
        self.assertEqual((here.state, there.state, also.state), ("done", "failed", "failed"))
        self.assertRegex(
            there.trouble, r"not available: The cluster did not start within .+s: .*nowhere"
        )
        self.assertLess(len(there.trouble), 400)
        caution = next(c for c in found.points[0].cautions if c.word == "failed")
        told = " ".join([caution.hint, *(one.hint for one in caution.each)])
        self.assertIn("Start what it needs", told)

    def test_a_trial_of_nothing_else_says_so(self):
        with self.assertRaisesRegex(BadInput, "did not start within"):
            self.trial(HEAD + self.lane("there"), runtimes=self.registry).conduct()
