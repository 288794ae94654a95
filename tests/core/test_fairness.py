"""What makes runs comparable: repeats, kept processes, caches, threads, loads, enough rounds."""

import os
import statistics
import unittest
from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.measure import noise, proc
from ivrell.core.measure.cache import cached_share, evict, warm
from ivrell.core.records.events import RunProgress
from ivrell.core.records.machine import Machine
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import RunSet
from ivrell.core.report.findings import findings
from ivrell.core.run.runner.background import Background, loads_in
from ivrell.core.trial.enough import enough, widest
from ivrell.core.trial.plan import Plan, Until, ordered_runs
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach, python_answer

TINY = """
VALUES = list(range(400))
def answer(data, knobs, stage):
    total = 0
    for value in VALUES:
        total += value
    return [{"gauge": "Ash", "n": total}]
"""


OWN_CLOCK = (
    TINY.replace("def answer", "def once")
    + """
import time
calls, spent = 0, 0.0
def answer(data, knobs, stage):
    global calls, spent
    began = time.perf_counter()
    found = once(data, knobs, stage)
    spent += time.perf_counter() - began
    calls += 1
    if calls % 500 == 0:
        print(spent / calls)
    return found
"""
)


class Repeats(TrialCase):
    def test_a_very_short_call_is_measured_as_its_own_clock_does(self):
        trial = self.trial(HEAD + approach("tiny", OWN_CLOCK), min_sample_s=0.05, rounds=5)
        trial.conduct()
        tiny = trial.runs
        # Both clocks ran at the same time, so a busy machine slows both.
        ratios = [run.elapsed_s / float(run.output.split()[-1]) for run in tiny]
        self.assertAlmostEqual(statistics.median(ratios), 1, delta=0.2)
        for run in tiny:
            self.assertGreater(run.inner_repeats, 500)
            self.assertEqual(len(run.calls), 2)
            self.assertEqual(run.calls[0].repeats, 1)
        # All runs of a lane are alike: what the first found holds for the others.
        self.assertEqual(len({run.inner_repeats for run in tiny}), 1)

    def test_setup_before_each_call_stays_outside_the_clock(self):
        code = (
            TINY + "def setup(data, knobs):\n    import time\n    time.sleep(0.002)\n    return 7\n"
        )
        code = code.replace('"n": total', '"n": data.ready')
        trial = self.trial(HEAD + approach("tiny", code), min_sample_s=0.002)
        trial.conduct()
        run = trial.runs[0]
        self.assertGreater(run.inner_repeats, 1)
        self.assertLess(run.elapsed_s, 0.001)

    def test_what_setup_uses_is_not_the_call_s(self):
        burning = """
            import time
            def setup(data, knobs):
                held = bytearray(80_000_000)
                until = time.process_time() + {}
                while time.process_time() < until:
                    pass
            def answer(data, knobs, stage):
                until = time.process_time() + {}
                while time.process_time() < until:
                    pass
                return [{{"gauge": "Ash", "n": 1}}]
        """
        for setup, call, plan in ((0.4, 0.05, {}), (0.05, 0.01, {"min_sample_s": 0.1})):
            with self.subTest(setup=setup):
                text = HEAD + approach("only", burning.format(setup, call))
                trial = self.trial(text, name=f"t{setup}", **plan)
                trial.conduct()
                run = trial.runs[0]
                used = run.cpu_user_s + run.cpu_system_s
                self.assertAlmostEqual(used / call, 1, delta=0.5)
                if not plan:
                    held = run.peak_memory_bytes - run.start_memory_bytes
                    self.assertLess(held, 40_000_000)

    def test_a_long_call_is_not_repeated(self):
        trial = self.trial(
            HEAD + approach("slow", python_answer("time.sleep(0.1)")), min_sample_s=0.05
        )
        trial.conduct()
        self.assertEqual(trial.runs[0].inner_repeats, 1)
        self.assertEqual(trial.runs[0].calls, [])


