"""What a run may leave on a private server: nothing that a later one would find."""

import json
import os
import textwrap
import unittest

import psycopg

from ivrell.core.recipe.databases import roles
from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.servers import mariadb
from ivrell.core.servers.dialects.session import ask_of, opened
from ivrell.core.servers.run_users import RunUser, forsaken, new_user
from tests.core.test_sql_engines import EngineCase, sql
from tests.support.comparisons import HEAD, approach

REMEMBERING = (
    "ALTER ROLE CURRENT_USER SET statement_timeout = '1ms'",
    "ALTER ROLE CURRENT_USER SET work_mem = '64kB'",
    "ALTER ROLE CURRENT_USER PASSWORD 'mine'",
    "SELECT lo_create(4711)",
    "SELECT lo_from_bytea(4712, 'the answer')",
    "SELECT pg_advisory_lock(47)",
    "CREATE TEMP TABLE kept AS SELECT 1 AS n",
    "CREATE TABLE kept AS SELECT 1 AS n",
    "CREATE SCHEMA kept",
    "COMMENT ON TABLE readings IS 'the answer'",
    "ANALYZE readings",
    "SET SESSION AUTHORIZATION ivrell_tables",
    "ALTER ROLE ivrell_tables SET work_mem = '64kB'",
    "ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO PUBLIC",
    "NOTIFY kept, 'the answer'",
    "CREATE FUNCTION pg_temp.kept() RETURNS int LANGUAGE sql AS 'SELECT 1'",
    "BEGIN; PREPARE TRANSACTION 'kept'",
    "DO $$ BEGIN EXECUTE format('GRANT %I TO PUBLIC', current_user); END $$",
    "DO $$ BEGIN EXECUTE format('ALTER DATABASE %I SET work_mem = 64', current_database()); END $$",
)
REMEMBERING_MARIADB = (
    "SET PASSWORD = PASSWORD('mine')",
    "SET @kept = 1",
    "SET GLOBAL sort_buffer_size = 1024",
    "CREATE EVENT kept ON SCHEDULE EVERY 1 SECOND DO SELECT 1",
    "CREATE FUNCTION kept() RETURNS INT RETURN 1",
    "CREATE TEMPORARY TABLE kept AS SELECT 1 AS n",
    "CREATE TABLE kept AS SELECT 1 AS n",
    "CREATE DATABASE kept",
    "SELECT GET_LOCK('kept', 1)",
    "ANALYZE TABLE readings PERSISTENT FOR ALL",
    "SET DEFAULT ROLE NONE",
    "FLUSH TABLES WITH READ LOCK",
)


def doing(statements, cursor="db"):
    """Client code that tries statements, and opens more sessions that it leaves."""
    return textwrap.dedent(f"""
        import json
        def answer(data, knobs, stage, db):
            done = 0
            for statement in json.loads({json.dumps(json.dumps(statements))}):
                try:
                    {cursor}.execute(statement)
                    done += 1
                except Exception as error:
                    pass
            return [{{"gauge": "Ash", "n": done}}]
        """)


def catalogue(address):
    """Every row of every table of a database's catalogue, but for those of the sessions'
    temporary places, which the server keeps once they were made."""
    found = {}
    with psycopg.connect(address, autocommit=True) as db:
        names = db.execute(
            "SELECT relname FROM pg_class WHERE relkind = 'r' "
            "AND relnamespace = 'pg_catalog'::regnamespace"
        ).fetchall()
        for (name,) in names:
            rows = db.execute(f"SELECT t::text FROM {name} t").fetchall()
            found[name] = {row for (row,) in rows if "_temp_" not in row}
    return found


