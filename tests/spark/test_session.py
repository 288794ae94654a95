"""Spark in a real local session: tables made in its tasks, answers held against each other by
joins, digests, forms that are read, and what its log tells."""

import datetime as dt
import os
import shutil
import subprocess
import tempfile
import unittest
from contextlib import nullcontext
from dataclasses import asdict
from decimal import Decimal
from pathlib import Path
from unittest.mock import patch

import pyarrow as pa

from ivrell.core.agreement import in_cluster
from ivrell.core.agreement.compare import compare
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Answer, Statistics
from ivrell.core.engines.registry import ENGINES
from ivrell.core.engines.spark import SparkApproach
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.model import BLOCK_ROWS
from ivrell.core.recipe.store import DataStore
from ivrell.core.records.wire import Job, SparkPlace, TableShape
from ivrell.core.spark.answers import count_rows, described, digest, is_stored, written
from ivrell.core.spark.event_log import Tally
from ivrell.core.spark.making import _Wanted, make, spark_schema
from ivrell.core.spark.session import Watch, open_session
from ivrell.core.spark.tables import reader_for
from ivrell.core.tasks.task import ApproachFailed

DEMO = Path(__file__).resolve().parents[2] / "demo"
ROWS = 7 * BLOCK_ROWS - 1000
HEAD = f"""format = "ivrell-comparison/1"
name = "Boats at the locks"
question = "All passages."

[data]
seed = 11

[data.tables.locks]
rows = 40
columns = [{{ name = "lock", kind = "text", pattern = "[A-Z]{{3}}-[0-9]{{2}}", unique = true }}]

[data.tables.passages]
rows = {ROWS}
order = "shuffled"
duplicate_share = 0.01
columns = [
  {{ name = "passage", kind = "sequence", start = 1 }},
  {{ name = "lock", kind = "reference", to = "locks.lock", skew = 1.1, null_share = 0.05 }},
  {{ name = "at", kind = "timestamp", from = "2031-01-01", until = "2032-01-01" }},
  {{ name = "toll", kind = "number", spread = "normal", mean = 20, sd = 5 }},
]

[data.tables.gauges]
rows = {BLOCK_ROWS + 1000}
order = "by day"
columns = [
  {{ name = "day", kind = "date", from = "2031-01-01", until = "2031-12-31" }},
  {{ name = "wet", kind = "boolean" }},
]

[data.tables.days]
rows = 2000
order = "by day"
columns = [
  {{ name = "day", kind = "date", from = "2031-01-01", until = "2031-12-31", null_share = 0.1 }},
  {{ name = "at", kind = "timestamp", from = "2031-01-01", until = "2032-01-01" }},
  {{ name = "toll", kind = "number", spread = "normal", mean = 20, sd = 5 }},
]

[[approach]]
id = "none"
engine = "duckdb"
input = "parquet"
code = "SELECT 1"
"""


QUICK = {
    "spark.sql.codegen.wholeStage": "false",
    "spark.sql.codegen.factoryMode": "NO_CODEGEN",
    "spark.driver.extraJavaOptions": "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC",
}
"""Of a few rows compiling a plan takes longer than going through it."""

PLACE = SparkPlace("local[2]")


def setUpModule():
    """One session for all: it takes some ten seconds to start."""
    folder = Path(tempfile.mkdtemp(prefix="ivrell-spark-"))
    unittest.addModuleCleanup(shutil.rmtree, folder, ignore_errors=True)
    settings = {"spark.sql.shuffle.partitions": "2", **QUICK, "spark.log.level": "ERROR"}
    Session.folder = folder
    Session.spark = open_session(PLACE, folder, settings)
    unittest.addModuleCleanup(_end, Session.spark)
    Session.recipe = parse(HEAD).data.resolved({})


def _end(session):
    gateway = session.sparkContext._gateway
    session.stop()
    gateway.shutdown()
    gateway.proc.stdin.close()
    gateway.proc.wait(20)


class Session(unittest.TestCase):
    def frame(self, **columns):
        return self.spark.createDataFrame(pa.table(columns))

    def held(self, ours, theirs, **question):
        return in_cluster.held(self.frame(**ours), self.frame(**theirs), Answer(**question))


