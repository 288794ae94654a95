"""The gate: two versions in one job, what became of each lane, and how that is written down."""

import json
import os
import subprocess
import sys
import unittest
from unittest import mock
from xml.etree import ElementTree

import ivrell
from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from ivrell.core.gate import told
from ivrell.core.gate.judged import Gate, measures_called
from ivrell.core.gate.versions import Pairing, paired
from ivrell.core.records.findings import TrialFindings
from ivrell.core.records.gate import GatedLane, GateFindings, Held
from tests.core.test_cost import TEXT
from tests.core.test_findings import SLOW
from tests.core.test_pairs import found_of, runs_of
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach


def sleeping(seconds):
    """Code that takes so long."""
    return COUNTING.replace("counts = {}", f"import time; time.sleep({seconds}); counts = {{}}", 1)


def version(seconds, *more):
    """A comparison whose loop sleeps so long."""
    return HEAD + approach("loop", sleeping(seconds)) + approach("same", COUNTING) + "".join(more)


class Paired(unittest.TestCase):
    def test_old_lanes_stand_beside_the_new_ones_that_were_changed(self):
        new = version(0.2, approach("fresh", COUNTING)).replace("rows = [300]", "rows = [200]")
        old = version(0.1, approach("gone", COUNTING))
        found = paired(new, old)
        self.assertEqual({"loop": "loop_then"}, found.lanes)
        self.assertEqual((["same"], ["fresh"], ["gone"]),
                         (found.unchanged, found.added, found.removed))  # fmt: skip
        self.assertEqual(["the knobs"], found.differences)
        both = parse(found.text)
        self.assertIn("sleep(0.1)", both.approach_called("loop_then").text())
        self.assertIn("sleep(0.2)", both.approach_called("loop").text())
        # Answers of the new one are held against the old one's.
        self.assertEqual("loop_then", both.baseline_id)
        self.assertEqual({"same": "same_then"}, paired(new, old, ["same"]).lanes)
        self.assertEqual({}, paired(old, old).lanes)
        self.assertRaises(BadInput, paired, new, old, ["no"])
        with self.assertRaisesRegex(BadInput, "The old version cannot be read"):
            paired(new, "name = 3")

    def test_measures_by_their_names(self):
        self.assertEqual(["elapsed"], measures_called([]))
        self.assertEqual(["cpu_total", "peak_memory"], measures_called(["cpu_time", "memory"]))
        self.assertRaises(BadInput, measures_called, ["cores_busy"])


def lane(verdict, **more):
    fields = {"lane": "loop", "name": "A | loop", "point": {"rows": 300}, "measure": "elapsed",
              "label": "elapsed time", "unit": "seconds", "then": 1.0, "now": 1.5, "times": 1.5,
              "low": 1.4, "high": 1.6, "rounds": 6, "line": 12, "reason": ""}  # fmt: skip
    return GatedLane(verdict=verdict, **{**fields, **more})


def findings(*lanes, **more):
    return GateFindings(against="old", margin=0.1, minutes=5, lanes=lanes, rounds=6, **more)


class Counters(unittest.TestCase):
    def test_what_an_engine_counts_is_gated_by_its_name(self):
        [key] = measures_called(["commits"])
        counted = [
            run.model_copy(update={"counters": {"commits": {"rows": 5, "once": 7}[run.approach]}})
            for run in runs_of({"rows": SLOW, "once": SLOW})
        ]
        for lanes, verdict in (({"once": "rows"}, "slower"), ({"rows": "once"}, "no slower")):
            pairing = Pairing("", lanes, [], [], [], [])
            gate = Gate(parse(TEXT), pairing, [counted[0].point], [key], 0.1)
            self.assertTrue(gate.enough(counted, 6))
            [one] = gate.judged(counted, TrialFindings(ended="done", points=[
                found_of(TEXT, counted)]), {})  # fmt: skip
            self.assertEqual((verdict, "commits"), (one.verdict, one.label))


