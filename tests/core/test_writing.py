"""Approaches that write: buckets, counters of writing, and plans."""

import json
import tempfile
import unittest
from pathlib import Path

import pyarrow as pa

from ivrell.core.engines.explain import from_duckdb, from_postgres, from_sqlite
from ivrell.core.records.wire import EXPLAINED
from ivrell.core.trial.once import try_once
from tests.core.test_sql_engines import EngineCase, sql
from tests.support.comparisons import HEAD, approach

BIG = HEAD.replace("rows = [300]", "rows = [20000]").replace('key = ["gauge"]', "")
LEDGER = """writes = true
setup = "CREATE TABLE ledger (reading int, gauge text)"
answer = "SELECT * FROM ledger"
"""
ONE_BY_ONE = """
    def answer(data, knobs, stage, db):
        for reading, gauge in db.execute("SELECT reading, gauge FROM readings").fetchall():
            db.execute("INSERT INTO ledger VALUES (%s, %s)", [reading, gauge])
"""


def client(lane, code, more=""):
    fields = 'server = "postgres"\nwrites = true\n'
    return approach(lane, code) + fields + more


class Buckets(EngineCase):
    def test_every_way_of_leaving_named_parts_gives_the_same_answer(self):
        split = """
            CREATE TABLE kept AS SELECT * FROM readings WHERE reading % 3 > 0;
            CREATE TABLE rejected AS SELECT * FROM readings WHERE reading % 3 = 0
        """
        named = (
            'writes = true\n[approach.buckets]\nkept = "SELECT * FROM kept"\n'
            'rejected = "SELECT * FROM rejected"\n'
        )
        frame = """
            import polars as pl
            def answer(data, knobs, stage):
                rows = pl.scan_csv(data.readings)
                bad = pl.col("reading") % 3 == 0
                return {"kept": rows.filter(~bad), "rejected": rows.filter(bad)}
        """
        awk = """
            NR == 1 { print > "kept.csv"; print > "rejected.csv"; next }
            { print > ($1 % 3 ? "kept.csv" : "rejected.csv") }
        """
        lanes, _ = self.conducted(
            approach("frame", frame),
            sql("duck", "duckdb", split, 'input = "duckdb"\n' + named),
            sql("lite", "sqlite", split, named),
            sql("server", "postgres", split, named),
            approach("awk", awk, "command")
            + 'argv = ["awk", "-F", ",", "-f", "{script}", "{readings}"]\n'
            + '[approach.buckets]\nkept = "kept.csv"\nrejected = "rejected.csv"\n',
            text=HEAD.replace('key = ["gauge"]', ""),
        )
        for name, lane in lanes.items():
            with self.subTest(lane=name):
                self.assertTrue(lane.agreement.agrees, lane.agreement.reasons)
                self.assertEqual(lane.agreement.rows, 300)

    def test_single_commits_flush_the_log_each_and_one_transaction_hardly(self):
        whole = """
            def answer(data, knobs, stage, db):
                with db.transaction():
                    rows = db.execute("SELECT reading, gauge FROM readings").fetchall()
                    db.cursor().executemany("INSERT INTO ledger VALUES (%s, %s)", rows)
        """
        table = 'answer = "SELECT * FROM ledger"\n'
        make = "db.execute('CREATE TABLE ledger (reading int, gauge text)')"
        lines = ONE_BY_ONE.replace("db):", f"db):\n        {make}", 1)
        _, runs = self.conducted(
            client("each", lines, table),
            client("once", whole.replace("db):", f"db):\n                {make}", 1), table),
            sql("set", "postgres", "INSERT INTO ledger SELECT * FROM readings", LEDGER),
            text=BIG,
        )
        flushed = {name: run.counters["log flushes"] for name, run in runs.items()}
        self.assertAlmostEqual(flushed["each"], 20_000, delta=400)
        for lane in ("once", "set"):
            self.assertLess(flushed[lane], 20, lane)
        self.assertEqual(runs["set"].counters["rows inserted"], 20_000)
        self.assertGreater(runs["each"].server_cpu_s, runs["set"].server_cpu_s)

    def test_an_index_that_finds_a_range_row_by_row_touches_many_times_the_pages(self):
        delete = "DELETE FROM readings WHERE reading <= 8000"
        left = 'writes = true\nanswer = "SELECT count(*) AS n FROM readings"\n'
        _, runs = self.conducted(
            sql("scan", "postgres", delete, left),
            sql("index", "postgres", delete, left
                + 'indexes = ["readings(reading)"]\nsettings = { enable_seqscan = "off", '
                + 'enable_bitmapscan = "off" }\n'),
            text=BIG.replace("columns = [", 'order = "shuffled"\ncolumns = [', 1),
        )  # fmt: skip
        touched = {name: run.counters["blocks found in buffers"] for name, run in runs.items()}
        self.assertGreater(touched["index"], 1.5 * touched["scan"])
        of_table = runs["index"].counters["readings: blocks found in buffers"]
        self.assertGreater(of_table, 8000)
        self.assertEqual(runs["index"].counters["rows deleted"], 8000)