class Kept(TrialCase):
    def test_the_first_call_of_a_kept_process_is_told_apart(self):
        body = """
        if not hasattr(sys, "been_here"):
            sys.been_here = True
            time.sleep(0.2)
        time.sleep(0.02)
        """
        trial = self.trial(HEAD + approach("warm", python_answer(body)), calls_per_process=4)
        found = trial.conduct()
        run = trial.runs[0]
        self.assertEqual(len(run.calls), 4)
        self.assertGreater(run.first_elapsed_s, 0.2)
        self.assertLess(run.elapsed_s, 0.1)
        lane = found.points[0].lanes[0]
        self.assertAlmostEqual(lane.first_call, run.first_elapsed_s)

    def test_a_kept_result_is_noticed(self):
        code = """
        import functools, time
        @functools.lru_cache
        def work(path):
            time.sleep(0.1)
            return 5
        def answer(data, knobs, stage):
            return [{"gauge": "Ash", "n": work(data.readings)}]
        """
        trial = self.trial(
            HEAD + approach("cached", code) + approach("good", COUNTING), calls_per_process=4
        )
        words = {(caution.word, caution.lane) for caution in trial.conduct().points[0].cautions}
        self.assertIn(("repeats suspiciously quick", "cached"), words)
        self.assertNotIn(("repeats suspiciously quick", "good"), words)


class Cache(TrialCase):
    def test_files_are_evicted_and_brought_back(self):
        path = Path.home() / f".ivrell-cache-test-{os.getpid()}"
        self.addCleanup(path.unlink)
        path.write_bytes(os.urandom(8 << 20))
        warm(path)
        self.assertEqual(cached_share([path]), 1.0)
        evict(path)
        self.assertLess(cached_share([path]), 0.05)

    def test_cold_and_warm_are_points_and_recorded(self):
        trial = self.trial(HEAD + approach("good", COUNTING), cache=["warm", "cold"], rounds=2)
        found = trial.conduct()
        shares = {(run.point["cache"], run.cache.share) for run in trial.runs}
        self.assertEqual(shares, {("warm", 1.0), ("cold", 0.0)})
        self.assertEqual([p.point["cache"] for p in found.points], ["warm", "cold"])
        self.assertIn("cache = warm", found.points[0].conclusion)


class ThreadsAndCores(TrialCase):
    BODY = """
    import pyarrow, polars
    sys.stdout.write(f"{pyarrow.cpu_count()} {polars.thread_pool_size()} ")
    sys.stdout.write(f"{os.environ['OMP_NUM_THREADS']} {len(os.sched_getaffinity(0))}")
    """

    def test_one_number_reaches_every_library_and_is_recorded(self):
        query = approach("sql", "SELECT gauge, count(*) AS n FROM readings GROUP BY 1", "duckdb")
        text = HEAD + approach("python", python_answer(self.BODY)) + query
        trial = self.trial(text, threads=[1], cores=1)
        trial.conduct()
        run, sql = sorted(trial.runs, key=lambda run: run.approach)
        self.assertEqual(run.output, "1 1 1 1")
        self.assertEqual(run.threads, {"pyarrow": 1, "polars": 1})
        self.assertEqual(sql.threads["duckdb"], 1)
        self.assertEqual((run.cores, run.point["threads"]), (1, 1))
        self.assertGreaterEqual(run.most_threads, 1)

    def test_a_knob_called_like_a_condition(self):
        text = HEAD.replace("rows = [300]", "rows = [300]\nthreads = [1, 2]")
        with self.assertRaisesRegex(BadInput, "another name"):
            self.trial(text + approach("good", COUNTING), threads=[2])


class BackgroundLoad(TrialCase):
    def test_it_runs_beside_the_run_and_is_not_counted_as_its_own(self):
        body = "time.sleep(0.5)"
        trial = self.trial(
            HEAD + approach("sleeps", python_answer(body)), background=["quiet", "2 busy cores"]
        )
        trial.conduct()
        runs = {run.point["background"]: run for run in trial.runs}
        busy = runs["2 busy cores"]
        self.assertLess(busy.cpu_user_s + busy.cpu_system_s, 0.1)
        self.assertGreater(busy.others_cpu_s, 0.5)
        self.assertEqual(busy.state, "done")

    def test_a_run_whose_load_was_ended_is_not_done(self):
        body = """
            for _ in range(2000):
                time.sleep(0.001)
        """
        trial = self.trial(
            HEAD + approach("a", python_answer(body)), background=["1 busy core"], rounds=2
        )
        ended = []

        def listen(event):
            if isinstance(event, RunProgress) and not ended:
                below = proc.descendants(os.getpid())
                ended.extend(p for p in below if "-S\0-c" in proc.read(f"/proc/{p}/cmdline"))
                for pid in ended:
                    os.kill(pid, 9)

        trial.listen = listen
        trial.conduct()
        first, second = trial.runs
        self.assertEqual((first.state, second.state), ("failed", "done"))
        self.assertEqual(first.error.kind, "its load ended")
        self.assertIsNone(first.elapsed_s)

    def test_it_ends_with_its_context(self):
        with Background("1 busy core, disk", self.folder) as load:
            pids = load.pids
            self.assertEqual(len(pids), 2)
        self.assertFalse(any(Path(f"/proc/{pid}").exists() for pid in pids))
        self.assertEqual(list(self.folder.glob(".traffic")), [])

    def test_words(self):
        self.assertEqual(loads_in("quiet"), [])
        self.assertEqual(len(loads_in("3 busy cores, memory")), 4)
        with self.assertRaisesRegex(ValueError, "1 busy core"):
            Plan(background=["a storm"])