class Making(Session):
    def made(self, table, tasks, form="parquet"):
        place = self.folder / f"{table}-{tasks}-{form}"
        one = _Wanted(table=table, tasks=tasks, address=str(place))
        make(self.spark, self.recipe.model_dump_json(by_alias=True), one, Input(form=form))
        return sorted(map(str, (place / "rows").glob("part-*")))

    def test_the_same_rows_in_the_same_order_whatever_the_tasks(self):
        for table, all_tasks in (("passages", (1, 2, 7)), ("gauges", (2,)), ("locks", (2,))):
            generator = Generator(self.recipe)
            wanted = pa.Table.from_batches(generator.read(table))
            wanted = wanted.cast(spark_schema(wanted.schema))
            for tasks in all_tasks:
                with self.subTest(table=table, tasks=tasks):
                    paths = self.made(table, tasks)
                    self.assertEqual(len(paths), min(tasks, generator.blocks(table)))
                    found = pa.concat_tables(
                        self.spark.read.parquet(path).toArrow() for path in paths
                    )
                    self.assertEqual(found.column_names, wanted.column_names)
                    self.assertTrue(found.cast(wanted.schema).equals(wanted))

    def test_as_text_they_are_the_same_values(self):
        paths = self.made("days", 1, "csv")
        shape = TableShape(0, Generator(self.recipe).schema("days").serialize().to_pybytes().hex())
        found = reader_for(self.spark, "csv", shape, None, paths).load(paths)
        one = self.made("days", 1)
        self.assertEqual(digest(found), digest(self.spark.read.parquet(*one)))


class Forms(Session):
    def test_every_form_gives_the_same_rows(self):
        store = DataStore(self.folder / "made")
        generator = Generator(self.recipe)
        schema = generator.schema("locks").serialize().to_pybytes().hex()
        found = {}
        for form, reader in (
            ("parquet", "parquet"), ("csv", "csv"), ("csv.gz", "csv"), ("jsonl", "json"),
            ("orc", "orc"),
        ):  # fmt: skip
            made = store.ensure(self.recipe, "locks", form)
            shape = TableShape(made.rows, schema)
            frame = reader_for(self.spark, reader, shape, None, made.paths).load(made.paths)
            found[form] = digest(frame)
        self.assertEqual(len(set(found.values())), 1, found)
        self.assertEqual(found["csv"][0], 40)


class Digests(Session):
    def test_of_rows_whatever_their_order_and_types_of_a_family(self):
        one = self.frame(a=[1, 2, None], b=["x", None, "y"])
        other = self.frame(a=pa.array([None, 1, 2], pa.int32()), b=["y", "x", None])
        self.assertEqual(digest(one), digest(other))
        self.assertEqual(count_rows(one), 3)

    def test_a_null_is_unlike_a_value_and_stays_in_its_column(self):
        rows = [
            self.frame(a=[None, 1], b=[7, None]), self.frame(a=[7, 1], b=[None, None]),
            self.frame(a=[0, 1], b=[7, None]), self.frame(a=[None, 1, None], b=[7, None, 7]),
        ]  # fmt: skip
        self.assertEqual(len({digest(frame) for frame in rows}), 4)

    def test_zeros_and_not_a_number(self):
        nan = float("nan")
        self.assertEqual(
            digest(self.frame(a=[0.0, nan])), digest(self.frame(a=[float("nan"), -0.0]))
        )

    def test_a_written_answer_is_told_of_and_not_brought(self):
        frame = self.frame(lock=["Ash", "Elm"], n=[1, 2])
        left = written(frame, self.folder, "")
        told = described(self.spark, left)
        self.assertTrue(is_stored(told))
        self.assertEqual(told.num_rows, 1)
        self.assertEqual(told["rows"].to_pylist(), [2])
        self.assertEqual(told["digest"].to_pylist(), [digest(frame)[1]])
        self.assertFalse(is_stored(pa.table({"rows": [2]})))


