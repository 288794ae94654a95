"""Cautions that tell an unfair or blind comparison: each brought about, and each kept away."""

import tempfile
import textwrap
import unittest
from pathlib import Path
from unittest import mock

from ivrell.core.comparison.file import parse
from ivrell.core.engines.sheet import SheetApproach
from ivrell.core.measure import constraints
from ivrell.core.measure.constraints import HostConstraints
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import Caution
from ivrell.core.records.machine import Machine
from ivrell.core.stats.cautions import CAUTIONS, Scene, cautions
from ivrell.core.stats.cautions.fairness import sorted_beforehand
from tests.core.test_stats import dots, lane, summary
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach, python_answer

TEXT = HEAD.replace("rows = [300]", "rows = [300, 300_000]") + approach("a", COUNTING)


def of(seconds, **fields):
    return lane(elapsed=summary(10, seconds, seconds * 0.99, seconds * 1.01), **fields)


def words(*lanes, text=None, machine=None, made=(), point=None, leaders=()):
    comparison = parse(text) if text else None
    machine = machine or Machine(cores=2)
    scene = Scene(list(lanes), machine, point or {"rows": 300}, "", "", comparison, made, leaders)
    return [caution.word for caution in cautions(scene)]


class Unlike(unittest.TestCase):
    def test_text_beside_tables_that_were_loaded_tells_what_loading_cost(self):
        loaded = MadeTable(table="readings", form="duckdb", rows=300, seconds=1.25, fingerprint="x")
        other = loaded.model_copy(update={"rows": 900, "seconds": 50.0})
        scene = Scene(
            [of(1.0, input="csv"), of(0.1, id="b", name="B", input="duckdb")],
            Machine(cores=2), {"rows": 300}, comparison=parse(TEXT), made=[loaded, other],
        )  # fmt: skip
        [found] = cautions(scene)
        self.assertEqual(found.word, "unlike inputs")
        self.assertIn("Loading into duckdb took 1.25 s", found.reason)
        self.assertEqual(words(of(1.0, input="csv"), of(0.1, id="b", input="csv.gz")), [])

    def test_rows_that_are_thrown_away(self):
        full, none = of(1.0, answer_rows=500), of(0.5, id="b", name="B", answer_rows=0)
        self.assertEqual(words(full, none), ["result discarded"])
        self.assertEqual(words(full, of(0.5, id="b", answer_rows=500)), [])
        self.assertEqual(words(none, of(0.5, id="c", answer_rows=0)), [])

    def test_work_before_the_clock(self):
        lean, busy = (
            of(1.0, start=0.1, start_cpu=0.1),
            of(0.2, id="b", name="B", start=0.9, start_cpu=0.9),
        )
        self.assertEqual(words(lean, busy), ["work outside the clock"])
        # Another engine's libraries are no hidden work; nor is a twentieth of the run.
        self.assertEqual(words(lean, of(0.2, id="b", name="B", start_cpu=0.17)), [])
        self.assertEqual(
            words(lean, of(0.2, id="b", engine="pandas", start=0.9, start_cpu=0.9)), []
        )
        self.assertEqual(
            words(of(10.0, start=0.1, start_cpu=0.1), of(10.0, id="b", start=0.6, start_cpu=0.6)),
            [],
        )

    def test_data_that_fits_the_cache_while_more_is_asked_about(self):
        made = [MadeTable(table="readings", form="csv", rows=300, size_bytes=9000, seconds=0.1,
                          fingerprint="x")]  # fmt: skip
        small = Machine(cores=2, cache_bytes=32 << 20)
        self.assertEqual(words(of(1.0), text=TEXT, machine=small, made=made), ["fits the cache"])
        tiny = Machine(cores=2, cache_bytes=4096)
        self.assertEqual(words(of(1.0), text=TEXT, machine=tiny, made=made), [])
        alone = TEXT.replace("[300, 300_000]", "[300]")
        self.assertEqual(words(of(1.0), text=alone, machine=small, made=made), [])


class Sheets(unittest.TestCase):
    def test_tables_sorted_for_some(self):
        demo = Path(__file__).parents[2] / "demo" / "barge-details.toml"
        comparison = parse(demo.read_text())
        sheets = [a for a in comparison.approach if isinstance(a, SheetApproach)]
        given = [a.id for a in sheets if a.sorted]
        without = [a.id for a in sheets if not a.sorted]
        self.assertTrue(given and without)

        def told(ids):
            lanes = [of(1.0, id=one, name=one) for one in ids]
            return list(sorted_beforehand(Scene(lanes, Machine(), comparison=comparison)))

        [found] = told([given[0], without[0]])
        self.assertEqual(found.word, "sorted beforehand")
        self.assertEqual(told(given[:1]), [])


