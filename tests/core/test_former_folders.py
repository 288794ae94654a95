"""Result folders that earlier versions made: each is read, judged again and gone on with.

Those in tests/data/former were left by the code of the day that their names tell: three lanes, one
of them wrong, at two sizes.
"""

import tarfile
import unittest
from collections import Counter
from pathlib import Path

from ivrell.core.results.folder import ResultFolder
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.measured import measures_in
from ivrell.core.trial.plan import PLAN
from tests.support.comparisons import TrialCase

FORMER = sorted((Path(__file__).parents[1] / "data" / "former").glob("*.tar.xz"))


class FormerFolders(TrialCase):
    def each(self):
        for packed in FORMER:
            folder = self.folder / packed.name.partition(".")[0]
            with tarfile.open(packed) as archive:
                archive.extractall(folder, filter="data")
            yield ResultFolder(folder)

    def trial_of(self, kept):
        # Kernel and libraries are those of the machine that the tests run on.
        return Trial(
            kept.comparison_text, kept.read(PLAN), kept.path, self.store, data_workers=1,
            other_versions=True,
        )  # fmt: skip

    def check(self, found):
        self.assertEqual([point.point["rows"] for point in found.points], [300, 600])
        for point in found.points:
            agrees = {lane.id: lane.agreement.agrees for lane in point.lanes}
            self.assertEqual(agrees, {"count": True, "query": True, "wrong": False})
            self.assertEqual({lane.elapsed.count for lane in point.lanes}, {2})
            self.assertTrue(all(lane.peak_memory is not None for lane in point.lanes))

    def test_they_are_read_and_judged_as_then(self):
        self.assertGreater(len(FORMER), 3)
        for kept in self.each():
            stages = [run.stages[0] for run in kept.runs() if run.approach == "count"]
            self.assertEqual({stage.name for stage in stages}, {"read"})
            for point in measures_in(kept):
                elapsed = next(row for row in point.rows if row.key == "elapsed")
                self.assertEqual(set(elapsed.lanes), {"count", "query", "wrong"})
            trial = self.trial_of(kept)
            self.check(trial.judge_again())
            self.assertIn("Count by reading", kept.report.read_text())

    def test_one_that_was_cut_off_goes_on(self):
        # Numbers of runs were places of their plan, whose order is another now.
        for kept in [*self.each()][::3]:
            lines = (kept.path / "runs.jsonl").read_text().splitlines(keepends=True)
            (kept.path / "runs.jsonl").write_text("".join(lines[:7]))
            (kept.path / "findings.json").unlink()
            self.check(self.trial_of(kept).conduct())
            runs = kept.runs()
            self.assertEqual([run.run for run in runs], sorted({run.run for run in runs}))
            once = Counter(run.identity for run in runs if not run.set_aside)
            self.assertEqual(set(once.values()), {1})

    def test_more_rounds_than_before_take_no_run_of_another_kind_for_theirs(self):
        for kept in [*self.each()][::3]:
            plan = kept.read(PLAN)
            more = plan.model_copy(update={"rounds": plan.most_rounds + 1, "until": None})
            kept.keep(PLAN, more)
            (kept.path / "findings.json").unlink()
            self.trial_of(kept).conduct()
            rounds = Counter(run.purpose for run in kept.runs() if run.round == more.rounds)
            self.assertTrue(rounds["counted"], rounds)
            memory = [run.identity for run in kept.runs() if run.purpose == "memory"]
            self.assertEqual(len(set(memory)), len(memory))


if __name__ == "__main__":
    unittest.main()
