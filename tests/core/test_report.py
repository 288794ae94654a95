"""The report is one file with everything in it, and names stay text."""

import json
import re
import time
import unittest
from html.parser import HTMLParser
from xml.etree import ElementTree

import ivrell
from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import format_seconds, three_figures
from ivrell.core.comparison.file import parse
from ivrell.core.records.sweep import SweepFindings
from ivrell.core.report.document.drawings import (
    Axis,
    Colours,
    grid_drawing,
    grids,
    sweep_drawing,
)
from tests.core.test_cost import TEXT
from tests.core.test_findings import SLOW
from tests.core.test_pairs import MIDDLE, found_of, runs_of
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

COLOURS = Colours.of(parse(TEXT))
NAMES = {approach.id: approach.label for approach in parse(TEXT).approach}
BOTH = {"rows": SLOW, "once": MIDDLE}


class Parsed(HTMLParser):
    def __init__(self, text):
        super().__init__()
        self.tags = []
        self.words = ""
        self.feed(text)

    def handle_starttag(self, tag, attributes):
        self.tags.append((tag, dict(attributes)))

    def handle_data(self, data):
        self.words += data


class Report(TrialCase):
    def test_everything_stands_in_it(self):
        name = "<script>alert(1)</script> & more"
        text = HEAD + approach("a", COUNTING, name=name)
        text += approach("b", COUNTING.replace("+ 1", "+ 2"), name="Twice")
        text += approach("c", "x = (", name="Broken")
        found = self.trial(text, rounds=2, knobs={"rows": [20, 30]}).conduct()
        html = (self.folder / "trial" / "report.html").read_text()
        page = Parsed(html)
        self.assertNotIn("script", [tag for tag, _ in page.tags])
        self.assertIn(name, page.words)
        for point in found.points:
            self.assertIn(point.conclusion, page.words)
            for caution in point.cautions:
                self.assertIn(caution.reason, page.words)
                self.assertIn(f"ivrell help {caution.help}", page.words)
            for lane in point.lanes:
                if lane.elapsed:
                    self.assertIn(format_seconds(lane.elapsed.median), page.words)
        self.assertIn("csv.DictReader", page.words)
        dots = [given for tag, given in page.tags if tag == "circle" and given["r"] == "2.6"]
        self.assertEqual(len(dots), 2 * 2 * 2)
        self.assertIn("(python reading csv)", " ".join(page.words.split()))
        # Nothing is fetched from elsewhere.
        self.assertEqual(re.findall(r"src=|href=\"[^#]|url\(|@import", html), [])

    def test_it_is_written_anew_with_claims_and_notes_of_now(self):
        text = HEAD + approach("a", COUNTING) + approach("b", COUNTING, name="*B* <i>|")
        self.trial(text, rounds=2, knobs={"rows": [20, 200]}).conduct()
        trial = ivrell.Trial.open(self.folder / "trial")
        more = (
            '\n[[note]]\ntext = "Seen **now**."\n\n[[claim]]\ntext = "Far less"\nlower = "a"\n'
            'higher = "b"\nat_least = 1e6\n'
        )
        now = ivrell.Comparison(text + more)
        page = trial.report(self.folder / "now.html", comparison=now, pairs=[("a", "b")])
        words = " ".join(Parsed(page.read_text()).words.split())
        for told in ("Seen now.", "Far less. Claimed: at least 1,000,000 times", "Contents",
                     "Along rows", "what it does not tell", "How the data is made",
                     "drawn with the seed"):  # fmt: skip
            self.assertIn(told, words)
        self.assertNotIn("Far less", trial.report(self.folder / "then.html").read_text())
        made = trial.report(self.folder / "now.md", comparison=now, pairs=[("a", "b")])
        told = made.read_text()
        self.assertIn("Far less", told)
        self.assertIn("\\*B\\* \\<i\\>\\|", told)
        drawings = re.findall(r"\]\(([^)]+)\)", told)
        self.assertEqual(["now-sweep-1.svg", "now-runs-1.svg", "now-runs-2.svg"], drawings)
        for name in drawings:
            drawn = ElementTree.parse(self.folder / name)
            self.assertTrue(drawn.getroot().tag.endswith("svg"))
        self.assertRaises(BadInput, trial.report, self.folder / "now.doc")
        self.assertRaises(BadInput, trial.report, self.folder / "no" / "now.md")
        self.assertRaises(BadInput, trial.report, self.folder / "x.html", pairs=[("a", "gone")])

    def test_markdown_of_a_stranger_stays_words(self):
        notes = [
            "<script>alert(1)</script> and <b onclick='x()'>bold</b>", "![far](http://locks.example/)",
            "[odd](javascript:alert(1))", "[odd](data:text/html,x)", "[odd](vbscript:x)",
            "<http://locks.example/?\"onmouseover=x>", "> " * 5000 + "deep", "*_" * 9_000,
            "| a |\n|---|\n| <img src=x onerror=y> |",
        ]  # fmt: skip
        head = "".join(f"[[note]]\ntext = {json.dumps(note)}\n\n" for note in notes)
        claim = '[[claim]]\ntext = "<img src=x>"\nlower = "a"\nhigher = "b"\n'
        text = HEAD + approach("a", COUNTING) + approach("b", COUNTING) + f"\n{head}{claim}"
        began = time.monotonic()
        self.trial(text, rounds=2).conduct()
        page = Parsed((self.folder / "trial" / "report.html").read_text())
        self.assertLess(time.monotonic() - began, 60)
        self.assertEqual({tag for tag, _ in page.tags} & {"script", "img", "iframe"}, set())
        for _, attributes in page.tags:
            self.assertFalse([name for name in attributes if name.startswith("on")], attributes)
            self.assertRegex(attributes.get("href", "http:"), "^(https?:|#)")

    def test_settings_that_tell_lanes_apart_and_what_differs_stand_in_it(self):
        count = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
        fields = 'indexes = ["readings(gauge)"]\nsetup = "SELECT 1"\n'
        text = HEAD + approach("plain", count, "sqlite")
        text += approach("indexed", count, "sqlite") + fields
        text += approach("wrong", COUNTING.replace("+ 1", "+ 2"))
        self.trial(text, rounds=2, knobs={"rows": [20, 30]}).conduct()
        words = " ".join(Parsed((self.folder / "trial" / "report.html").read_text()).words.split())
        self.assertIn('indexes = ["readings(gauge)"]', words)
        self.assertIn('setup = "SELECT 1"', words)
        self.assertIn("Counted: rows changed 0", words)
        self.assertIn("Stages: read", words)
        self.assertIn("referenceAsh", words)
        # What holds at every point is told once.
        self.assertEqual(words.count("few rounds"), 1)
        self.assertIn("At every point", words)


