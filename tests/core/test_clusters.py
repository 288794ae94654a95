"""Places of Spark by name, what an approach says of its session, answers that stay in files: all
that needs no Spark."""

import json
import os
import socket
import subprocess
import unittest
from pathlib import Path
from unittest.mock import patch

import pyarrow as pa

from ivrell.core.agreement.record import Answers, NotKept
from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from ivrell.core.contain.sandbox import let_pass
from ivrell.core.engines import base
from ivrell.core.engines.base import state_of
from ivrell.core.engines.registry import ENGINES
from ivrell.core.engines.spark import SparkApproach, _Given, session_settings
from ivrell.core.records.findings import LaneFindings, Placement
from ivrell.core.records.machine import Machine
from ivrell.core.records.wire import Job, Order, SparkPlace
from ivrell.core.spark import clusters as found_clusters
from ivrell.core.spark.answers import PARTS, STORED
from ivrell.core.spark.clusters import Clusters
from ivrell.core.spark.event_log import FOLDER, Tally, log_in
from ivrell.core.spark.making import SparkStore, spark_schema
from ivrell.core.spark.places import Places
from ivrell.core.stats.cautions import Scene
from ivrell.core.stats.cautions.work import unequal_placement
from ivrell.core.tasks.task import ApproachFailed
from tests.support.comparisons import HEAD, TrialCase, approach


def spark(code="SELECT 1", **fields):
    return SparkApproach(id="a", engine="spark", code=code, **fields)


class Registry(TrialCase):
    def setUp(self):
        super().setUp()
        java = patch.object(found_clusters, "java_version", return_value="17")
        java.start()
        self.addCleanup(java.stop)
        self.known = Clusters(self.folder)

    def test_kept_with_its_settings_and_forgotten(self):
        (self.folder / "shared").mkdir()
        self.known.add(
            "pair", "standalone:2", str(self.folder / "shared"),
            {"spark.sql.shuffle.partitions": "4"}, 2, "2g",
        )  # fmt: skip
        found = Clusters(self.folder).get("pair")
        self.assertEqual((found.workers, found.worker_cores, found.worker_memory), (2, 2, "2g"))
        self.assertEqual(found.settings, {"spark.sql.shuffle.partitions": "4"})
        self.assertIn("2 workers, 2 cores and 2g each", found.words)
        self.assertEqual((self.folder / "clusters.json").stat().st_mode & 0o077, 0)
        self.known.remove("pair")
        with self.assertRaisesRegex(BadInput, "There is no cluster"):
            self.known.get("pair")

    def test_a_storage_that_went_away_is_told(self):
        shared = self.folder / "shared"
        shared.mkdir()
        self.known.add("pair", "standalone:2", str(shared))
        shared.rmdir()
        with self.assertRaisesRegex(BadInput, "its storage .*shared is not there"):
            self.known.get("pair")

    def test_without_registering(self):
        self.assertTrue(self.known.get("").is_local)
        self.assertTrue(self.known.get("local").is_local)
        self.assertEqual(self.known.get("standalone:3").workers, 3)

    def test_refused_with_the_reason(self):
        for asked, why in (
            (("x", "mesos://host"), "no address of Spark's"),
            (("x", "spark://"), "names no host"),
            (("x", "spark://127.0.0.1:1"), "does not answer at port 1"),
            (("x", "spark://127.0.0.1:none"), "port is no number"),
            (("x", "yarn"), "HADOOP_CONF_DIR"),
            (("", "local"), "needs a name"),
            (("x", "local", "shared"), "no storage that a cluster reaches"),
            (("x", "local", "/no/such/folder"), "There is no folder"),
            (("x", "local", "", {"shuffle": "4"}), "they begin with spark."),
            (("x", "local", "", {"spark.hadoop.fs.s3a.secret.key": "k"}), "is a secret"),
            (("x", "standalone:2", "", {}, 0), "1 to 1024 cores"),
            (("x", "standalone:2", "", {}, 1, "lots"), "no amount of memory"),
        ):
            with self.subTest(asked=asked), self.assertRaisesRegex(BadInput, why):
                self.known.add(*asked)
        self.assertEqual(self.known.all(), [])

    def test_addresses_of_several_masters_and_usual_ports(self):
        with socket.create_server(("127.0.0.1", 0)) as there:
            port = there.getsockname()[1]
            found = self.known.add("two", f"spark://127.0.0.1:1,127.0.0.1:{port}")
            self.assertEqual(found.words, "a cluster of your own")
        for address, why in (
            ("spark://127.0.0.1:1,127.0.0.1:2", r"at port 1: .*; 127\.0\.0\.1 .* at port 2"),
            ("k8s://https://127.0.0.1", "port 443"), ("k8s://http://127.0.0.1", "port 80"),
            ("k8s://127.0.0.1", "port 443"), ("sc://127.0.0.1", "port 15002"),
            ("spark://127.0.0.1,", "no host"), ("sc://127.0.0.1:99999", "no number"),
            ("sc://127.0.0.1/;token=abc;user_id=me", "a token in an address"),
        ):  # fmt: skip
            with self.subTest(address), self.assertRaisesRegex(BadInput, why) as caught:
                self.known.add("odd", address)
            self.assertNotIn("abc", str(caught.exception))

    def test_this_machine_s_cores_as_a_place(self):
        places = Places(self.folder / "spark", self.folder, cores=1)
        self.assertEqual(places.at("").place.master, "local[1]")
        self.assertEqual(places.at("local", threads=2).place.master, "local[2]")
        self.assertIsNone(places.at("").server)

    def test_forms_that_spark_does_not_write(self):
        comparison = parse(HEAD + approach("a", "SELECT 1", "spark"))
        recipe = comparison.data.resolved({"rows": 10})
        store = SparkStore(self.folder / "made", lambda: self.fail("no session"), "/nowhere")
        from ivrell.core.recipe.input import Input

        with self.assertRaisesRegex(BadInput, "does not write the form orc"):
            store.ensure(recipe, ["readings"], Input(form="orc"))