def runs_of(times, point=None):
    return [
        RunRecord(run=number, approach=lane, engine="python", position=1, round=number,
                  state="done", warm_up=False, elapsed_s=seconds, point=point or {})
        for lane, series in times.items() for number, seconds in enumerate(series, 1)
    ]  # fmt: skip


class Enough(TrialCase):
    def test_narrow_and_wide(self):
        until = Until(narrower_than=0.1, at_least=5, at_most=20, minutes=10)
        steady = runs_of({"a": [1.0, 1.01, 0.99, 1.0, 1.0, 1.01], "b": [2.0] * 6})
        wild = runs_of({"a": [1.0, 2.0, 0.5, 1.0, 3.0, 1.0], "b": [2.0] * 6})
        self.assertLess(widest(steady, "a"), 0.1)
        self.assertTrue(enough(until, steady, "a", 6, 1))
        self.assertFalse(enough(until, wild, "a", 6, 1))
        self.assertFalse(enough(until, steady, "a", 4, 1))
        self.assertTrue(enough(until, wild, "a", 20, 1))
        self.assertTrue(enough(until, wild, "a", 6, 10))

    def test_a_lane_alone_by_its_median(self):
        # Student's interval of three values that spread by a hundredth: 2 * 4.30 / sqrt(3).
        found = widest(runs_of({"a": [1.0, 1.02, 1.01]}), "a")
        self.assertAlmostEqual(found, 0.0497, delta=0.001)
        self.assertIsNone(widest(runs_of({"a": [1.0]}), "a"))

    def test_a_trial_stops_when_it_is_sure(self):
        text = HEAD + approach("slow", python_answer("time.sleep(0.08)"))
        text += approach("slower", python_answer("time.sleep(0.16)"))
        until = Until(narrower_than=0.5, at_least=2, at_most=30, minutes=5)
        trial = self.trial(text, until=until)
        self.assertEqual(trial.conduct().ended, "done")
        rounds = max(run.round for run in trial.runs)
        self.assertLess(rounds, 30)
        again = self.trial(text, until=until)
        again.conduct()
        self.assertEqual(len(again.runs), len(trial.runs))

    def test_order_is_the_same_whatever_the_rule(self):
        comparison = self.trial(HEAD + approach("a", COUNTING) + approach("b", COUNTING)).comparison
        by_number = list(ordered_runs(comparison, Plan(rounds=4)))
        by_rule = list(ordered_runs(comparison, Plan(until=Until(at_least=2, at_most=4))))
        self.assertEqual(by_number, by_rule)


class Noise(unittest.TestCase):
    LOGS = [0.05, -0.04, 0.06, -0.02, 0.01, 0.03, -0.06, 0.02, 0.0, -0.05]

    def test_the_floor_falls_with_the_rounds(self):
        floors = [noise.floor(self.LOGS, rounds) for rounds in (1, 5, 20, 80)]
        self.assertEqual(floors, sorted(floors, reverse=True))
        self.assertGreater(floors[0], 1.04)
        self.assertEqual(noise.floor([0.0, 0.0], 5), 1.0)
        with self.assertRaises(ValueError):
            noise.floor([], 5)

    def test_findings_use_the_machine_s_own_noise(self):
        comparison_text = HEAD + approach("a", COUNTING) + approach("b", COUNTING)
        from ivrell.core.comparison.file import parse

        times = [1.0, 1.001, 0.999, 1.0, 1.002, 0.998]
        runs = runs_of({"a": times, "b": [1.01 * time for time in times[::-1]]})
        comparison = parse("matters = 0.005\n" + comparison_text)
        quiet = findings(comparison, RunSet.of(runs, Machine(cores=2)), {}, {})
        noisy = findings(
            comparison, RunSet.of(runs, Machine(cores=2, noise={"logs": self.LOGS})), {}, {}
        )
        self.assertEqual(quiet.lanes[1].ratio.verdict, "slower")
        self.assertEqual(noisy.lanes[1].ratio.verdict, "not told apart")
        self.assertGreater(noisy.lanes[1].ratio.floor, 1.01)


if __name__ == "__main__":
    unittest.main()