class Drawings(unittest.TestCase):
    def test_a_size_of_nought_has_no_place_on_a_logarithmic_axis(self):
        points = [
            found_of(TEXT, runs_of(times)).model_copy(update={"point": {"rows": rows}})
            for rows, times in ((0, BOTH), (10, BOTH), (1000, BOTH))
        ]
        drawn = sweep_drawing(SweepFindings(knob="rows"), points, COLOURS, NAMES)
        self.assertEqual(2 * len(BOTH), drawn.count("<circle"))
        self.assertEqual("", sweep_drawing(SweepFindings(knob="rows"), points[:2], COLOURS, NAMES))

    def test_who_leads_by_two_knobs_how_far_and_how_surely(self):
        points = [
            found_of(TEXT, runs_of(times)).model_copy(
                update={"point": {"rows": rows, "k": 100_400 + k}}
            )
            for rows, k, times in (
                (10, 1, {"rows": SLOW, "once": MIDDLE}), (10, 2, {"rows": MIDDLE, "once": SLOW}),
                (20, 1, {"rows": MIDDLE, "once": MIDDLE}), (20, 2, {"rows": SLOW, "once": MIDDLE}),
            )
        ]  # fmt: skip
        [grid] = grids(points)
        self.assertEqual(
            ("once", True), (grid.leads[10, 100_401].lane, grid.leads[10, 100_401].sure)
        )
        self.assertEqual(
            ("rows", True), (grid.leads[10, 100_402].lane, grid.leads[10, 100_402].sure)
        )
        self.assertFalse(grid.leads[20, 100_401].sure)
        drawn = grid_drawing(grid, COLOURS, NAMES)
        self.assertEqual(1, drawn.count("url(#unsure)"))
        told = [lead.margin for lead in grid.leads.values()]
        self.assertIn(f"{three_figures(told[0])}×", drawn)
        self.assertIn("Who leads by", drawn)
        # Values that lie near to each other stay two.
        self.assertTrue("100,401" in drawn and "100,402" in drawn)


class Axes(unittest.TestCase):
    def test_positions_rise_with_times_and_stay_inside(self):
        axis = Axis([0.02, 0.5, 30])
        places = [axis.at(t) for t in (0.001, 0.02, 0.5, 30, 500)]
        self.assertEqual(places, sorted(places))
        self.assertGreater(places[0], 0)
        self.assertLess(places[-1], axis.width)

    def test_bands_cover_the_whole_axis_once(self):
        for times in ([0.02, 30], [0.2, 0.3], [20, 40]):
            bands = Axis(times).bands()
            self.assertAlmostEqual(sum(width for _, width, _ in bands), Axis.width, delta=0.5)
            self.assertEqual(bands[0][0], 0)

    def test_ticks_even_where_no_power_of_ten_lies(self):
        self.assertEqual([label for _, label in Axis([0.2, 0.3]).ticks()], ["200 ms", "300 ms"])
        self.assertIn("1.00 s", [label for _, label in Axis([0.02, 30]).ticks()])


if __name__ == "__main__":
    unittest.main()