class Said(unittest.TestCase):
    def test_sql_and_python_are_told_apart(self):
        engine = ENGINES["spark"]
        code = "def answer(data, knobs, stage, spark):\n    return data.readings\n"
        self.assertEqual(engine.language_of(spark()), "sql")
        self.assertEqual(engine.language_of(spark(code)), "python")
        self.assertIsNone(engine.problem(spark(code)))
        self.assertIn("3 arguments", engine.problem(spark("def answer(a, b, c):\n    pass\n")).what)
        self.assertEqual(engine.problem(spark("def answer(a, b, c, d):\n  x = (\n")).line, 2)
        self.assertIn("no statement", engine.problem(spark(" ")).what)
        names = [seen.name for seen in engine.sees(spark(code), ["readings"], ["rows"])]
        self.assertEqual(names[:2], ["data.readings", "knobs.rows"])
        names = [seen.name for seen in engine.sees(spark(), ["readings"], ["rows"])]
        self.assertEqual(names[:2], ["readings", ":rows"])

    def test_settings_with_knobs_in_place(self):
        asked = {
            "partitions": "{knobs.parts}", "cores": 2, "memory": "2g",
            "settings": {"spark.sql.adaptive.enabled": False, "spark.x": "{knobs.parts}k"},
        }  # fmt: skip
        self.assertEqual(
            session_settings(asked, {"parts": 8}),
            {
                "spark.sql.shuffle.partitions": "8", "spark.executor.cores": "2",
                "spark.executor.memory": "2g", "spark.sql.adaptive.enabled": "false",
                "spark.x": "8k",
            },
        )  # fmt: skip
        with self.assertRaisesRegex(ApproachFailed, "no knob “pats”; there are: parts"):
            session_settings({"partitions": "{knobs.pats}"}, {"parts": 8})

    def test_without_it_the_engine_says_how_to_install_it(self):
        def absent(package):
            raise base.importlib.metadata.PackageNotFoundError(package)

        with patch.object(base.importlib.metadata, "version", side_effect=absent):
            state = state_of(ENGINES["spark"])
        self.assertFalse(state.installed)
        self.assertIn("pyspark", state.missing)
        self.assertIn("./start --with spark", state.hint)

    def test_a_frame_of_spark_s_own_is_not_brought_to_the_driver(self):
        frame = type("DataFrame", (), {"__module__": "pyspark.sql.classic.dataframe",
                                       "toArrow": lambda self: None})()  # fmt: skip
        task = object.__new__(_Given)
        self.assertIsNone(task.lazy(frame))
        self.assertIsNotNone(task.lazy(iter([1])))

    def test_a_job_tells_where_its_session_is(self):
        place = SparkPlace("spark://127.0.0.1:1", {"spark.x": "1"}, "file:///s", seen=False)
        job = Job({"id": "a"}, {}, "parquet", {}, Path("/run"), spark=place)
        back = Order.from_json(json.loads(json.dumps(Order(job).as_json())))
        self.assertEqual(back.job.spark, place)

    def test_arrow_types_that_spark_has(self):
        given = pa.schema([
            ("d", pa.dictionary(pa.int8(), pa.string())), ("n", pa.uint64()), ("u", pa.uint8()),
            ("t", pa.timestamp("ns")), ("x", pa.float64()),
        ])  # fmt: skip
        kinds = [str(field.type) for field in spark_schema(given)]
        self.assertEqual(kinds, ["string", "decimal128(20, 0)", "int64", "timestamp[us]", "double"])


