"""The remote service's stand-in: its delays, limits, cache and tickets, and its account apart."""

import shutil
import time
from pathlib import Path
from unittest.mock import patch

from ivrell.core.service.client import Connection, ServiceError
from ivrell.core.service.running import stand_in
from ivrell.core.service.stand_in import Service
from ivrell.core.tasks.task import ApproachFailed
from tests.support.comparisons import HEAD, TrialCase, approach

RULE = "def rule(row):\n    return row['n'] * 2\n"
BURNING = "def rule(row):\n    return sum(range(300_000))\n"


def settings(**said):
    usual = {
        "rule": RULE, "latency_ms": 0.0, "jitter_ms": 0.0, "calls_per_second": 0,
        "most_rows": 100, "cache": False, "seed": 1,
    }  # fmt: skip
    return usual | said


def lane(name, code, **said):
    service = "\n".join(
        f"{key} = {value!r}" if key != "rule" else f"rule = '''\n{value}'''"
        for key, value in ({"rule": RULE} | said).items()
    ).replace("True", "true")
    return approach(name, code, "remote") + f"[approach.service]\n{service}\n"


class StandIn(TrialCase):
    def serving(self, **said):
        place = stand_in(
            settings(**said), self.folder / "service", sandboxed=False, memory_bytes=1 << 30
        )
        url = place.__enter__().address
        self.addCleanup(place.__exit__, None, None, None)
        connection = Connection(url)
        self.addCleanup(connection.close)
        return connection

    def test_answers_now_or_later(self):
        service = self.serving()
        self.assertEqual(service.call([{"n": 1}, {"n": 4}]), [2, 8])
        tickets = [service.later([{"n": n}]) for n in range(5)]
        self.assertEqual([service.wait(ticket) for ticket in tickets], [[0], [2], [4], [6], [8]])
        self.assertEqual(service.counters()["calls"], 6)

    def test_each_call_waits_whatever_its_rows(self):
        service = self.serving(latency_ms=20)
        began = time.perf_counter()
        for n in range(5):
            service.call([{"n": n}])
        singly = time.perf_counter() - began
        began = time.perf_counter()
        service.call([{"n": n} for n in range(5)])
        together = time.perf_counter() - began
        self.assertGreater(singly, 0.1)
        self.assertLess(together, singly / 2)

    def test_too_many_a_second_are_turned_away_and_come_again(self):
        service = self.serving(calls_per_second=50)
        began = time.perf_counter()
        for n in range(6):
            service.call([{"n": n}])
        self.assertGreater(time.perf_counter() - began, 5 / 50 * 0.9)
        self.assertGreater(service.counters()["turned away"], 0)

    def test_what_was_asked_before_comes_from_the_cache_without_the_delay(self):
        service = self.serving(cache=True, latency_ms=60)
        service.call([{"n": 1}])
        began = time.perf_counter()
        for _ in range(5):
            self.assertEqual(service.call([{"n": 1}]), [2])
        self.assertLess(time.perf_counter() - began, 0.15)
        self.assertEqual(service.counters()["found in cache"], 5)

    def test_errors_of_the_rule_and_too_many_rows_are_told(self):
        service = self.serving()
        with self.assertRaisesRegex(ServiceError, "KeyError"):
            service.call([{}])
        with self.assertRaisesRegex(ServiceError, "at most 100"):
            service.call([{"n": 1}] * 101)

    def test_a_rule_that_cannot_be_read(self):
        with self.assertRaisesRegex(ApproachFailed, "SyntaxError"):
            self.serving(rule="def rule(row) return 1")

    def test_a_rule_that_prints_much_goes_on_and_one_that_never_ends_is_told(self):
        service = self.serving(rule="def rule(row):\n    print('x' * 9000)\n    return row['n']\n")
        self.assertEqual([service.call([{"n": n}]) for n in range(40)], [[n] for n in range(40)])
        with (
            patch("ivrell.core.service.running._START_S", 0.5),
            self.assertRaisesRegex(ApproachFailed, "not read within"),
        ):
            self.serving(rule="while True: pass")

    def test_the_delay_depends_on_seed_and_rows_alone(self):
        one, same, other = (Service(settings(jitter_ms=10.0, seed=seed)) for seed in (7, 7, 8))
        drawn = [one.delay([f"{n}"]) for n in range(20)]
        self.assertEqual([same.delay([f"{n}"]) for n in reversed(range(20))], drawn[::-1])
        self.assertNotEqual([other.delay([f"{n}"]) for n in range(20)], drawn)
        self.assertTrue(all(0 <= delay <= 0.010 for delay in drawn))


class Lane(TrialCase):
    def test_a_lane_is_counted_and_the_service_s_work_is_not_its_own(self):
        singly = """
            import csv
            def answer(data, knobs, stage, service):
                rows = csv.DictReader(open(data.readings))
                with stage("ask"):
                    return [{"gauge": row["reading"], "n": service.call([{"n": 1}])[0]}
                            for row in rows]
        """
        blocks = """
            import csv
            def answer(data, knobs, stage, service):
                rows = list(csv.DictReader(open(data.readings)))
                found = service.call([{"n": 1} for _ in rows])
                return [{"gauge": r["reading"], "n": n} for r, n in zip(rows, found)]
        """
        text = HEAD.replace("rows = [300]", "rows = [60]")
        trial = self.trial(
            text
            + lane("singly", singly, rule=BURNING, latency_ms=1.0)
            + lane("blocks", blocks, rule=BURNING, latency_ms=1.0)
        )
        point = trial.conduct().points[0]
        runs = {run.approach: run for run in trial.runs}
        self.assertEqual([run.error for run in runs.values()], [None, None])
        self.assertTrue(all(lane.agreement.agrees for lane in point.lanes))
        counted = {name: run.counters for name, run in runs.items()}
        self.assertEqual(counted["singly"]["service: calls"], 60)
        self.assertEqual(counted["blocks"]["service: calls"], 1)
        self.assertEqual(counted["blocks"]["service: rows"], 60)
        blocks_run = runs["blocks"]
        own = blocks_run.cpu_user_s + blocks_run.cpu_system_s
        self.assertGreater(counted["blocks"]["service: CPU seconds"], 4 * own)

    def test_a_bad_rule_is_the_lane_s_failure_and_the_trial_goes_on(self):
        code = "def answer(data, knobs, stage, service):\n    return []"
        trial = self.trial(HEAD + lane("one", code, rule="def rule(row) 1\n"))
        trial.conduct()
        self.assertEqual(trial.runs[0].error.kind, "the service's rule cannot be read")

    def tearDown(self):
        shutil.rmtree(Path(self.folder) / "service", ignore_errors=True)