class Blind(unittest.TestCase):
    def test_memory_near_its_grain(self):
        tiny = of(1.0, peak_memory=summary(5, 400_000, 3e5, 5e5))
        large = of(1.0, id="b", peak_memory=summary(5, 5e7, 5e7, 5e7))
        self.assertEqual(words(tiny, large), ["memory below resolution"])
        self.assertEqual(words(large, large), [])

    def test_less_than_the_clock_shows(self):
        agrees = {"verdict": "same"}
        first = of(0.0500000, agreement=agrees)
        second = of(0.0500000 + 4e-7, id="b", name="B", agreement=agrees)
        self.assertEqual(words(first, second), ["below the clock"])
        self.assertEqual(words(first, of(0.0501, id="b", agreement=agrees)), [])

    def test_short_work_of_a_server(self):
        short = of(0.5, cpu_total=summary(5, 0.02, 0.02, 0.02), server_cpu=0.01)
        self.assertEqual(words(short), ["CPU time near its step"])
        self.assertEqual(words(of(0.5, cpu_total=summary(5, 0.02, 0.02, 0.02))), [])


class Kept(unittest.TestCase):
    def test_an_engine_that_keeps_answers(self):
        self.assertEqual(
            words(of(0.01, runs=dots((5.0, 0.01, 0.01, 0.01)))),
            ["answer kept by the engine", "first run slower"],
        )
        self.assertEqual(words(of(1.0, runs=dots((1.3, 1.0, 1.0, 1.0)))), [])

    def test_a_first_call_that_compiles(self):
        self.assertEqual(words(of(0.1, first_call=0.4)), ["first call slower"])
        self.assertEqual(words(of(0.1, first_call=0.11)), [])
        self.assertEqual(words(of(0.001, first_call=0.0016)), ["very short"])


class Loose(unittest.TestCase):
    def test_a_tolerance_that_lets_wrong_answers_pass(self):
        for field, value, told in (
            ("relative", 0.05, 1),
            ("absolute", 1.0, 1),
            ("relative", 1e-6, 0),
        ):
            text = TEXT.replace("[answer]\n", f"[answer]\n{field} = {value}\n")
            self.assertEqual(words(of(1.0), text=text), ["wide tolerance"] * told, field)

    def test_an_answer_that_is_drawn_at_random(self):
        each = {"x": 1, "y": 1, "z": 1}
        prints = {"verdict": "different", "reasons": ["n"], "fingerprints": each}
        self.assertIn("random answer", words(of(1.0, agreement=prints), text=TEXT))
        # Other orders of rows are other answers too, and agree.
        order = {"verdict": "same, other order", "fingerprints": each}
        self.assertEqual(words(of(1.0, agreement=order), text=TEXT), [])
        asked = TEXT.replace("[knobs]", "[answer.statistics]\nmean = 0.02\n\n[knobs]")
        self.assertNotIn("random answer", words(of(1.0, agreement=prints), text=asked))
        steady = {"verdict": "same", "fingerprints": {"x": 3}}
        self.assertEqual(words(of(1.0, agreement=steady), text=TEXT), [])


class Hindered(unittest.TestCase):
    def test_swapping_quota_heat_and_battery(self):
        for word, fields in (
            ("swapping", {"swapped_bytes": 5e8}),
            ("held by a quota", {"throttled_s": 2.0, "quota_cores": 1.5}),
            ("slowed for heat", {"heat_throttles": 12}),
            ("on battery", {"on_battery": True}),
        ):
            self.assertEqual(words(of(1.0), machine=Machine(cores=2, **fields)), [word])
        calm = Machine(cores=2, swapped_bytes=4096, throttled_s=0.01, heat_throttles=0,
                       on_battery=False, quota_cores=2)  # fmt: skip
        self.assertEqual(words(of(1.0), machine=calm), [])

    def test_read_from_the_kernel_s_files(self):
        with tempfile.TemporaryDirectory() as name:
            root = Path(name)
            group = root / "cgroup" / "work" / "own"
            group.mkdir(parents=True)
            (root / "own").write_text("0::/work/own\n")
            (group / "cpu.max").write_text("max 100000\n")
            (group.parent / "cpu.max").write_text("150000 100000\n")
            (group / "cpu.stat").write_text("usage_usec 5\nthrottled_usec 2500000\n")
            groups, own = root / "cgroup", root / "own"
            self.assertEqual(constraints.quota_cores(groups, own), 1.5)
            self.assertEqual(constraints.throttled_s(groups, own), 2.5)
            heat = root / "cpu" / "cpu0" / "thermal_throttle"
            heat.mkdir(parents=True)
            (heat / "core_throttle_count").write_text("7\n")
            cache = root / "cpu" / "cpu0" / "cache" / "index3"
            cache.mkdir(parents=True)
            (cache / "size").write_text("32M\n")
            self.assertEqual(constraints.heat_throttles(root / "cpu"), 7)
            self.assertEqual(constraints.cache_bytes(root / "cpu"), 32 << 20)
            (root / "vmstat").write_text("pswpin 3\npswpout 1\nother 9\n")
            self.assertEqual(constraints.swapped_bytes(root / "vmstat"), 4 * 4096)
            # A machine that tells nothing is believed to be well.
            self.assertIsNone(constraints.quota_cores(root / "none", root / "none"))
            self.assertIsNone(constraints.heat_throttles(root / "none"))
            self.assertIsNone(constraints.swapped_bytes(root / "none"))

    def test_what_came_over_a_trial(self):
        before, after = HostConstraints(1.0, 4096.0), HostConstraints(3.5, 8192.0, 4)
        self.assertEqual(after.since(before), HostConstraints(2.5, 4096.0))