class Placed(unittest.TestCase):
    def lane(self, name, placement=None, pinned=None):
        from ivrell.core.stats.summary import summarize

        return LaneFindings(
            id=name, name=name, engine="duckdb", input="parquet", baseline=False, state="done",
            code_lines=1, elapsed=summarize([1.0, 1.0, 1.0]), placement=placement,
            pinned_cores=pinned,
        )  # fmt: skip

    def told(self, *lanes):
        return list(unequal_placement(Scene(list(lanes), Machine(cores=2))))

    def test_in_words(self):
        self.assertEqual(
            Placement(executors=8, cores=16, here=False).words, "8 executors, 16 cores"
        )
        self.assertEqual(Placement(executors=1, cores=1, here=True).words, "1 core here")

    def test_more_cores_than_another_lane_is_a_caution(self):
        big = Placement(executors=8, cores=16, here=False)
        (found,) = self.told(self.lane("here"), self.lane("there", big))
        self.assertEqual(found.lane, "there")
        self.assertIn("8 executors, 16 cores", found.reason)
        self.assertIn("here had 2", found.reason)
        same = Placement(executors=1, cores=2, here=True)
        self.assertEqual(self.told(self.lane("here"), self.lane("spark", same)), [])
        (found,) = self.told(self.lane("here", pinned=1), self.lane("spark", same))
        self.assertEqual(found.lane, "spark")
        self.assertEqual(self.told(self.lane("a", pinned=1), self.lane("b")), [])