class Postgres(EngineCase):
    def test_the_catalogue_is_the_same_after_a_run_that_tries_to_change_it(self):
        first = self.trial(HEAD + sql("one", "postgres"), name="first")
        store = first.databases.at("", "postgres")
        loaded = store.ensure(first.comparison.data.resolved({"rows": 300}), "postgres")
        self.addCleanup(first.databases.stop)
        for more in ("", "writes = true\n"):
            # One that tries nothing: extensions and places that the server makes once are there.
            for statements in ((), REMEMBERING):
                before = catalogue(store.cluster.address(loaded.place))
                code = doing(statements)
                trial = self.trial(
                    HEAD + approach("a", code, server="postgres") + more,
                    name=f"t{len(statements)}-{bool(more)}",
                )
                trial.conduct()
                self.assertIsNone(trial.runs[0].error)
            answer = trial.answers.table("a", trial.runs[0].answer_fingerprint)
            self.assertGreater(answer["n"].to_pylist()[0], 5, "attacks must reach the server")
            after = catalogue(store.cluster.address(loaded.place))
            self.maxDiff = None
            for name in before:
                with self.subTest(table=name, more=more):
                    self.assertEqual(after[name], before[name])

    def test_a_run_reaches_no_other_loaded_tables_and_its_sessions_end_with_it(self):
        store = DatabaseStore(self.shared / "walls")
        self.addCleanup(store.stop)
        trial = self.trial(HEAD + sql("one", "postgres"))
        few, more = (
            store.ensure(trial.comparison.data.resolved({"rows": rows}), "postgres")
            for rows in (200, 300)
        )
        place = store.for_run(few, 1, self.folder, False, "warm")
        session = psycopg.connect(place.address)
        with self.assertRaisesRegex(psycopg.OperationalError, "permission denied"):
            psycopg.connect(place.address, dbname=more.place)
        store.after_run(few, place, False)
        with self.assertRaises(psycopg.OperationalError):
            session.execute("SELECT 1")
        with self.assertRaisesRegex(psycopg.OperationalError, "authentication failed"):
            psycopg.connect(place.address)

    def test_a_server_that_was_started_again_is_asked_anew(self):
        store = DatabaseStore(self.shared / "again")
        self.addCleanup(store.stop)
        trial = self.trial(HEAD + sql("one", "postgres"))
        loaded = store.ensure(trial.comparison.data.resolved({"rows": 200}), "postgres")
        place = store.for_run(loaded, 1, self.folder, False, "warm")
        os.kill(store.cluster.pid, 9)
        self.assertTrue(store.revive())
        with psycopg.connect(store.for_run(loaded, 2, self.folder, False, "warm").address) as db:
            self.assertEqual(db.execute("SELECT count(*) FROM readings").fetchone(), (200,))
        store.after_run(loaded, place, False)

    def test_what_a_killed_conductor_left_is_dropped_at_the_next_start(self):
        root = self.shared / "swept"
        store = DatabaseStore(root)
        trial = self.trial(HEAD + sql("one", "postgres"))
        loaded = store.ensure(trial.comparison.data.resolved({"rows": 200}), "postgres")
        dead = RunUser(f"ivrell_run_{2**22 + 1}_ab12", "secret")
        address = store.cluster.maintenance
        with roles.opened(address) as server:
            server.execute(f'CREATE DATABASE "{dead.name}" TEMPLATE "{loaded.place}"')
            roles.make(server, dead)
            roles.admit(server, dead.name, dead.name, owns=True)
        with roles.opened(store.cluster.address(dead.name)) as copy:
            roles.hand_on(copy, dead.name)
        # A reader whose rights of its own are kept in a database that stays.
        reader = RunUser(f"ivrell_run_{2**22 + 1}_cd34", "secret")
        with roles.opened(store.cluster.address(loaded.place)) as there:
            roles.make(there, reader)
            roles.admit(there, loaded.place, reader.name, owns=False)
            there.execute(
                f"ALTER DEFAULT PRIVILEGES FOR ROLE {reader.name} GRANT SELECT ON TABLES TO PUBLIC"
            )
        store.stop()
        again = DatabaseStore(root)
        self.addCleanup(again.stop)
        with psycopg.connect(again.cluster.maintenance) as server:
            left = server.execute(
                "SELECT rolname FROM pg_roles WHERE rolname LIKE 'ivrell_run%' UNION ALL "
                "SELECT datname FROM pg_database WHERE datname LIKE 'ivrell_run%'"
            ).fetchall()
        self.assertEqual(left, [])


@unittest.skipUnless(mariadb.server_version(), "no MariaDB server here")
class MariaDb(EngineCase):
    def everything(self, server):
        session = opened(server.address.client("mysql"))
        try:
            ask = ask_of(session)
            tables = [row[0] for row in ask("SHOW FULL TABLES WHERE Table_type = 'BASE TABLE'")]
            aside = ("general_log", "slow_log", "innodb_table_stats", "innodb_index_stats")
            found = {
                name: sorted(map(repr, ask(f"SELECT * FROM `{name}`")))
                for name in tables
                if name not in aside
            }
            variables = "SHOW GLOBAL VARIABLES WHERE variable_name NOT LIKE 'gtid%'"
            return found | {
                "databases": ask("SHOW DATABASES"),
                "variables": [row for row in ask(variables) if "innodb_buffer" not in row[0]],
                "sessions": len(ask("SELECT id FROM information_schema.processlist")),
            }
        finally:
            session.close()

    def test_users_and_settings_are_the_same_after_runs_that_try_to_change_them(self):
        first = self.trial(HEAD + sql("one", "mariadb"), name="first")
        server = first.databases.at("", "mariadb").server("mariadb")
        self.addCleanup(first.databases.stop)
        for more in ("", "writes = true\n"):
            for statements in ((), REMEMBERING_MARIADB):
                before = self.everything(server)
                code = doing(statements, "db.cursor()")
                trial = self.trial(
                    HEAD + approach("a", code, server="mariadb") + more,
                    name=f"m{len(statements)}-{bool(more)}",
                )
                trial.conduct()
                self.assertIsNone(trial.runs[0].error)
            answer = trial.answers.table("a", trial.runs[0].answer_fingerprint)
            self.assertGreater(answer["n"].to_pylist()[0], 3, "attacks must reach the server")
            after = self.everything(server)
            for name in before:
                with self.subTest(table=name, more=more):
                    self.assertEqual(after[name], before[name])


class Names(unittest.TestCase):
    def test_a_user_is_forsaken_where_its_process_is_gone(self):
        alive, dead = new_user().name, f"ivrell_run_{2**22 + 1}_ab12"
        self.assertEqual(forsaken([alive, dead, "ivrell", f"{dead}x"]), [dead])


if __name__ == "__main__":
    unittest.main()