class Ranked(unittest.TestCase):
    def test_what_could_change_the_winner_comes_first(self):
        wrong = {"verdict": "different", "reasons": ["x"]}
        quick = of(0.5, id="quick", name="Quick", agreement=wrong)
        slow = of(5.0, id="slow", name="Slow", agreement=wrong)
        best = of(1.0, id="best", name="Best", runs=dots((2.0, 1.0, 1.0, 1.0)))
        found = cautions(Scene([slow, best, quick], Machine(cores=2), leaders=["best"]))
        self.assertEqual(
            [(c.word, c.lane, c.reach) for c in found],
            [("different answer", None, "winner"), ("first run slower", "best", "margin")],
        )

        wrong_ones = found[0]
        self.assertEqual(wrong_ones.reason, "Slow and Quick.")
        self.assertEqual([(c.lane, c.reach) for c in wrong_ones.each],
                         [("slow", "margin"), ("quick", "winner")])  # fmt: skip

    def test_one_line_for_all_lanes_says_how_far_it_goes(self):
        lanes = [
            of(
                1.0,
                id=str(i),
                name=f"Lane {i}",
                run_queue_wait_share=0.75 + 0.02 * i,
                others_busy=1,
            )
            for i in range(11)
        ]
        scene = Scene(lanes, Machine(cores=2), leaders=["0"])
        [found] = cautions(scene)
        self.assertEqual(
            (found.word, found.reason), ("run-queue wait", "All 11 lanes, 75 to 95 %.")
        )
        self.assertEqual(len(found.each), 11)
        some = cautions(Scene([*lanes, of(1.0, id="calm")], Machine(cores=2)))
        self.assertEqual(some[0].reason, "Lane 0, Lane 1, Lane 2 and 8 others, 75 to 95 %.")

    def test_those_about_no_lane_stand_by_themselves(self):
        cautious = [Caution(word="w", reason=reason, hint="") for reason in ("one", "two")]
        looks = ((lambda scene: iter(cautious), "winner"),)
        with mock.patch("ivrell.core.stats.cautions.CAUTIONS", looks):
            found = cautions(Scene([of(1.0)], Machine(cores=2)))
        self.assertEqual([one.reason for one in found], ["one", "two"])

    def test_each_stands_once(self):
        looks = [look for look, _ in CAUTIONS]
        self.assertEqual(len(looks), len(set(looks)))


class Real(TrialCase):
    def test_a_trial_tells_module_code_and_random_answers(self):
        lazy = python_answer('import random\nreturn [{"gauge": 1, "n": random.random()}]')
        text = HEAD + approach("a", COUNTING) + approach("b", lazy)
        heavy = "import time\nend = time.process_time() + 0.6\n"
        heavy += "while time.process_time() < end:\n    pass\n"
        text += approach("c", heavy + textwrap.dedent(COUNTING))
        # What only took long to start did no work before the clock.
        text += approach("d", "import time\ntime.sleep(0.4)\n" + textwrap.dedent(COUNTING))
        trial = self.trial(text, rounds=3)
        told = trial.conduct().points[0].cautions
        found = {(c.word, c.lane) for one in told for c in one.each or [one]}
        self.assertIn(("work outside the clock", "c"), found)
        self.assertIn(("random answer", "b"), found)
        self.assertNotIn(("work outside the clock", "a"), found)
        self.assertNotIn(("work outside the clock", "d"), found)


if __name__ == "__main__":
    unittest.main()