class Told(unittest.TestCase):
    def test_all_together(self):
        self.assertEqual("passes", findings(lane("no slower")).verdict)
        self.assertEqual("cannot tell", findings(lane("no slower"), lane("cannot tell")).verdict)
        for bad in ("slower", "wrong", "failed"):
            self.assertEqual("fails", findings(lane("cannot tell"), lane(bad)).verdict)
        held = Held(text="c", verdict="fails", reason="r")
        self.assertEqual("fails", findings(lane("no slower"), held=[held]).verdict)
        self.assertEqual("passes", findings().verdict)
        self.assertEqual("cannot tell", findings(lane("no slower"), stopped=True).verdict)

    def test_junit_markdown_and_lines(self):
        held = Held(text="Quick\x00", verdict="cannot tell", reason="r")
        found = findings(lane("no slower"), lane("slower"), lane("cannot tell"), held=[held])
        suite = ElementTree.fromstring(told.junit(found, "gauges.toml").encode())
        self.assertEqual(
            ("4", "1", "2"), tuple(suite.get(k) for k in ("tests", "failures", "skipped"))
        )
        [failure] = suite.iter("failure")
        self.assertIn("A | loop at rows = 300 is slower", failure.get("message"))
        text = told.markdown(found)
        self.assertIn("A \\| loop at rows = 300", text)
        self.assertTrue(text.startswith("**The gate fails against old"))
        lines = list(told.annotations(found, "gauges.toml"))
        self.assertEqual(3, len(lines))
        self.assertTrue(
            lines[0].startswith("gauges.toml:12: error: A | loop at rows = 300 is slower")
        )
        self.assertTrue(lines[1].startswith("gauges.toml:12: warning: "))