class Stored(TrialCase):
    """Answers whose rows lie in files beside what is handed over."""

    def setUp(self):
        super().setUp()
        text = HEAD + approach("a", "SELECT 1", "spark") + approach("b", "SELECT 1", "duckdb",
                                                                     input="parquet")  # fmt: skip
        self.answers = Answers(parse(text), self.folder / "answers")
        self.run_folder = self.folder / "run"
        (self.run_folder / PARTS).mkdir(parents=True)
        (self.run_folder / PARTS / "part-0.parquet").write_bytes(b"rows")

    def handed_over(self, stored=True):
        table = pa.table({"rows": [1], "digest": ["ab"]})
        if stored:
            table = table.replace_schema_metadata({STORED: b"1"})
        path = self.run_folder / ".answer.arrow"
        with pa.OSFile(str(path), "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
            writer.write_table(table)
        return path

    def take(self, parts, stored=True):
        self.answers.take("a", {"rows": 300}, self.handed_over(stored), "ab", parts)

    def test_moved_beside_the_answer(self):
        self.take(str(self.run_folder / PARTS))
        rows = self.answers.rows("a", "ab")
        self.assertIsNone(rows.table)
        self.assertEqual([path.name for path in Path(rows.address).iterdir()], ["part-0.parquet"])
        self.assertFalse((self.run_folder / PARTS).exists())

    def test_on_a_storage_the_address_is_kept(self):
        self.take(f"file://{self.run_folder / PARTS}")
        self.assertEqual(self.answers.rows("a", "ab").address, f"file://{self.run_folder / PARTS}")
        self.assertTrue((self.run_folder / PARTS).exists())

    def test_links_on_a_storage_of_this_machine_are_refused_too(self):
        (self.run_folder / PARTS / "part-1.parquet").symlink_to("/etc/passwd")
        with self.assertRaises(NotKept):
            self.take(f"file://{self.run_folder / PARTS}")

    def test_of_an_answer_that_holds_its_rows_nothing_else_is_taken(self):
        self.take(str(self.run_folder / PARTS), stored=False)
        self.assertEqual(self.answers.rows("a", "ab").table.num_rows, 1)
        self.assertTrue((self.run_folder / PARTS).exists())

    def test_links_and_missing_rows_are_refused(self):
        secret = self.folder / "secret"
        secret.write_text("x")
        (self.run_folder / PARTS / "part-1.parquet").symlink_to(secret)
        with self.assertRaisesRegex(NotKept, r"no plain file: part-1\.parquet"):
            self.take(str(self.run_folder / PARTS))
        (self.run_folder / PARTS / "part-1.parquet").unlink()
        os.link(secret, self.run_folder / PARTS / "part-2.parquet")
        with self.assertRaises(NotKept):
            self.take(str(self.run_folder / PARTS))
        with self.assertRaisesRegex(NotKept, "not there"):
            self.take(str(self.run_folder / "nowhere"))
        folder = self.run_folder / "linked"
        folder.symlink_to(self.folder)
        with self.assertRaises(NotKept):
            self.take(str(folder))

    def test_without_a_session_they_are_told_as_not_looked_at(self):
        self.take(str(self.run_folder / PARTS))
        judged = self.answers.judge(["a"], {"rows": 300})
        self.assertEqual(judged["a"].verdict, "no answer")
        self.assertIn("were not looked at", judged["a"].reasons[0])


class Passing(TrialCase):
    def test_made_data_that_is_its_owner_s_alone_can_be_passed_through_by_runs(self):
        if os.geteuid():
            self.skipTest("runs are another user's only where root starts them")
        made = self.folder / "made"
        made.mkdir(mode=0o700)
        (made / "table").write_text("rows")
        self.folder.chmod(0o711)
        let_pass(made)

        def read(*asked):
            command = ["setpriv", *asked, "--clear-groups", "cat", str(made / "table")]
            return subprocess.run(command, capture_output=True).returncode == 0

        self.assertTrue(read("--reuid=65534", "--regid=65534"))
        self.assertFalse(read("--reuid=65533", "--regid=65533"))


class Log(TrialCase):
    def events(self, *events):
        place = self.folder / FOLDER
        place.mkdir(exist_ok=True)
        path = place / "local-1"
        with path.open("a") as file:
            file.writelines(json.dumps(event) + "\n" for event in events)
        return path

    def task(self, number, attempt=0, **end):
        executor = str(number % 2)
        info = {"Task ID": number, "Attempt": attempt, "Accumulables": [], "Executor ID": executor}
        where = {"Stage ID": 0, "Stage Attempt ID": 0, "Task Info": info}
        metrics = {"Executor CPU Time": 2e9, "Shuffle Write Metrics": {"Shuffle Bytes Written": 7}}
        held = {"ProcessTreeJVMRSSMemory": 5 + number % 2, "ProcessTreePythonRSSMemory": 2}
        ended = {"Event": "SparkListenerTaskEnd", **where, "Task Metrics": metrics,
                 "Task Executor Metrics": held,
                 "Task End Reason": {"Reason": "Success"}, **end}  # fmt: skip
        return {"Event": "SparkListenerTaskStart", **where}, ended

    def test_as_it_grows(self):
        stage = {"Stage ID": 0, "Stage Attempt ID": 0, "Number of Tasks": 3}
        added = {"Event": "SparkListenerExecutorAdded", "Executor ID": "0",
                 "Executor Info": {"Total Cores": 4}}  # fmt: skip
        first, first_end = self.task(0)
        path = self.events(added, {"Event": "SparkListenerStageSubmitted", "Stage Info": stage},
                           first)  # fmt: skip
        tally = Tally(log_in(self.folder))
        seen = tally.read().progress()
        self.assertEqual((seen.executors, seen.cores), (1, 4))
        self.assertEqual((seen.waiting, seen.running, seen.done), (2, 1, 0))
        lost = {"Task End Reason": {"Reason": "ExecutorLostFailure"}, "Task Metrics": None}
        second, second_end = self.task(1, **lost)
        again, again_end = self.task(2, attempt=1)
        self.events(first_end, second, second_end, again, again_end)
        self.events({"Event": "SparkListenerExecutorRemoved", "Executor ID": "0"})
        seen = tally.read().progress()
        self.assertEqual((seen.executors, seen.done, seen.shuffle_bytes), (0, 3, 14))
        self.assertEqual((tally.used.failed_tasks, tally.used.retried_tasks), (1, 1))
        self.assertEqual(tally.used.executor_cpu_s, 4.0)
        self.assertEqual(sum(tally.used.held_bytes.values()), 15, "the most of each executor")
        self.assertEqual(tally.lost, [""])
        path.write_text("")
        self.assertEqual(tally.read().used.tasks, 3)
        tally.begin()
        self.assertEqual(tally.lost, [], "those of an earlier call are no news")

    def test_links_are_no_logs(self):
        outside = self.folder / "outside"
        outside.mkdir()
        (outside / "log").write_text("")
        (self.folder / FOLDER).symlink_to(outside)
        self.assertIsNone(log_in(self.folder))
        self.assertIsNone(log_in(self.folder / "nowhere"))