class Held(Session):
    """Each verdict is that of ``compare`` on the same two tables at home."""

    def both(self, ours, theirs, **question):
        found = self.held(ours, theirs, **question)
        home = compare(pa.table(ours), pa.table(theirs), Answer(**question))
        self.assertEqual(found.agrees, home.agrees, (found.reasons, home.reasons))
        self.assertEqual(found.rows, home.rows)
        self.assertEqual(found.reference_rows, home.reference_rows)
        self.assertEqual(found.different_rows, home.different_rows)
        self.assertEqual(found.missing_rows, home.missing_rows)
        self.assertEqual(found.extra_rows, home.extra_rows)
        self.assertEqual(found.columns, home.columns)
        return found, home

    def test_same_in_any_order(self):
        found, _ = self.both(
            {"lock": ["Ash", "Elm", None], "n": [1, 2, 3]},
            {"lock": [None, "Elm", "Ash"], "n": [3, 2, 1]}, key=["lock"],
        )  # fmt: skip
        self.assertEqual(found.verdict, "same")

    def test_tolerance_and_the_largest_distance(self):
        ours = {"lock": ["Ash", "Elm"], "toll": [1000.0, 5.0]}
        near = {"lock": ["Elm", "Ash"], "toll": [5.0, 1000.0 + 1e-7]}
        found, home = self.both(ours, near, key=["lock"])
        self.assertEqual(found.verdict, "same within tolerance")
        self.assertAlmostEqual(found.largest_absolute, 1e-7, 10)
        self.assertEqual(
            [(c.name, c.equal, c.within) for c in found.evidence],
            [(c.name, c.equal, c.within) for c in home.evidence],
        )
        found, _ = self.both(ours, {**near, "toll": [5.0, 1001.0]}, key=["lock"])
        self.assertEqual((found.verdict, found.columns), ("different", {"toll": 1}))

    def test_without_a_key_rows_are_a_multiset(self):
        ours = {"lock": ["Ash", "Ash", "Elm"], "toll": [1.0, 2.0, 3.0]}
        found, _ = self.both(ours, {"lock": ["Elm", "Ash", "Ash"], "toll": [3.0, 2.0, 1.0]})
        self.assertTrue(found.agrees)
        found, _ = self.both(ours, {"lock": ["Elm", "Ash"], "toll": [3.0, 1.0]})
        self.assertEqual((found.missing_rows, found.extra_rows), (1, 0))

    def test_repeated_keys(self):
        found, home = self.both(
            {"lock": ["Ash", "Elm"], "n": [1, 2]}, {"lock": ["Ash", "Elm", "Elm"], "n": [1, 2, 2]},
            key=["lock"],
        )  # fmt: skip
        self.assertEqual(found.repeated_keys, home.repeated_keys)
        self.assertIn("1 rows repeat a key", " ".join(found.reasons))

    def test_nulls_and_not_a_number(self):
        nan = float("nan")
        self.both({"k": [1, 2], "x": [None, nan]}, {"k": [1, 2], "x": [None, nan]}, key=["k"])
        found, _ = self.both({"k": [1, 2], "x": [None, 1.0]}, {"k": [1, 2], "x": [0.0, nan]},
                             key=["k"])  # fmt: skip
        self.assertEqual(found.columns, {"x": 2})

    def test_types_that_lose_and_types_that_do_not(self):
        ours = {"k": [1, 2], "code": ["007", "12"]}
        found, _ = self.both(ours, {"k": [1, 2], "code": [7, 12]}, key=["k"])
        self.assertIn("leading zeros", " ".join(found.reasons))
        found, _ = self.both({"k": [1, 2]}, {"k": [1.0, 2.0]}, key=["k"])
        self.assertEqual(found.verdict, "same values, other types")
        moment = dt.datetime(2031, 5, 1)
        self.both({"k": [1], "at": [moment.date()]}, {"k": [1], "at": [moment]}, key=["k"])
        self.both({"k": [1], "x": [Decimal("1.50")]}, {"k": [1], "x": [1.5]}, key=["k"])

    def test_columns(self):
        found, _ = self.both({"k": [1], "n": [2]}, {"k": [1]}, key=["k"])
        self.assertEqual(found.missing_columns, ["n"])
        found, _ = self.both({"lock": ["a"], "N": [2]}, {"LOCK": ["a"], "n": [2]}, key=["lock"])
        self.assertEqual(found.renamed, {"lock": "LOCK", "N": "n"})

    def test_random_answers_by_statistics(self):
        ours = {"risk": [float(n % 50) for n in range(500)]}
        theirs = {"risk": [float((7 * n) % 50) + 0.01 for n in range(500)]}
        self.both(ours, theirs, statistics=Statistics())
        self.both(ours, {"risk": [2 * value for value in ours["risk"]]}, statistics=Statistics())

    def test_what_comes_home_is_bounded_and_all_is_counted(self):
        count = 600
        ours = {"k": list(range(count)), "n": [1] * count}
        theirs = {"k": list(range(count)), "n": [2] * (count - 100) + [1] * 100}
        with patch.object(in_cluster, "MOST_ROWS", 50):
            found, _ = self.both(ours, theirs, key=["k"])
        self.assertEqual(found.different_rows, 500)
        self.assertLessEqual(len(found.examples), 12)
        self.assertIn("500 rows do not agree", found.reasons[-1])

    def test_order_of_rows_in_files(self):
        places = []
        for name, values in (("a", [1, 2, 3]), ("b", [1, 2, 3]), ("c", [2, 1, 3])):
            places.append(self.folder / f"order-{name}")
            frame = self.frame(n=values).coalesce(1)
            frame.write.mode("overwrite").parquet(str(places[-1]))
        frames = [self.spark.read.parquet(str(place)) for place in places]
        question = Answer(order=True)
        self.assertTrue(in_cluster.held(frames[0], frames[1], question).agrees)
        found = in_cluster.held(frames[0], frames[2], question)
        self.assertEqual(found.verdict, "different")
        self.assertIn("another order", found.reasons[0])


