"""The demo's comparisons: every lane of each gives the same answer on a small size."""

import re
import unittest
from pathlib import Path

from ivrell.core.comparison.file import parse
from ivrell.core.servers import mariadb
from ivrell.core.sheets import office
from ivrell.core.trial.once import small_knobs
from tests.core.test_sql_engines import EngineCase
from tests.support.comparisons import DEMO

_ROWS = 300
WRONG_ON_PURPOSE = {("gauge-readings", "whole"): "values differ"}
"""Lanes whose bug is what a demo shows, and what is said of each."""

_ENOUGH_DRAWS = 8_000
FILES = sorted(DEMO.parent.glob("*.toml"))


class Demo(EngineCase):
    def agreeing(self, path: Path) -> None:
        text = path.read_text()
        # Statistics of few draws vary more than they may differ.
        random = parse(text).answer.statistics is not None
        knobs = small_knobs(text, _ENOUGH_DRAWS if random else _ROWS)
        lanes = [
            lane.id
            for lane in parse(text).approach
            # Those of Spark have a test in its own part.
            if lane.engine != "spark"
            and (lane.engine != "sheet" or office.version())
            and ("mariadb" not in (lane.engine, lane.needs.server) or mariadb.server_version())
        ]
        trial = self.trial(text, name=path.stem, knobs=knobs, lanes=lanes)
        # What a lane holds is not asked here, only what it answers.
        trial._status.needs_memory_run = lambda planned: False
        point = trial.conduct().points[0]
        self.assertEqual([run.error for run in trial.runs if run.error], [])
        for lane in point.lanes:
            with self.subTest(lane=lane.id):
                agreement = lane.agreement
                if why := WRONG_ON_PURPOSE.get((path.stem, lane.id)):
                    self.assertIn(why, " ".join(agreement.reasons))
                else:
                    self.assertTrue(agreement.agrees, agreement.reasons)

    def test_counted_against_exists_finds_what_is_there_and_only_that(self):
        text = (DEMO.parent / "late-barge-in-database.toml").read_text()
        places = ["first", "absent"]
        trial = self.trial(text, knobs={"rows": [_ROWS], "place": places}, lanes=["exists"])
        trial.conduct()
        found = {
            run.point["place"]: trial.answers.table("exists", run.answer_fingerprint)
            for run in trial.runs
        }
        self.assertEqual([found[p]["late"].to_pylist() for p in places], [[True], [False]])

    def test_what_a_reader_makes_of_broken_lines_is_a_line_with_counts(self):
        text = (DEMO.parent / "survey-files.toml").read_text()
        lanes = ["whole", "forgiving", "query_forgiving", "columnar"]
        trial = self.trial(text, knobs={"rows": [2000], "broken": [0.01]}, lanes=lanes)
        told = {lane.id: lane.agreement.broken_lines for lane in trial.conduct().points[0].lanes}
        self.assertEqual(told["whole"], "It gave no answer where 20 broken lines went in")
        self.assertEqual(told["columnar"], "", "no line of it is broken")
        for lane in ("forgiving", "query_forgiving"):
            counts = re.fullmatch(
                r"Of 20 broken lines (\d+) dropped, (\d+) kept with nulls, (\d+) kept", told[lane]
            )
            self.assertEqual(sum(map(int, counts.groups())), 20)
            self.assertGreater(int(counts[1]), 0)

    def test_each_is_small_enough_to_look_at_and_says_what_is_asked(self):
        for path in FILES:
            with self.subTest(path.stem):
                comparison = parse(path.read_text())
                self.assertTrue(comparison.question and comparison.baseline)
                self.assertLessEqual(len(comparison.approach), 14)


def _test(path: Path):
    return lambda self: self.agreeing(path)


for _path in FILES:
    setattr(Demo, f"test_{_path.stem.replace('-', '_')}_agrees", _test(_path))


if __name__ == "__main__":
    unittest.main()
