"""Spark on a real standalone cluster of two workers: tables made there while an executor is killed,
a run whose executor is killed, its figures, and its wrong answer found in the cluster."""

import contextlib
import os
import signal
import time
from pathlib import Path
from unittest.mock import patch

import pyarrow as pa
import pyarrow.parquet

from ivrell.core.agreement import judge
from ivrell.core.comparison.file import parse
from ivrell.core.contain.sandbox import why_not
from ivrell.core.measure import proc
from ivrell.core.recipe.generate import Generator
from ivrell.core.records.events import DataProgress, RunProgress
from ivrell.core.spark.clusters import Clusters
from tests.support.comparisons import TrialCase, approach
from tests.support.waiting import PATIENCE_S

HEAD = """format = "ivrell-comparison/1"
name = "Tolls on a cluster"
question = "Tolls per lock."
baseline = "home"

[answer]
key = ["passage"]

[knobs]
rows = [1_000_000]

[data]
seed = 7302

[data.tables.locks]
rows = 60
columns = [{ name = "lock", kind = "text", pattern = "[A-Z]{3}-[0-9]{2}", unique = true }]

[data.tables.passages]
rows = "{rows}"
order = "shuffled"
columns = [
  { name = "passage", kind = "sequence", start = 1 },
  { name = "lock", kind = "reference", to = "locks.lock", skew = 1.1 },
  { name = "toll", kind = "number", spread = "uniform", low = 3, high = 90, decimals = 2 },
]
"""
RIGHT = "SELECT passage, lock, toll * 2 AS toll FROM passages WHERE passage <= 20000"
WRONG = RIGHT.replace("toll * 2", "slow(toll)") + " AND passage <> 77"
CODE = f"""
from pyspark.sql.types import DoubleType

def answer(data, knobs, stage, spark):
    import time

    def slow(toll):
        # Some 5 s of all tasks together, so that there is one to be killed.
        time.sleep(0.0002)
        return toll * 2

    spark.udf.register("slow", slow, DoubleType())
    with stage("filter"):
        return spark.sql("{WRONG}")
"""


_JVM = "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC"
QUICK = {
    "spark.driver.extraJavaOptions": _JVM,
    "spark.executor.extraJavaOptions": _JVM,
    "spark.sql.codegen.wholeStage": "false",
    "spark.sql.shuffle.partitions": "2",
}
"""Of little work starting and compiling are nearly all."""


def executors(pid):
    """Executors of a cluster, by the process that all of it hangs below."""
    found = []
    for below in proc.descendants(pid):
        command = proc.read(f"/proc/{below}/cmdline")
        if "CoarseGrainedExecutorBackend" in command and "java" in command.split("\0")[0]:
            found.append(below)
    return found