class Logs(Session):
    def test_what_tasks_used_and_which_stage_they_belong_to(self):
        watch = Watch(self.spark, self.folder)
        watch.begin()
        context = self.spark.sparkContext
        context.setJobGroup("read", "read")
        self.spark.range(0, 100_000, 1, 4).selectExpr("sum(id % 7)").collect()
        context.setJobGroup("group", "group")
        frame = self.spark.range(0, 100_000, 1, 4).selectExpr("id % 7 AS k")
        frame.groupBy("k").count().collect()
        watch.settle()
        tally = watch.tally
        counters = tally.counters()
        self.assertGreaterEqual(counters["Spark: tasks"], 9)
        self.assertEqual(counters["Spark: failed tasks"], 0)
        self.assertGreater(counters["Spark: executor CPU seconds"], 0)
        self.assertGreater(counters["Spark, group: shuffle written bytes"], 0)
        parts = counters["Spark, read: tasks"] + counters["Spark, group: tasks"]
        self.assertEqual(parts, counters["Spark: tasks"])
        plans = list(tally.plans())
        self.assertEqual(len(plans), 2)
        steps = list(_all(plans[1][1]))
        self.assertTrue(any(step.rows == 100_000 for step in steps), steps)
        self.assertTrue(any(step.own_s for step in steps))
        watch.begin()
        watch.settle()
        self.assertEqual(tally.counters()["Spark: tasks"], 0)

    def test_a_task_that_fails_is_counted(self):
        watch = Watch(self.spark, self.folder)
        watch.begin()
        with self.assertRaises(Exception):  # noqa: B017 - whatever the driver makes of it
            self.spark.sql("SELECT assert_true(id < 5) FROM range(10)").collect()
        watch.settle()
        self.assertGreaterEqual(watch.tally.used.failed_tasks, 1)

    def test_what_is_no_event_is_passed_over(self):
        log = self.folder / "odd"
        log.write_bytes(
            b'{"Event": "SparkListenerTaskEnd"}\n[1]\nno json\n{"Event": "Other"}\n{"ha'
        )
        tally = Tally(log).read()
        self.assertEqual(tally.used.tasks, 0)
        self.assertEqual(tally.at, log.stat().st_size - len(b'{"ha'))

    def test_counted_against_the_system(self):
        """Executor CPU time is part of what the system counts of the driver's JVM."""
        watch = Watch(self.spark, self.folder)
        (java,) = _java_below(os.getpid())
        watch.begin()
        before = _cpu(java)
        self.spark.range(0, 1_500_000, 1, 2).selectExpr("sum(sqrt(id))").collect()
        watch.settle()
        system = _cpu(java) - before
        spark = watch.tally.used.executor_cpu_s
        self.assertGreater(spark, 0.1 * system)
        self.assertLess(spark, 1.1 * system + 0.1)