class Repeated(EngineCase):
    """Each call of a lane that writes finds the tables as the first one did."""

    DELETES = "DELETE FROM readings WHERE reading <= 1000"
    LEFT = 'writes = true\nanswer = "SELECT count(*) AS n FROM readings"\n'

    def deleted(self, run):
        counters = run.counters
        return counters.get("rows deleted", counters.get("rows changed"))

    def test_short_calls_that_delete_are_repeated_on_restored_tables(self):
        client_code = f"def answer(data, knobs, stage, db):\n    db.execute({self.DELETES!r})"
        lanes, runs = self.conducted(
            sql("server", "postgres", self.DELETES, self.LEFT),
            sql("lite", "sqlite", self.DELETES, self.LEFT),
            sql("duck", "duckdb", self.DELETES, 'input = "duckdb"\n' + self.LEFT),
            client("client", client_code, 'answer = "SELECT count(*) AS n FROM readings"\n'),
            text=BIG,
            min_sample_s=0.05,
            rounds=2,
        )
        for name, run in runs.items():
            with self.subTest(lane=name):
                self.assertTrue(lanes[name].agreement.agrees, lanes[name].agreement)
                self.assertEqual(lanes[name].agreement.rows, 1)
                if name == "duck":
                    continue
                self.assertGreater(run.inner_repeats, 1)
                self.assertEqual(self.deleted(run), 1000)
                self.assertGreater(run.elapsed_s, run.first_elapsed_s / 10)

    def test_calls_of_a_kept_process_are_told_apart(self):
        _, runs = self.conducted(
            sql("server", "postgres", self.DELETES, self.LEFT),
            sql("lite", "sqlite", self.DELETES, self.LEFT),
            text=BIG,
            calls_per_process=3,
        )
        for run in runs.values():
            counted = [self.deleted(call) for call in run.calls]
            self.assertEqual(counted, [1000, 1000, 1000])
            self.assertGreater(run.tables_s, 0)

    def test_setup_comes_before_each_call_of_sql_in_a_session_of_its_own(self):
        setup = 'setup = "CREATE TEMP TABLE seen (n int); INSERT INTO seen VALUES (1)"\n'
        code = "INSERT INTO seen VALUES (2); SELECT 'Ash' AS gauge, count(*) AS n FROM seen"
        lanes, _ = self.conducted(
            sql("duck", "duckdb", code, setup),
            sql("lite", "sqlite", code, setup + "writes = true\n"),
            sql("server", "postgres", code, setup),
            calls_per_process=3,
        )
        for name, lane in lanes.items():
            self.assertTrue(lane.agreement.agrees, name)
        trial = self.trial(
            HEAD + sql("one", "postgres", code, setup), name="once", calls_per_process=3
        )
        trial.conduct()
        (answer,) = (trial.folder / "answers").glob("*.arrow")
        with pa.OSFile(str(answer)) as source:
            self.assertEqual(pa.ipc.open_file(source).read_all()["n"].to_pylist(), [2])


