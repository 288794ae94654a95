"""Hot lines: which lines of a lane the time and the memory go to."""

import json
import os
import subprocess
import sys
import unittest

import ivrell
from ivrell.core.hot import planned, sampled
from ivrell.core.records.wire import HotFrame, HotProfile, StatementPlan, Step
from ivrell.core.run.runner.protocol_validation import Garbled, heard_from
from ivrell.core.run.worker.hot import Tree, together
from tests.support.comparisons import HEAD, TrialCase, approach
from tests.support.hot import PROGRAMS

CODE = """def answer(data, knobs, stage):
    total = 0
    for i in range(9):
        a = i * 3
        b = a ** 2
        total += abs(b)
    return total
"""


def profile(*frames, **fields):
    usual = {"together": {}, "elapsed_s": 1.0, "cpu_s": 1.0, "native_cpu_s": 0.0,
             "children_cpu_s": 0.0, "children_seen_s": 0.0, "samples": 100, "calls": 1}  # fmt: skip
    return HotProfile(frames=list(frames), **(usual | fields))


class Sampled(unittest.TestCase):
    def test_time_is_told_to_the_innermost_line_of_the_lane_that_called(self):
        found = profile(
            HotFrame(-1, "answer", 3, 0.1, 0.1),
            HotFrame(0, "csv.next", 0, 0.4, 0.4),
            HotFrame(0, "weigh", 6, 0.5, 0.5, 4096.0),
        )
        third, sixth = sampled.lines_of(found, CODE)
        self.assertEqual((3, 0.5, 1.0), (third.line, third.elapsed_s, third.whole_s))
        self.assertEqual((6, 0.5, 4096), (sixth.line, sixth.share, sixth.grown_bytes))
        self.assertEqual("total += abs(b)", sixth.text)
        whole = [node.whole_s for node in sampled.nodes_of(found)]
        self.assertEqual([1.0, 0.4, 0.5], whole)

    def test_lines_that_cannot_be_told_apart_are_told_together(self):
        spans = together(CODE, "a")
        self.assertEqual(3, spans[6])
        own = profile(HotFrame(-1, "answer", 6, 1.0, 1.0), together=spans)
        [line] = sampled.lines_of(own, CODE)
        self.assertEqual((3, 6), (line.first, line.line))
        self.assertIn("Lines 3 to 6 cannot be told apart", " ".join(sampled.unseen(own, [line])))
        # A call says by itself which line made it.
        called = profile(
            HotFrame(-1, "answer", 6), HotFrame(0, "csv.next", 0, 1.0, 1.0), together=spans
        )
        [line] = sampled.lines_of(called, CODE)
        self.assertEqual(6, line.first)

    def test_what_is_not_seen_is_said(self):
        found = profile(
            HotFrame(-1, "answer", 6, 1.0, 0.3), cpu_s=0.6, native_cpu_s=0.2, children_cpu_s=0.3,
            children_seen_s=0.1, samples=5,
        )  # fmt: skip
        told = " ".join(sampled.unseen(found, []))
        for words in ("5 times only", "200 ms of CPU time was used by threads that libraries",
                      "Child processes used 300 ms of CPU time, of which 100 ms has lines",
                      "400 ms went by without CPU time"):  # fmt: skip
            self.assertIn(words, told)

    def test_a_large_tree_keeps_its_sum(self):
        tree = Tree()
        root = tree.node(-1, "answer", 1)
        for number in range(3000):
            tree.add(tree.node(root, f"f{number}", 0), 0.001 * (number % 7 + 1), 0.0)
        kept = tree.pruned()
        self.assertLess(len(kept), 1000)
        whole = sum(frame.elapsed_s for frame in tree.frames)
        self.assertAlmostEqual(whole, sum(frame.elapsed_s for frame in kept))
        self.assertTrue(all(frame.above < number for number, frame in enumerate(kept)))