class Lanes(Session):
    """Tasks of the engine in the session that is there."""

    def task(self, code, rows=1000, **fields):
        recipe = self.recipe.model_copy(deep=True)
        made = DataStore(self.folder / "lanes").ensure(recipe, "days", "parquet")
        lane = SparkApproach(id="lane", engine="spark", code=code, **fields)
        folder = Path(tempfile.mkdtemp(dir=self.folder))
        job = Job(asdict(lane), {"days": made.given}, "parquet", {"n": 3}, folder, spark=PLACE)
        with patch("ivrell.core.spark.session.open_session", return_value=self.spark):
            task = ENGINES["spark"].prepare(job)
        task._watch = Watch(self.spark, self.folder)
        task.before_each()
        return task

    def test_explained_with_rows_and_times_of_each_step(self):
        task = self.task("SELECT 1;\nSELECT day, count(*) AS n FROM days GROUP BY day")
        plans = task.explained()
        self.assertEqual([plan.line for plan in plans], [1, 2])
        steps = list(_all(plans[-1].plan))
        self.assertIn("HashAggregate", [step.what for step in steps])
        self.assertIn(2000, [step.rows for step in steps])
        self.assertTrue(any(step.own_s is not None for step in steps))
        self.assertTrue(any("day" in step.detail for step in steps))

    def test_errors_stand_at_their_line_without_the_trace_of_java(self):
        for code, line in (
            ("SELECT 1;\nSELECT gouge FROM days", 2),
            ("def answer(data, knobs, stage, spark):\n    return data.days.select('gouge')\n", 2),
            ("def answer(data, knobs, stage, spark):\n    return 1 / 0\n", 2),
        ):
            with self.subTest(code=code), self.assertRaises(ApproachFailed) as caught:
                self.task(code).run(lambda name: nullcontext())
            self.assertEqual(caught.exception.line, line)
            self.assertNotIn("\tat ", caught.exception.message)

    def test_what_is_delivered(self):
        query = "SELECT toll, at FROM days WHERE day(day) <= :n"
        rows = self.task(query).run(lambda name: nullcontext())
        self.assertEqual(rows.column_names, ["toll", "at"])
        counted = self.task(query, delivery="discard").run(lambda name: nullcontext())
        self.assertEqual(counted, [{"rows": rows.num_rows}])
        task = self.task(query, delivery="written")
        left = task.run(lambda name: nullcontext())
        self.assertEqual(self.spark.read.parquet(left.address).count(), rows.num_rows)
        self.assertTrue(is_stored(task.hand_over(left)))

    def test_what_was_cached_is_gone_before_the_next_call(self):
        code = (
            "def answer(data, knobs, stage, spark):\n"
            "    with stage('keep'):\n        data.days.cache().count()\n"
            "    return data.days.limit(1)\n"
        )
        task = self.task(code)
        task.run(lambda name: nullcontext())
        self.assertTrue(self.spark.catalog.isCached("days") or task._python._data.days.is_cached)
        counters = task.counted().counters
        self.assertGreater(counters["Spark, keep: tasks"], 0)
        self.assertEqual(counters["Spark: executors"], 1)
        # What nobody told is not nought.
        for name in ("Spark: Python workers' memory bytes", "Spark: input bytes"):
            self.assertNotIn(name, counters)
            self.assertIn(name, task.counted().unknown)
        task.before_each()
        self.assertFalse(self.spark.catalog.isCached("days"))
        self.assertEqual(task.counted().counters["Spark: tasks"], 0)


class Demo(Session):
    def test_all_lanes_of_the_demo_agree(self):
        text = (DEMO / "tolls-on-a-cluster.toml").read_text()
        comparison = parse(text)
        knobs = {"rows": 20_000, "partitions": 2}
        recipe = comparison.data.resolved(knobs)
        store = DataStore(self.folder / "demo")
        tables = {name: store.ensure(recipe, name, "parquet").given for name in recipe.tables}
        answers = {}
        for lane in comparison.approach:
            job = Job(asdict(lane), tables, "parquet", knobs, self.folder, spark=PLACE)
            (self.folder / lane.id).mkdir()
            with patch("ivrell.core.spark.session.open_session", return_value=self.spark):
                task = ENGINES[lane.engine].prepare(job)
                task.before_each()
                answers[lane.id] = task.hand_over(task.run(lambda name: nullcontext()))
        self.assertGreater(answers["query"].num_rows, 500)
        for lane, answer in answers.items():
            with self.subTest(lane=lane):
                found = compare(answers["query"], answer, comparison.answer)
                self.assertTrue(found.agrees, found.reasons)


def _all(step):
    yield step
    for below in step.steps:
        yield from _all(below)


def _java_below(pid):
    told = subprocess.run(["pgrep", "-P", str(pid), "java"], capture_output=True, text=True)
    return [int(found) for found in told.stdout.split()]


def _cpu(pid):
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