class Counters(EngineCase):
    """What PostgreSQL counted is the lane's alone, or null with its reason."""

    def counters(self, code, more=""):
        name = f"trial-{len(list(self.folder.glob('trial-*')))}"
        trial = self.trial(BIG + sql("one", "postgres", code, more), name=name)
        trial.conduct()
        run = trial.runs[0]
        self.assertIsNone(run.error)
        return run.counters, run.not_measured

    def test_one_statement_is_one_commit_whatever_workers_help(self):
        helped = "set_config('max_parallel_workers_per_gather', '2', false)"
        parallel = (
            "settings = { max_parallel_workers_per_gather = 2, parallel_setup_cost = 0, "
            "parallel_tuple_cost = 0, min_parallel_table_scan_size = 0 }\n"
        )
        for code, more in (
            ("SELECT 1 AS one", ""),
            ("SELECT count(*) AS n FROM readings", parallel),
            ("SELECT 1 AS one", f'setup = "SELECT {helped}"\n'),
        ):
            with self.subTest(code=code, more=more):
                counted, _ = self.counters(code, more)
                self.assertEqual(counted["commits"], 1)
                self.assertEqual(counted["rollbacks"], 0)

    def test_each_statement_of_its_own_is_a_commit(self):
        code = ONE_BY_ONE.replace("db):", "db):\n        db.execute('DELETE FROM readings')", 1)
        code = code.replace("ledger VALUES", "readings VALUES")
        code = code.replace('FROM readings")', 'FROM readings WHERE reading < 0")')
        answer = 'answer = "SELECT count(*) AS n FROM readings"\n'
        trial = self.trial(BIG + client("one", code, answer))
        trial.conduct()
        self.assertEqual(trial.runs[0].counters["commits"], 2)

    def test_scanned_rows_are_those_of_the_user_s_tables(self):
        self.assertEqual(self.counters("SELECT 1 AS one")[0]["rows scanned"], 0)
        counted, _ = self.counters("SELECT count(*) AS n FROM readings")
        self.assertEqual(counted["rows scanned"], 20_000)
        self.assertGreater(counted["blocks found in buffers"], 100)
        self.assertEqual(
            counted["blocks found in buffers"], counted["readings: blocks found in buffers"]
        )

    def test_tables_that_change_names_are_told_apart_by_what_they_are(self):
        moved = (
            "CREATE TABLE kept AS SELECT * FROM readings WHERE reading <= 100; "
            "ALTER TABLE readings RENAME TO old; ALTER TABLE kept RENAME TO readings"
        )
        more = 'writes = true\nanswer = "SELECT count(*) AS n FROM readings"\n'
        counted, _ = self.counters(moved, more)
        self.assertEqual(counted["rows inserted"], 100)
        self.assertGreater(counted["old: blocks found in buffers"], 100)
        self.assertTrue(all(value >= 0 for value in counted.values()), counted)

    def test_what_went_with_a_dropped_table_is_null_with_its_reason(self):
        moved = (
            "CREATE TABLE kept AS SELECT * FROM readings; DROP TABLE readings; "
            "ALTER TABLE kept RENAME TO readings"
        )
        more = 'writes = true\nanswer = "SELECT count(*) AS n FROM readings"\n'
        counted, why = self.counters(moved, more)
        self.assertNotIn("rows scanned", counted)
        self.assertIn("dropped", why["rows scanned"])
        self.assertTrue(all(value >= 0 for value in counted.values()), counted)
        self.assertEqual(counted["commits"], 3)
        rolled = "BEGIN; CREATE TABLE a AS SELECT * FROM readings; ROLLBACK; SELECT 1 AS one"
        counted, why = self.counters(rolled, "writes = true\n")
        self.assertIn("dropped", why["rows inserted"])
        self.assertEqual((counted["commits"], counted["rollbacks"]), (1, 1))

    def test_further_sessions_and_open_transactions_are_not_guessed_at(self):
        more = 'answer = "SELECT 1 AS n"\n'
        left_open = "db.autocommit = False\n    db.execute('SELECT count(*) FROM readings')"
        code = f"def answer(data, knobs, stage, db):\n    {left_open}"
        trial = self.trial(BIG + client("one", code, more))
        trial.conduct()
        self.assertIn("transaction open", trial.runs[0].not_measured["commits"])
        another = (
            "import psycopg\ndef answer(data, knobs, stage, db):\n"
            "    with psycopg.connect(db.address) as other:\n"
            "        other.execute('SELECT count(*) FROM readings')"
        )
        trial = self.trial(BIG + client("one", another, more), name="another")
        trial.conduct()
        run = trial.runs[0]
        self.assertIsNone(run.error)
        self.assertIn("more sessions", run.not_measured["commits"])
        self.assertEqual(run.counters["rows scanned"], 20_000)