class Run(TrialCase):
    def setUp(self):
        super().setUp()
        self.old, self.new = self.folder / "old.toml", self.folder / "new.toml"
        self.old.write_text(version(0.1))

    def ivrell(self, *arguments):
        return subprocess.run(
            [sys.executable, "-m", "ivrell.cli", *map(str, arguments)], capture_output=True,
            text=True, cwd=self.folder, timeout=600, stdin=subprocess.DEVNULL,
            env={**os.environ, "IVRELL_DATA": str(self.folder / "data")},
        )  # fmt: skip

    def test_slower_equal_quicker_and_unchanged(self):
        for seconds, status, verdict in ((0.15, 1, "slower"), (0.1001, 0, "no slower"),
                                         (0.05, 0, "no slower")):  # fmt: skip
            with self.subTest(seconds=seconds):
                self.new.write_text(version(seconds))
                done = self.ivrell("gate", self.new, "--against", self.old, "--json", "--junit",
                                   f"{seconds}.xml", "--markdown", f"{seconds}.md")  # fmt: skip
                self.assertEqual(status, done.returncode, done.stderr)
                found = json.loads(done.stdout)
                [one] = found["lanes"]
                self.assertEqual((verdict, "loop"), (one["verdict"], one["lane"]))
                self.assertAlmostEqual(seconds / 0.1, one["times"], delta=0.15)
                self.assertLessEqual(found["rounds"], 12)
                self.assertTrue((self.folder / f"{seconds}.xml").read_text())
        same = self.ivrell("gate", self.old, "--against", self.old)
        self.assertEqual(0, same.returncode, same.stderr)
        self.assertIn("nothing was run", same.stdout)
        slower = self.ivrell("gate", self.folder / "0.15.xml", "--against", self.old)
        self.assertEqual(2, slower.returncode)

    def test_against_a_result_folder_a_bundle_and_the_history_of_a_repository(self):
        trial = ivrell.read(self.old).run(rounds=1, warm_ups=0, folder=self.folder / "was")
        bundle = trial.bundle(self.folder / "was.zip")
        self.new.write_text(version(0.16))
        git = ["git", "-c", "user.name=a", "-c", "user.email=a@b", "-C", str(self.folder)]
        for command in (["init", "-q"], ["add", "old.toml"], ["commit", "-qm", "first"]):
            subprocess.run([*git, *command], check=True, timeout=60)
        self.old.write_text(version(0.16))
        for against in ("was", bundle, "old.toml@HEAD"):
            with self.subTest(against):
                read = ["--code-is-read"] if against == bundle else []
                done = self.ivrell("gate", "old.toml", "--against", against, *read)
                self.assertEqual(1, done.returncode, done.stdout + done.stderr)
                self.assertRegex(done.stderr, r"old.toml:\d+: error: loop.* is slower")
                line = int(done.stderr.split("old.toml:")[1].split(":")[0])
                self.assertIn('"loop"', self.old.read_text().splitlines()[line - 1])
        for wrong in ("nowhere", "old.toml@nothing", bundle):
            self.assertEqual(2, self.ivrell("gate", "old.toml", "--against", wrong).returncode)

    def test_kept_figures_are_held_against_by_way_of_lanes_that_did_not_change(self):
        steady = approach("same", sleeping(0.2))
        self.old.write_text(HEAD + approach("loop", sleeping(0.1)) + steady)
        ivrell.read(self.old).run(rounds=6, warm_ups=0, folder=self.folder / "was")
        for seconds, status, verdict in ((0.16, 1, "slower"), (0.1001, 0, "no slower")):
            with self.subTest(seconds=seconds):
                self.new.write_text(self.old.read_text().replace("sleep(0.1)", f"sleep({seconds})"))
                done = self.ivrell("gate", self.new, "--against", "was", "--stored", "--json")
                self.assertEqual(status, done.returncode, done.stderr + done.stdout)
                found = json.loads(done.stdout)
                [one] = found["lanes"]
                self.assertEqual((verdict, ["same"]), (one["verdict"], found["anchors"]))
                self.assertAlmostEqual(seconds / 0.1, one["times"], delta=0.2)
                ran = {run.approach for run in ivrell.Trial.open(found["folder"]).records}
                self.assertEqual({"loop", "same"}, ran)
        self.new.write_text(version(0.3))
        for against, why in ((self.old, "keeps no figures"), ("was", "No lane that is the same")):
            with self.assertRaisesRegex(BadInput, why):
                ivrell.gate(self.new, str(self.folder / against), stored=True)

    def test_a_stranger_s_code_runs_only_read_and_in_a_sandbox(self):
        trial = ivrell.read(self.old).run(rounds=1, warm_ups=0, folder=self.folder / "was")
        bundle = trial.bundle(self.folder / "was.zip")
        came = ivrell.unpack(bundle, self.folder / "came").folder
        self.new.write_text(version(0.16))
        none = mock.patch("ivrell.core.contain.sandbox.why_not", return_value="no bubblewrap")
        for old in (bundle, came):
            with self.subTest(old.name):
                with self.assertRaisesRegex(BadInput, "is a stranger's"):
                    ivrell.gate(self.new, str(old))
                with none, self.assertRaisesRegex(BadInput, "is not run without: no bubblewrap"):
                    ivrell.gate(self.new, str(old), code_is_read=True)

    def test_asserted_in_a_test_against_an_earlier_trial(self):
        steady = approach("same", sleeping(0.2))
        for path, seconds in ((self.old, 0.1), (self.new, 0.3)):
            path.write_text(HEAD + approach("loop", sleeping(seconds)) + steady)
        was, now = (
            ivrell.read(path).run(rounds=5, warm_ups=0, folder=self.folder / path.stem)
            for path in (self.old, self.new)
        )
        now.assert_no_slower(was, lanes=["same"], margin=20)
        with self.assertRaisesRegex(AssertionError, r"loop takes \S+ times as long \(at least"):
            now.assert_no_slower(was)
        was.assert_no_slower(now, lanes=["loop"])

    def test_wrong_and_failed_lanes_claims_and_targets(self):
        wrong = version(0.01).replace("+ 1", "+ 2")
        self.new.write_text(wrong)
        found = ivrell.gate(self.new, str(self.old), lanes=["loop"], folder=self.folder / "wrong")
        self.assertEqual(["wrong"], [one.verdict for one in found.lanes])
        self.new.write_text(version(0.01).replace("import time;", "raise ValueError('x');"))
        found = ivrell.gate(self.new, str(self.old), folder=self.folder / "failed")
        self.assertEqual(["failed"], [one.verdict for one in found.lanes])
        self.assertLessEqual(found.rounds, 4)
        claim = '\n[[claim]]\ntext = "Quick"\nlower = "loop"\nhigher = "same"\n'
        targets = "\n[targets]\nelapsed = 0.001\n"
        self.new.write_text(version(0.05, claim) + targets)
        found = ivrell.gate(self.new, str(self.old), minutes=2, claims=True, targets=True,
                            measures=["elapsed", "cpu_time"])  # fmt: skip
        self.assertEqual({"fails"}, {one.verdict for one in found.held})
        self.assertEqual(2, len(found.held))
        self.assertEqual(["elapsed", "cpu_total"], [one.measure for one in found.lanes])
        self.assertEqual("fails", found.verdict)

    def test_a_measure_that_no_lane_tells_ends_soon(self):
        self.new.write_text(version(0.05))
        found = ivrell.gate(self.new, str(self.old), measures=["rows fetched"], minutes=2)
        self.assertEqual(("cannot tell", 4), (found.verdict, found.rounds))
        self.assertIn("is not told by both", found.lanes[0].reason)

    def test_time_that_is_up_cannot_tell(self):
        self.new.write_text(version(0.11))
        done = self.ivrell("gate", self.new, "--against", self.old, "--minutes", "0.001")
        self.assertEqual(3, done.returncode, done.stdout + done.stderr)
        self.assertIn("cannot tell", done.stdout)


if __name__ == "__main__":
    unittest.main()
