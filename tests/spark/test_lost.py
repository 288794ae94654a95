"""A lane whose executors end again and again is told so, with the stage, their number and their
last words."""

from ivrell.core.spark.clusters import Clusters
from tests.spark.test_cluster import QUICK
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

DEADLY = """
from pyspark.sql.functions import udf

def answer(data, knobs, stage, spark):
    @udf("int")
    def deadly(gauge):
        import os, signal
        parent = os.getpid()
        while "CoarseGrained" not in open(f"/proc/{parent}/cmdline").read():
            parent = int(open(f"/proc/{parent}/stat").read().rpartition(")")[2].split()[1])
        os.kill(parent, signal.SIGKILL)

    with stage("deadly"):
        return data.readings.select(deadly("gauge").alias("n"))
"""


class Lost(TrialCase):
    def point(self):
        registry = self.folder / "registry"
        self.folder.chmod(0o711)
        storage = self.folder / "storage"
        storage.mkdir(mode=0o711)
        Clusters(registry).add("pair", "standalone:2", str(storage), QUICK)
        text = HEAD + approach("here", COUNTING)
        text += approach("deadly", DEADLY, engine="spark", input="csv", at="pair")
        trial = self.trial(text, runtimes=registry, limits={"seconds": 240})
        return trial.conduct().points[0]

    def test_the_stage_their_number_and_what_was_heard_last(self):
        point = self.point()
        self.assertEqual(point.lane("here").state, "done")
        self.assertRegex(
            point.lane("deadly").trouble,
            "^executors lost: Stage “compute what was lazy” lost [2-9] executors, and Spark gave "
            r"it up\. Last heard of one: Command exited with code 137 \(killed, as .+\)\.$",
        )
        [told] = [c for c in point.cautions if c.word == "failed"]
        self.assertIn("Give its executors more memory", told.hint)