class Explained(EngineCase):
    def plans(self, lane, rows=20_000):
        store = self.store
        folder = Path(tempfile.mkdtemp(dir=self.folder))
        found = try_once(BIG + lane, "one", rows, folder, store, mode=EXPLAINED)
        self.assertEqual(found.run.error, None)
        return found.plans

    def words(self, step):
        return [step.what.lower(), *(w for s in step.steps for w in self.words(s))]

    def test_each_engine_tells_its_steps_with_what_it_counted(self):
        code = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
        for engine, scan in (
            ("postgres", "seq scan"),
            ("duckdb", "table scan"),
            ("sqlite", "scan"),
        ):
            with self.subTest(engine):
                (plan,) = self.plans(sql("one", engine, code))
                self.assertTrue(any(scan in word for word in self.words(plan.plan)), plan)
                if engine == "sqlite":
                    continue
                leaf = plan.plan
                while leaf.steps:
                    leaf = leaf.steps[0]
                self.assertEqual(leaf.rows, 20_000)

    def test_statements_before_the_answer_are_carried_out_too(self):
        plans = self.plans(
            sql("one", "postgres", "INSERT INTO ledger SELECT * FROM readings;\nANALYZE ledger;\n"
                "SELECT count(*) FROM ledger", LEDGER.replace("answer", "note"))
        )  # fmt: skip
        self.assertEqual([plan.plan is None for plan in plans], [False, True, False])
        self.assertEqual(plans[2].line, 3)
        self.assertGreater(plans[0].plan.blocks["found in buffers"], 0)

    def test_python_has_no_plan_and_says_so(self):
        store = self.store
        lane = approach("one", "def answer(data, knobs, stage):\n    return []")
        found = try_once(BIG + lane, "one", 10, self.folder / "t", store, mode=EXPLAINED)
        self.assertEqual(found.run.error.kind, "no plan")


class Trees(unittest.TestCase):
    def test_postgres_steps_keep_their_own_time(self):
        scan = {"Node Type": "Seq Scan", "Relation Name": "readings", "Actual Rows": 50,
                "Actual Loops": 2, "Actual Total Time": 30.0, "Plan Rows": 60}  # fmt: skip
        gather = {"Node Type": "Gather", "Workers Launched": 1, "Actual Rows": 100,
                  "Actual Loops": 1, "Actual Total Time": 40.0, "Plan Rows": 90,
                  "Plans": [scan]}  # fmt: skip
        step = from_postgres(json.dumps([{"Plan": gather}]))
        self.assertAlmostEqual(step.own_s, 0.010)
        self.assertAlmostEqual(step.steps[0].own_s, 0.060)
        self.assertEqual((step.steps[0].rows, step.steps[0].detail), (100.0, "readings"))

    def test_duckdb_wrappers_are_left_out(self):
        inner = {"type": "HASH_GROUP_BY", "timing": 0.5, "intermediate_rows": 3,
                 "extra_info": {"Groups": ["#0"], "Estimated Cardinality": "7"}}  # fmt: skip
        outer = {"type": "RESULT_COLLECTOR", "children": [{"type": "EXPLAIN_ANALYZE",
                 "children": [inner]}]}  # fmt: skip
        step = from_duckdb(json.dumps({"operator": [outer]}))
        self.assertEqual((step.what, step.detail, step.rows), ("Hash group by", "#0", 3.0))
        self.assertEqual((step.expected_rows, step.own_s), (7.0, 0.5))

    def test_sqlite_rows_become_a_tree(self):
        step = from_sqlite([(3, 0, 0, "SCAN readings"), (8, 0, 0, "USE TEMP B-TREE FOR GROUP BY")])
        self.assertEqual([s.what for s in step.steps], ["Scan", "Use"])


if __name__ == "__main__":
    unittest.main()