class OnACluster(TrialCase):
    def setUp(self):
        super().setUp()
        # Executors run as somebody else, and have to get through here.
        self.folder.chmod(0o711)
        self.storage = self.folder / "storage"
        self.storage.mkdir(mode=0o711)
        self.registry = self.folder / "registry"
        self.registry.mkdir()
        Clusters(self.registry).add("pair", "standalone:2", str(self.storage), QUICK)
        self.killed = []
        self.seen = []

    def kill_all(self, at):
        server = self.trial_.preparation.spark._running["pair"].pid
        for victim in executors(server):
            with contextlib.suppress(ProcessLookupError):
                os.kill(victim, signal.SIGKILL)
        self.killed.append(at)

    def assertShutIn(self):
        server = self.trial_.preparation.spark._running["pair"].pid
        networks = {Path(f"/proc/{pid}/ns/net").readlink() for pid in ("self", server)}
        self.assertEqual(len(networks), 2)
        told = [proc.read(f"/proc/{server}/net/{kind}") for kind in ("tcp", "tcp6")]
        lines = "".join(told).splitlines()
        ports = {line.split()[1].rpartition(":")[2] for line in lines if " 0A " in line}
        self.assertTrue(ports)
        self.assertNotIn(f"{6066:04X}", ports, "its port for submissions is closed")
        if os.geteuid() == 0:
            self.assertIn("Uid:\t65534", Path(f"/proc/{server}/status").read_text())

    def listen(self, event):
        if isinstance(event, DataProgress) and event.table == "passages":
            begun = self.trial_.preparation.spark._running and event.rows < event.total
            if begun and "making" not in self.killed:
                self.kill_all("making")
        if isinstance(event, RunProgress) and event.cluster:
            self.seen.append(event.cluster)
            if event.cluster.running and "run" not in self.killed:
                if why_not() is None:
                    self.assertShutIn()
                self.kill_all("run")

    def test_made_run_and_judged_there_while_executors_are_killed(self):
        text = HEAD + approach("home", RIGHT, "duckdb", input="parquet")
        text += approach("there", CODE, "spark", at="pair", delivery="written")
        self.trial_ = trial = self.trial(
            text, runtimes=self.registry, limits={"memory_bytes": 6 << 30}
        )
        trial.listen = self.listen
        # A run to look at memory closely would take as long as all the rest.
        trial._status.needs_memory_run = lambda planned: False
        with patch.object(judge, "driven", wraps=judge.driven) as asked:
            found = trial.conduct()
        places = [call.args[2].place.master for call in asked.call_args_list]
        self.assertEqual([place.split(":")[0] for place in places], ["spark"])
        self.assertEqual(self.killed, ["making", "run"])
        self.assertTheTablesAreRight(trial)
        runs = [run for run in trial.runs if run.approach == "there"]
        timed = runs[0]
        self.assertEqual(timed.state, "done", timed.error)
        self.assertFigures(timed)
        agreement = found.points[0].lanes[1].agreement
        self.assertEqual(agreement.verdict, "different")
        self.assertEqual((agreement.missing_rows, agreement.extra_rows), (1, 0))
        self.assertEqual(agreement.reference_rows - agreement.rows, 1)
        self.assertEqual(agreement.examples[0].reference["passage"], 77)
        self.assertNothingIsLeft(trial)

    def assertTheTablesAreRight(self, trial):
        recipe = parse(trial.text).data.resolved({"rows": 1_000_000})
        there = [table for table in trial.made if str(self.storage) in table.paths[0]]
        (made,) = [table for table in there if table.table == "passages"]
        found = pa.concat_tables(pa.parquet.read_table(path) for path in made.paths)
        wanted = pa.Table.from_batches(Generator(recipe).read("passages"))
        self.assertTrue(found.cast(wanted.schema).equals(wanted))
        self.assertGreater(len(made.paths), 1)

    def assertFigures(self, run):
        self.assertEqual(run.scope, "the run's own processes and those of a server on this machine")
        self.assertGreater(run.counters["Spark: tasks"], 1)
        self.assertIsNotNone(run.first_elapsed_s)
        total = [call.counters for call in run.calls]
        retried = sum(counters["Spark: tasks run again"] for counters in total)
        self.assertGreaterEqual(retried, 1, total)
        failed = sum(counters["Spark: failed tasks"] for counters in total)
        self.assertGreaterEqual(failed, 1, total)
        # Python workers are in what the system counts, and not in what Spark does.
        self.assertGreater(run.cpu_s, run.counters["Spark: executor CPU seconds"])
        self.assertEqual(run.counters["Spark: executors"], 2)
        self.assertEqual(run.counters["Spark: executor cores"], 2)
        most = max(self.seen, key=lambda seen: seen.done)
        self.assertGreater(most.done, 0)
        self.assertEqual(max(seen.executors for seen in self.seen), 2)
        self.assertIn("filter", [stage.name for stage in run.stages])

    def assertNothingIsLeft(self, trial):
        self.assertEqual(_spark_processes(self.folder), [])
        logs = list((trial.folder / "spark-events").iterdir())
        self.assertEqual(len(logs), 1)
        kept = [path for path in self.storage.iterdir() if path.name.startswith("run-")]
        self.assertEqual(len(kept), 1, "one answer stays, that of the runs that gave the same")


def _spark_processes(folder):
    deadline = time.monotonic() + PATIENCE_S
    while True:
        found = [
            pid for pid in os.listdir("/proc")  # noqa: PTH208
            if pid.isdigit() and str(folder) in proc.read(f"/proc/{pid}/cmdline")
        ]  # fmt: skip
        if not found or time.monotonic() > deadline:
            return found
        time.sleep(0.2)