class FromARun(unittest.TestCase):
    def test_frames_that_would_lead_nowhere_are_no_word_of_a_worker(self):
        told = {
            "event": "exported",
            "rows": 1,
            "columns": 1,
            "bytes": 1,
            "threads": {},
            "plans": [],
        }
        for above, good in ((-1, True), (0, False), (1, False), (-2, False), ("x", False)):
            hot = {"frames": [{"above": above, "what": "f", "line": 1}]}
            heard = heard_from(json.dumps(told | {"hot": hot}).encode())
            self.assertEqual(good, not isinstance(heard, Garbled), above)


QUERY = """select p.lock, count(*) as n
from passages p
join locks l on l.lock = p.lock
where p.toll > 5
group by p.lock
order by n desc
"""


class Planned(unittest.TestCase):
    def test_steps_lead_to_the_clause_that_asks_for_them(self):
        for what, detail, line in (
            ("Seq Scan", "passages, (toll > 5)", 12), ("Sort", "(count(*)) DESC", 16),
            ("HashAggregate", "p.lock", 15), ("Hash Join", "(p.lock = l.lock)", 13),
            ("Gather", "", None),
        ):  # fmt: skip
            with self.subTest(what):
                statement = StatementPlan(QUERY, 11, Step(what, detail, own_s=1.0))
                self.assertEqual(line, planned.line_of(statement.plan, statement))

    def test_times_of_lines_and_what_has_none(self):
        scan = Step("Seq Scan", "passages", own_s=0.6)
        plan = StatementPlan(QUERY, 1, Step("Gather", "", own_s=0.4, steps=[scan]))
        [line] = planned.lines_of([plan], QUERY)
        self.assertEqual((2, 0.6), (line.line, line.share))
        self.assertIn("40 % of the time", " ".join(planned.unseen([plan], [line])))
        self.assertEqual([None, 0, 1], [node.above for node in planned.nodes_of([plan])])
        untimed = [StatementPlan(QUERY, 1, Step("Scan", "passages"))]
        self.assertIn("not how long each took", " ".join(planned.unseen(untimed, [])))


SLOW = """
    import time
    def answer(data, knobs, stage):
        time.sleep({})
        return []
"""
QUERY_LANE = """
[[approach]]
id = "query"
engine = "duckdb"
code = '''
select gauge, count(*) as n
from readings
group by gauge'''
"""


class Run(TrialCase):
    def test_the_hot_line_of_programs_is_found(self):
        for number in (1, 3, 6, 9):
            program = PROGRAMS[number]
            key = {"time": "elapsed_s", "cpu": "cpu_s", "memory": "grown_bytes"}[program.by]
            with self.subTest(program.name):
                found = ivrell.Comparison(program.text).hot("lane")
                self.assertEqual(("", "sampled"), (found.trouble, found.way))
                first = max(found.lines, key=lambda line: getattr(line, key))
                self.assertTrue(first.first <= program.line <= first.line, found.lines)

    def ivrell(self, *arguments):
        return subprocess.run(
            [sys.executable, "-m", "ivrell.cli", *map(str, arguments)], capture_output=True,
            text=True, cwd=self.folder, timeout=120, stdin=subprocess.DEVNULL,
            env={**os.environ, "IVRELL_DATA": str(self.folder / "data"), "COLUMNS": "120"},
        )  # fmt: skip

    def test_the_command_shows_code_with_a_margin_and_what_keeps_a_lane_from_its_end(self):
        path = self.folder / "hot.toml"
        lanes = approach("slow", SLOW.format(0.3)) + approach("bad", SLOW.format("'x'"))
        path.write_text(HEAD + lanes + QUERY_LANE)
        done = self.ivrell("hot", path, "slow", "--calls")
        self.assertEqual(0, done.returncode, done.stderr)
        [line] = [x for x in done.stdout.splitlines() if x.endswith("time.sleep(0.3)")]
        self.assertRegex(line, r"^ +9\d\.\d %.*█{9}|^ *100\.0 %")
        self.assertIn("went by without CPU time", done.stdout)
        bad = self.ivrell("hot", path, "bad")
        self.assertEqual(1, bad.returncode)
        self.assertIn("TypeError in line", bad.stdout)
        asked = self.ivrell("hot", path, "query")
        self.assertEqual(0, asked.returncode, asked.stderr)
        self.assertRegex(asked.stdout, r"% .* 2  from readings")


if __name__ == "__main__":
    unittest.main()
