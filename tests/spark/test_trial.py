"""Lanes of Spark in trials on this machine's cores: session, stages, forced answers, plans."""

from ivrell.core.trial.once import try_once
from tests.support.comparisons import HEAD, TrialCase, approach

QUICK = """\
settings = { "spark.driver.extraJavaOptions" = "-XX:TieredStopAtLevel=1" }
"""
KNOBS = HEAD.replace("rows = [300]", "rows = [30_000]\nparts = [3]")
COUNTED = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
PYTHON = """
    from pyspark.sql import functions as F

    def answer(data, knobs, stage, spark):
        with stage("keep"):
            kept = data.readings.cache()
            kept.count()
        with stage("group"):
            found = kept.pandas_api().groupby("gauge").agg(n=("reading", "count")).reset_index()
            assert spark.conf.get("spark.sql.shuffle.partitions") == "3"
            return found
"""


class InATrial(TrialCase):
    def test_stages_kept_session_and_a_written_answer_of_pandas_on_spark(self):
        lane = approach("there", PYTHON, "spark", partitions="{knobs.parts}", delivery="written")
        text = KNOBS + approach("home", COUNTED, "duckdb", input="parquet") + lane
        text = text.replace('id = "there"', 'id = "there"\n' + QUICK)
        trial = self.trial(text, warm_ups=1, calls_per_process=2)
        found = trial.conduct()
        runs = [run for run in trial.runs if run.approach == "there" and not run.memory_run]
        self.assertEqual([run.round for run in runs], [1], "a session warms up by itself")
        (run,) = runs
        self.assertEqual(run.state, "done", run.error)
        # One call that is told apart, and those that the plan asks for.
        self.assertEqual(len(run.calls), 3)
        self.assertGreater(run.first_elapsed_s, run.elapsed_s)
        names = [stage.name for stage in run.stages]
        self.assertEqual(names, ["keep", "group", "compute what was lazy"])
        self.assertEqual(run.scope, "the run's own processes")
        self.assertGreater(run.counters["Spark, keep: tasks"], 0)
        self.assertGreater(run.counters["Spark, compute what was lazy: tasks"], 0)
        self.assertGreater(run.cpu_s, run.counters["Spark: executor CPU seconds"])
        memory = next(run for run in trial.runs if run.memory_run)
        # The JVM is the run's own child, and holds what it holds.
        self.assertGreater(memory.peak_memory_bytes, 200 << 20)
        lane = found.points[0].lanes[1]
        self.assertTrue(lane.agreement.agrees, lane.agreement.reasons)
        self.assertEqual(lane.agreement.rows, 3)
        self.assertIn("of this machine", lane.placement.words)
        self.assertTrue(list(trial.folder.glob("answers/there-*.parts/part-*")))
        self.assertTrue((trial.folder / "spark-events" / f"{run.run}.json.gz").exists())

    def test_explained_and_an_error_at_its_line(self):
        text = KNOBS + approach("sql", "SELECT 1;\n" + COUNTED, "spark")
        text = text.replace('id = "sql"', 'id = "sql"\n' + QUICK)
        found = try_once(text, "sql", 1000, self.folder / "try", self.store, explained=True)
        self.assertIsNone(found.run.error)
        self.assertEqual([plan.line for plan in found.plans], [1, 2])
        steps = list(_all(found.plans[-1].plan))
        self.assertIn("HashAggregate", [step.what for step in steps])
        self.assertIn(1000, [step.rows for step in steps])
        self.assertTrue(any(step.own_s is not None for step in steps))
        self.assertTrue(any("gauge" in step.detail for step in steps))
        wrong = text.replace("count(*) AS n", "count(*) AS n, gouge")
        found = try_once(wrong, "sql", 1000, self.folder / "wrong", self.store)
        self.assertIn("gouge", found.run.error.message)
        self.assertEqual(found.run.error.line, 2)
        self.assertNotIn("\tat ", found.run.error.message)


def _all(step):
    yield step
    for below in step.steps:
        yield from _all(below)
