"""Engines over loaded tables, programs, and client code that drives a server."""

import os
import shutil
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

from ivrell.core.base import locks
from ivrell.core.base.errors import BadInput
from ivrell.core.base.locks import in_use, not_in_use
from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.recipe.store import DataStore
from tests.support.comparisons import HEAD, TrialCase, approach

COUNT = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
BIG = HEAD.replace("rows = [300]", "rows = [400000]")


class EngineCase(TrialCase):
    """Trials whose private server and loaded tables are made once for all tests of the class."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        folder = tempfile.TemporaryDirectory(prefix="ivrell-engines-")
        cls.addClassCleanup(folder.cleanup)
        cls.shared = Path(folder.name)
        # PostgreSQL runs as another user when this runs as root, and has to get through here.
        cls.shared.chmod(0o755)

    @property
    def store(self):
        return DataStore(self.shared / "made")

    def setUp(self):
        super().setUp()
        # PostgreSQL runs as another user when this runs as root, and has to get through here.
        self.folder.chmod(0o755)

    def conducted(self, *lanes, text=HEAD, **plan):
        trial = self.trial(text + "".join(lanes), **plan)
        point = trial.conduct().points[0]
        self.assertEqual([run.error for run in trial.runs if run.error], [], "no lane may fail")
        return {lane.id: lane for lane in point.lanes}, {run.approach: run for run in trial.runs}

    def failed(self, lane, **plan):
        trial = self.trial(HEAD + lane, **plan)
        trial.conduct()
        return trial.runs[0].error


def sql(lane, engine, code=COUNT, more=""):
    return approach(lane, code, engine) + more


class SameAnswer(EngineCase):
    def test_every_engine_answers_the_same_over_its_own_tables(self):
        lanes, runs = self.conducted(
            sql("query", "duckdb"),
            sql("loaded", "duckdb", more='input = "duckdb"\n'),
            sql("lite", "sqlite"),
            sql("server", "postgres"),
            approach(
                "client",
                """
                def answer(data, knobs, stage, db):
                    rows = db.execute("SELECT gauge, count(*) FROM readings GROUP BY 1").fetchall()
                    return [{"gauge": gauge, "n": n} for gauge, n in rows]
                """,
                server="postgres",
            ),
        )
        for name, lane in lanes.items():
            with self.subTest(lane=name):
                self.assertTrue(lane.agreement.agrees, lane.agreement.reasons)
        self.assertEqual(runs["server"].sandboxed, runs["query"].sandboxed)

    def test_knobs_are_bound_and_placed(self):
        code = "SELECT gauge, count(*) AS n FROM readings WHERE reading <= :rows - 1 GROUP BY 1"
        code += " LIMIT {rows}"
        lanes, _ = self.conducted(
            sql("query", "duckdb", code),
            sql("lite", "sqlite", code),
            sql("server", "postgres", code),
        )
        self.assertTrue(all(lane.agreement.agrees for lane in lanes.values()))


class Contained(EngineCase):
    """What a lane may not do on the private server."""

    ATTACKS = (
        "COPY (SELECT 1) TO PROGRAM 'touch /tmp/mine'",
        "CREATE TABLE t (a text); COPY t FROM PROGRAM 'id'",
        "SELECT pg_read_file('/etc/passwd')",
        "SELECT pg_ls_dir('.')",
        "CREATE ROLE mine SUPERUSER",
        "ALTER ROLE ivrell_tables SUPERUSER",
        "ALTER SYSTEM SET shared_buffers = '1MB'",
        "CREATE DATABASE mine",
        "SET ROLE ivrell",
    )

    def test_files_programs_roles_and_settings_are_out_of_reach(self):
        for more in ("", "writes = true\n"):
            lanes = [
                sql(f"attack_{number}", "postgres", f"{code}; SELECT 1 AS one", more)
                for number, code in enumerate(self.ATTACKS)
            ]
            trial = self.trial(HEAD + "".join(lanes), name=f"trial-{bool(more)}")
            trial.conduct()
            for run in trial.runs:
                with self.subTest(attack=run.approach, more=more):
                    self.assertEqual(run.state, "failed")
                    self.assertEqual(run.error.kind, "InsufficientPrivilege")

    def test_shared_tables_are_read_only_and_temporary_ones_free(self):
        error = self.failed(sql("one", "postgres", "DELETE FROM readings; SELECT 1 AS one"))
        self.assertEqual(error.kind, "InsufficientPrivilege")
        self.assertIn("writes = true", error.message)
        temporary = "CREATE TEMP TABLE t AS SELECT * FROM readings; SELECT count(*) AS n FROM t"
        self.conducted(sql("one", "postgres", temporary), name="temporary")
        own = "CREATE TABLE t AS SELECT * FROM readings; DROP TABLE readings; SELECT 1 AS one"
        self.conducted(sql("one", "postgres", own, "writes = true\n"), name="own")

    def test_other_databases_are_closed(self):
        code = """
        import psycopg
        def answer(data, knobs, stage, db):
            told = []
            for name in ("postgres", "template1"):
                try:
                    psycopg.connect(db.address, dbname=name).close()
                    told.append(name)
                except psycopg.OperationalError as error:
                    assert "permission denied" in str(error), error
            return [{"gauge": "Ash", "n": len(told)}]
        """
        for more in ("", "writes = true\n"):
            trial = self.trial(
                HEAD + approach("one", code, server="postgres") + more, name=f"t-{bool(more)}"
            )
            trial.conduct()
            self.assertIsNone(trial.runs[0].error)
            answer = trial.answers.table("one", trial.runs[0].answer_fingerprint)
            self.assertEqual(answer["n"].to_pylist(), [0])

    def test_the_server_knows_nothing_of_ivrell_s_environment(self):
        store = DatabaseStore(self.shared / "alone")
        self.addCleanup(store.stop)
        with mock.patch.dict(os.environ, {"IVRELL_SECRET_KEY": "nobody may read this"}):
            pid = store.cluster.pid
        told = Path(f"/proc/{pid}/environ").read_text()
        self.assertNotIn("nobody may read", told)
        self.assertNotIn("HOME=", told)


class OneOwner(EngineCase):
    """The private server has one owner at a time, and none is left when something goes wrong."""

    def running(self):
        return (self.shared / "loaded" / "cluster" / "postmaster.pid").exists()

    def test_data_that_cannot_be_made_leaves_no_server_running(self):
        repeated = sql("one", "postgres", more='keys = ["readings(gauge)"]\n')
        with self.assertRaisesRegex(BadInput, "cannot be a key"):
            self.trial(HEAD + repeated).conduct()
        self.assertFalse(self.running())

    def test_two_who_load_the_same_do_it_once(self):
        trial = self.trial(HEAD + sql("one", "sqlite"))
        recipe = trial.comparison.data.resolved({"rows": 200_000})
        stores = [DatabaseStore(self.shared / "both") for _ in range(2)]
        told = []

        def load(store):
            return store.ensure(recipe, "sqlite", progress=lambda *step: told.append(step))

        with ThreadPoolExecutor(2) as both:
            first, second = both.map(load, stores)
        self.assertEqual(first, second)
        self.assertEqual(len(told), len(set(told)))

    def test_data_being_removed_is_not_used(self):
        root = self.folder / "made"
        with (
            not_in_use(root),
            mock.patch.object(locks, "_REMOVING_S", 0.2),
            self.assertRaisesRegex(BadInput, "being removed"),
            in_use(root),
        ):
            self.fail("it was used")
        with in_use(root):
            pass

    def test_data_in_use_is_not_removed(self):
        trial = self.trial(HEAD + sql("one", "sqlite"))
        trial.conduct()
        root = trial.store.root
        with in_use(root), self.assertRaisesRegex(BadInput, "needs this data"):
            trial.store.trim(0)
        with in_use(trial.databases.root), self.assertRaisesRegex(BadInput, "needs this data"):
            DatabaseStore(trial.databases.root).clear()


class Postgres(EngineCase):
    def test_memory_of_a_sort_on_the_server(self):
        code = "SELECT 'x' AS gauge, count(*) AS n FROM (SELECT random() r FROM readings, " \
               "generate_series(1, 4) ORDER BY 1) t"  # fmt: skip
        settings = "settings = { work_mem = '400MB', max_parallel_workers_per_gather = 0 }\n"
        _, runs = self.conducted(sql("server", "postgres", code, settings), text=BIG)
        self.assertGreater(runs["server"].server_memory_bytes, 60 * 2**20)

    def test_counters_are_of_the_timed_part(self):
        code = "INSERT INTO readings SELECT reading + 1000, gauge FROM readings"
        lane = sql("server", "postgres", code, f'writes = true\nanswer = """{COUNT}"""\n')
        lanes, runs = self.conducted(lane, rounds=3)
        counters = runs["server"].counters
        self.assertEqual(counters["rows inserted"], 300)
        self.assertEqual(counters["commits"] >= 1, True)
        self.assertGreater(counters["log bytes"], 1000)
        # Each run finds the tables as they were loaded: 600 rows, not ever more.
        self.assertEqual(lanes["server"].agreement.verdict, "same")
        self.assertEqual(runs["server"].answer_rows, 3)

    def test_a_procedure_commits_inside(self):
        code = """
        DO $$
        BEGIN
          FOR i IN 1..5 LOOP
            INSERT INTO readings VALUES (i + 1000, 'Ash');
            COMMIT;
          END LOOP;
        END $$
        """
        lane = sql("server", "postgres", code, f'writes = true\nanswer = """{COUNT}"""\n')
        _, runs = self.conducted(lane)
        self.assertGreaterEqual(runs["server"].counters["commits"], 5)

    def test_an_index_is_used_where_declared(self):
        code = "SELECT gauge, reading AS n FROM readings WHERE reading = 77"
        indexed = 'keys = ["readings(reading)"]\n'
        _, runs = self.conducted(
            sql("scan", "postgres", code), sql("index", "postgres", code, indexed), text=BIG
        )
        blocks = {
            name: run.counters["blocks read"] + run.counters["blocks found in buffers"]
            for name, run in runs.items()
        }
        self.assertLess(blocks["index"] * 10, blocks["scan"])

    def test_cold_buffers_are_read_again(self):
        trial = self.trial(BIG + sql("server", "postgres"), cache=["warm", "cold"], rounds=2)
        trial.conduct()
        read = {}
        for run in trial.runs:
            self.assertEqual(run.state, "done", run.error)
            read.setdefault(run.point["cache"], []).append(run.counters["blocks read"])
        self.assertLess(max(read["warm"]) * 10, min(read["cold"]))

    def test_trouble_names_its_line(self):
        error = self.failed(sql("server", "postgres", "SELECT gauge,\n  wrong\nFROM readings"))
        self.assertEqual((error.kind, error.line), ("UndefinedColumn", 2))
        error = self.failed(
            sql("server", "postgres", more="settings = { wrong_mem = 1 }\n"), name="setting"
        )
        self.assertIn("wrong_mem", error.message)

    def test_no_cluster_stays_behind(self):
        self.conducted(sql("server", "postgres"))
        left = [p for p in Path("/proc").glob("[0-9]*/cmdline") if self.here(p)]
        self.assertEqual(left, [])

    def here(self, path):
        try:
            return str(self.folder).encode() in path.read_bytes()
        except OSError:
            return False


class Embedded(EngineCase):
    def test_writes_do_not_reach_the_next_run(self):
        code = "INSERT INTO readings SELECT reading + 1000, gauge FROM readings"
        more = f'writes = true\nanswer = """{COUNT}"""\n'
        for engine, form in (("duckdb", 'input = "duckdb"\n'), ("sqlite", "")):
            trial = self.trial(
                HEAD + sql("writes", engine, code, form + more), rounds=3, name=engine
            )
            found = trial.conduct()
            agreement = found.points[0].lanes[0].agreement
            self.assertEqual(agreement.verdict, "same", agreement.reasons)

    def test_reading_lanes_cannot_write(self):
        error = self.failed(sql("lite", "sqlite", "DELETE FROM readings"))
        self.assertIn("readonly", error.message)

    def test_sqlite_trouble(self):
        error = self.failed(sql("lite", "sqlite", "SELECT 1;\nSELECT wrong FROM readings"))
        self.assertEqual(error.line, 2)
        error = self.failed(sql("lite", "sqlite", "CREATE TEMP TABLE t (x)"), name="no rows")
        self.assertIn("gives no rows", error.message)


@unittest.skipUnless(shutil.which("awk"), "awk is not on this machine")
class Programs(EngineCase):
    AWK = """
        BEGIN { FS = ","; print "gauge,n" }
        NR > 1 { n[$2]++ }
        END { for (gauge in n) print gauge "," n[gauge] }
    """

    def test_awk_and_a_pipeline(self):
        lane = (
            approach("awk", self.AWK, "command")
            + 'argv = ["awk", "-f", "{script}", "{readings}"]\n'
        )
        script = "cut -d, -f2 $1 | tail -n +2 | sort | uniq -c | awk '{print $2 \",\" $1}' > $2"
        pipe = approach("pipe", script, "command")
        pipe += 'argv = ["sh", "{script}", "{readings}", "{out}"]\nnames = ["gauge", "n"]\n'
        lanes, _ = self.conducted(sql("query", "duckdb"), lane, pipe)
        for name in ("awk", "pipe"):
            self.assertTrue(lanes[name].agreement.agrees, lanes[name].agreement.reasons)

    @unittest.skipUnless(shutil.which("cc"), "no compiler on this machine")
    def test_a_compiled_program_is_built_untimed(self):
        code = r"""
        #include <stdio.h>
        int main(int argc, char **argv) {
          char line[256]; long rows = -1; FILE *f = fopen(argv[1], "r");
          while (fgets(line, sizeof line, f)) rows++;
          printf("gauge,n\nall,%ld\n", rows);
        }
        """
        more = 'build = ["cc", "-O2", "-x", "c", "-o", "{built}", "{script}"]\n'
        more += 'argv = ["{built}", "{readings}"]\n'
        _, runs = self.conducted(approach("c", code, "command") + more)
        self.assertEqual(runs["c"].answer_rows, 1)

    def test_trouble(self):
        def lane(argv, script="", more=""):
            return approach("odd", script or "exit 3", "command") + f"argv = {argv}\n{more}"

        error = self.failed(lane('["sh", "{script}"]', "echo why >&2; exit 3"), name="a")
        self.assertIn("status 3. why", error.message)
        error = self.failed(lane('["no_such_program"]'), name="b")
        self.assertEqual(error.kind, "no such program")
        error = self.failed(lane('["sh", "-c", "true", "{out}"]'), name="c")
        self.assertEqual(error.kind, "no answer")
        build = 'build = ["cc", "-x", "c", "-o", "{built}", "{script}"]\n'
        error = self.failed(lane('["{built}"]', "int main( {", build), name="d")
        self.assertEqual(error.kind, "build failed")


if __name__ == "__main__":
    unittest.main()
