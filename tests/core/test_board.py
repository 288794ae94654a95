"""The board: what the page, the terminal and the report show of a lane, made once."""

import dataclasses
import io
import unittest
from unittest import mock

from rich.console import Console

from ivrell.cli import findings as terminal
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Targets
from ivrell.core.records.findings import TrialFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.plan import Plan
from ivrell.core.records.session import RunSet, Session
from ivrell.core.report import measures
from ivrell.core.report.document.content import Document
from ivrell.core.report.document.page import report_html
from ivrell.core.report.findings import findings
from ivrell.core.report.view.board import board
from tests.core.test_findings import run
from tests.support.comparisons import COUNTING, HEAD, approach

POINT = {"rows": 300}
TEXT = HEAD + approach("loop", COUNTING) + approach("query", COUNTING, parent="loop")


def found(rounds=(1, 2, 3, 4, 5, 6)):
    runs = [
        run(2 * n + place, lane, n, seconds, peak_memory_bytes=50_000_000, start_memory_bytes=0,
            cpu_user_s=0.75 * seconds, cpu_system_s=0.25 * seconds)
        for n in rounds
        for place, (lane, seconds) in enumerate([("loop", 2.0 + n / 100), ("query", 0.5)])
    ]  # fmt: skip
    session = Session(machine=Machine(cores=2))
    return findings(parse(TEXT), RunSet(runs, [session]), {}, POINT)


class Board(unittest.TestCase):
    def test_cells_have_the_words_of_their_measure_and_what_bars_are_drawn_of(self):
        shown = board(found(), Targets(memory=10_000_000))
        self.assertEqual([row.lane for row in shown.rows], ["query", "loop"])
        quick, base = (row.cells for row in shown.rows)
        self.assertEqual((quick["elapsed"].text, quick["elapsed"].value), ("500 ms", 0.5))
        self.assertEqual(quick["cpu_total"].more, "1.0 cores")
        self.assertEqual([part.name for part in quick["cpu_total"].parts], ["user", "system"])
        self.assertEqual((quick["peak_memory"].tone, quick["peak_memory"].text),
                         ("caution", "50.0 MB"))  # fmt: skip
        self.assertEqual(base["ratio"].text, "baseline")
        self.assertIn("times faster", quick["ratio"].text)
        usual = [heading.key for heading in shown.headings if heading.usual]
        self.assertEqual(usual[:3], ["elapsed", "ratio", "cpu_total"])

    def test_one_run_has_no_interval_and_none_is_made_up(self):
        for row in board(found(rounds=(1,))).rows:
            self.assertEqual(row.cells["elapsed"].more, "")

    def test_a_new_measure_of_a_new_unit_shows_everywhere_without_a_line_more(self):
        sails = measures.Measure(
            "sails", "sails set", "sails", "lower", "Counted by eye.", lambda run, ground: 2.5
        )
        with mock.patch.object(measures, "MEASURES", (*measures.MEASURES, sails)):
            point = found()
        told = next(row.cells["sails"].text for row in board(point).rows)
        self.assertEqual(told, "2.50 sails")
        trial = TrialFindings(ended="done", points=[point])
        page = report_html(Document(parse(TEXT), trial, [], [], Plan(), [], []))
        self.assertIn("2.50 sails", page)
        self.assertIn("sails set,sails,loop", measures.as_csv(point.measures, {}))

    def test_the_terminal_shows_the_same_words(self):
        out = io.StringIO()
        with mock.patch.object(terminal, "OUT", Console(file=out, width=200)):
            terminal._point(found(), [])
        shown = board(found()).rows[0].cells
        for key in ("elapsed", "ratio", "cpu_total", "peak_memory"):
            self.assertIn(shown[key].text, out.getvalue())

    def test_small_values_keep_their_digits(self):
        point = found()
        row = dataclasses.replace(point.measures[0], key="bytes_a_row", unit="bytes", lanes={
            lane: dataclasses.replace(value, median=0.8)
            for lane, value in point.measures[0].lanes.items()
        })  # fmt: skip
        point.measures.append(row)
        self.assertEqual(board(point).rows[0].cells["bytes_a_row"].text, "0.800 B")


if __name__ == "__main__":
    unittest.main()
