"""A lane of Spark in a trial on this machine's cores, from its session to its verdict."""

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
        trial._status.needs_memory_run = lambda planned: False
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
        # The JVM is the run's own child, so that its memory needs a run of its own.
        self.assertTrue(run.several_processes)
        lane = found.points[0].lanes[1]
        self.assertTrue(lane.agreement.agrees, lane.agreement.reasons)
        self.assertEqual(lane.agreement.rows, 3)
        self.assertRegex(lane.placement.words, r"cores? here")
        self.assertTrue(list(trial.folder.glob("answers/there-*.parts/part-*")))
        self.assertTrue((trial.folder / "spark-events" / f"{run.run}.json.gz").exists())
