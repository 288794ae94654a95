"""PostgreSQL servers of the user's own: registered, and measured where that can be."""

import json
import stat

from ivrell.core.base.errors import BadInput
from ivrell.core.servers.own import ELSEWHERE, Servers
from ivrell.core.servers.postgresql import Cluster
from ivrell.core.trial.conduct import Trial
from tests.core.test_sql_engines import EngineCase, sql
from tests.support.comparisons import HEAD, approach


class Own(EngineCase):
    def setUp(self):
        super().setUp()
        self.own = Cluster(self.folder / "own")
        self.own.start()
        self.addCleanup(self.own.stop)
        self.conninfo = self.own.address("postgres")
        self.registry = self.folder / "registry"

    def test_registered_with_its_password_kept_for_its_user_alone(self):
        servers = Servers(self.registry)
        found = servers.add("depot", self.conninfo)
        self.assertNotIn("password", found.address)
        self.assertTrue(found.version)
        path = self.registry / "servers.json"
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)
        self.assertIn("password", json.loads(path.read_text())["depot"])
        servers.remove("depot")
        self.assertEqual(servers.all(), [])

    def test_refused_with_what_to_do(self):
        servers = Servers(self.registry)
        for address, why in (
            ("no=connection string", "no connection string"),
            ("host=127.0.0.1 port=1 user=nobody", "cannot be used"),
        ):
            with self.subTest(address), self.assertRaisesRegex(BadInput, why):
                servers.add("depot", address)
        with self.assertRaisesRegex(BadInput, 'no server "depot"'):
            self.trial(HEAD + sql("one", "postgres", more='at = "depot"\n'), runtimes=self.registry)

    def test_lanes_run_there_and_are_seen_where_it_stands_here(self):
        Servers(self.registry).add("depot", self.conninfo)
        client = """
            def answer(data, knobs, stage, db):
                rows = db.execute("SELECT gauge, count(*) FROM readings GROUP BY 1").fetchall()
                return [{"gauge": gauge, "n": n} for gauge, n in rows]
        """
        more = 'at = "depot"\n'
        lanes, runs = self.conducted(
            sql("private", "postgres"),
            sql("there", "postgres", more=more),
            approach("client", client, server="postgres", at="depot"),
            runtimes=self.registry,
        )
        self.assertTrue(all(lane.agreement.agrees for lane in lanes.values()))
        self.assertGreaterEqual(runs["there"].counters["rows scanned"], 300)
        self.assertIsNotNone(runs["there"].server_cpu_s)
        self.assertTrue(any(name.startswith("ivrell_") for name in self.own.databases()))

    def test_what_runs_elsewhere_has_no_cpu_time_and_says_why(self):
        Servers(self.registry).add("depot", self.conninfo)
        text = HEAD + sql("there", "postgres", more='at = "depot"\n') + sql("here", "postgres")
        trial = self.trial(text, runtimes=self.registry)
        store = trial.databases.at(trial.comparison.approach_called("there").needs.at, "postgres")
        store.given.pid = None
        point = trial.conduct().points[0]
        run = next(run for run in trial.runs if run.approach == "there")
        self.assertEqual((run.state, run.cpu_user_s, run.peak_memory_bytes),
                         ("done", None, None))  # fmt: skip
        self.assertEqual(run.not_measured["cpu_user_s"], ELSEWHERE)
        self.assertTrue(point.conclusion)

    def test_its_buffers_are_not_emptied(self):
        Servers(self.registry).add("depot", self.conninfo)
        lane = sql("there", "postgres", more='at = "depot"\n')
        trial: Trial = self.trial(HEAD + lane, cache=["cold"], runtimes=self.registry)
        with self.assertRaisesRegex(BadInput, "not emptied"):
            trial.conduct()
