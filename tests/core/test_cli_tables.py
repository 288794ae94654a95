"""Tables of the command line, and which of them findings take."""

import contextlib
import io
import unittest
from pathlib import Path

from ivrell.cli import findings as shown
from ivrell.cli.tables import WIDTH, Heading, table
from ivrell.core.comparison.file import parse
from ivrell.core.records.findings import TrialFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.session import RunSet
from ivrell.core.report.findings import findings
from tests.core.test_findings import run
from tests.support.comparisons import COUNTING, HEAD, approach


class Tables(unittest.TestCase):
    LONG = "Window function over readings, partitioned by gauge and month, the newest last"

    def test_what_is_too_wide_goes_on_below_and_then_is_left_out_and_named(self):
        headings = [Heading("lane", text=True, wraps=True), Heading("median"),
                    Heading("zero", dispensable=1), Heading("x" * 40, dispensable=2),
                    Heading("y" * 30, dispensable=3)]  # fmt: skip
        rows = [[self.LONG, "1.00 s", "0 B", "1", "2"], ["Short", "failed: it ran on " * 9]]
        lines = table(headings, rows).split("\n")
        self.assertNotIn("zero", lines[0])
        self.assertIn("x" * 40, lines[0])
        self.assertNotIn("y" * 30, lines[0])
        self.assertIn("without: " + "y" * 30, lines[-1])
        told = [line for line in lines[1:-1] if not line.startswith("Short")]
        self.assertLessEqual(max(map(len, told)), WIDTH)
        first = " ".join(line[: lines[1].index("1.00 s")].strip() for line in told)
        self.assertEqual(first.split(), self.LONG.split())
        self.assertTrue(any("it ran on" in line for line in lines))

    def test_many_points_have_one_table(self):
        comparison = parse(HEAD + approach("a", COUNTING) + approach("b", COUNTING))
        points = []
        for size in range(1, 31):
            lanes = (("a", 1.0, "done"), ("b", 3000 / size, "failed" if size > 4 else "done"))
            runs = [
                run(n, lane, 1, seconds * size, point={"rows": size}, state=state)
                for n, (lane, seconds, state) in enumerate(lanes, 1)
            ]
            taken = RunSet.of(runs, Machine())
            points.append(findings(comparison, taken, {}, {"rows": size}))
        said = io.StringIO()
        with contextlib.redirect_stdout(said):
            shown.findings(TrialFindings(ended="done", points=points), Path("kept"))
        text = said.getvalue()
        self.assertEqual(text.count("lane  "), 1, text)
        self.assertIn("of 30 points are shown", text)
        self.assertIn("1.00 s*", text)
        self.assertRegex(text, r"b at rows 5: failed \(so at 26 of 30 points\)")
        self.assertIn("ivrell measures kept", text)
        self.assertLess(len(text.splitlines()), 25, text)


if __name__ == "__main__":
    unittest.main()
