"""A trial that is gone on with: which runs are of which session, and what was another version."""

import json
import time
import unittest

from ivrell.core.base.errors import BadInput
from ivrell.core.records.machine import Machine, UsedRuntime
from ivrell.core.records.session import RunSet, Session, changes
from ivrell.core.results.folder import PLAN
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.control import NoControl
from ivrell.core.trial.once import try_once
from tests.core.test_findings import run
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach

TEXT = HEAD + approach("a", COUNTING) + approach("b", COUNTING)


def session(number, **machine):
    return Session(number=number, machine=Machine(**machine))


class GoneOn(TrialCase):
    def cut(self, rounds, *, change=None):
        """A trial that was cut off after its first run, and may go on for more rounds."""
        first = self.trial(TEXT, rounds=1)
        first.conduct()
        for name in ("findings.json", "agreement.json", "report.html"):
            (first.folder / name).unlink()
        path = first.folder / "runs.jsonl"
        path.write_text(path.read_text().splitlines(keepends=True)[0])
        if change:
            kept = json.loads((first.folder / "sessions.json").read_text())
            kept[0]["machine"] |= change
            (first.folder / "sessions.json").write_text(json.dumps(kept))
        return first.plan.model_copy(update={"rounds": rounds}), first.folder

    def gone_on(self, plan, folder, **how):
        return Trial(TEXT, plan, folder, self.store, data_workers=1, **how)

    def test_each_run_names_its_session(self):
        plan, folder = self.cut(2)
        trial = self.gone_on(plan, folder)
        [point] = trial.conduct().points
        self.assertEqual([one.session for one in trial.results.runs()], [1, 2, 2, 2])
        first, second = trial.results.sessions()
        self.assertEqual((first.plan.rounds, second.plan.rounds), (1, 2))
        self.assertLessEqual(first.began, second.began)
        self.assertNotIn("mixed versions", [caution.word for caution in point.cautions])

    def test_other_versions_are_refused_unless_asked_for_and_then_told(self):
        plan, folder = self.cut(2, change={"python": "3.1.4"})
        with self.assertRaises(BadInput) as raised:
            self.gone_on(plan, folder).conduct()
        self.assertIn("Python 3.1.4, then 3.", raised.exception.what)
        self.assertIn("--other-versions", raised.exception.hint)
        kept = self.gone_on(plan, folder).results
        self.assertEqual(len(kept.sessions()), 1)
        self.assertEqual(kept.read(PLAN).rounds, 1, "what is refused changes nothing")
        trial = self.gone_on(plan, folder, other_versions=True)
        [point] = trial.conduct().points
        [told] = [caution for caution in point.cautions if caution.word == "mixed versions"]
        self.assertIn("Python 3.1.4, then 3.", told.reason)
        again = self.gone_on(plan, folder).judge_again()
        self.assertIn("mixed versions", [caution.word for caution in again.points[0].cautions])

    def test_what_is_done_between_runs_is_no_time_of_the_trial(self):
        class Slow(NoControl):
            paused = 0

            def between_runs(self):
                self.paused += 1
                time.sleep(0.7)

        trial = self.trial(TEXT, rounds=2)
        trial.control = Slow()
        began = time.monotonic()
        trial.conduct()
        took, paused = time.monotonic() - began, trial.control.paused
        self.assertGreaterEqual(paused, 4)
        self.assertLess(trial.runs[-1].spent_s, took - 0.7 * paused)

    def test_a_try_between_runs_leaves_the_trial_the_server_that_both_use(self):
        query = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
        text = HEAD + approach("a", query, engine="postgres")
        tried = []

        class Tries(NoControl):
            def between_runs(own):
                folder = self.folder / f"try-{len(tried)}"
                tried.append(try_once(text, "a", 100, folder, self.store))

        trial = self.trial(text, rounds=2)
        trial.control = Tries()
        trial.conduct()
        self.assertEqual([one.run.state for one in tried], ["done", "done"], tried[0].run.error)
        self.assertEqual([one.state for one in trial.runs], ["done", "done"])

    def test_a_folder_with_one_machine_for_all_sessions(self):
        plan, folder = self.cut(2)
        [kept] = json.loads((folder / "sessions.json").read_text())
        (folder / "sessions.json").unlink()
        (folder / "machine.json").write_text(json.dumps(kept["machine"]))
        trial = self.gone_on(plan, folder)
        trial.conduct()
        self.assertEqual([one.number for one in trial.results.sessions()], [1, 2])


class Sets(unittest.TestCase):
    def test_what_changed_between_sessions_that_have_runs(self):
        duckdb = {"installed": True, "versions": {"duckdb": "1.4"}}
        newer = {"installed": True, "versions": {"duckdb": "1.5"}}
        one = session(1, kernel="6.1", engines={"duckdb": duckdb, "polars": duckdb})
        two = session(2, kernel="6.1", engines={"duckdb": newer, "polars": duckdb})
        three = session(3, kernel="6.2", engines={"duckdb": newer})
        runs = [run(1, "a", 1, 1.0, session=1), run(2, "a", 2, 1.0, session=2)]
        taken = RunSet(runs, [one, two, three])
        self.assertEqual(list(map(str, taken.changes(["duckdb"]))), ["duckdb 1.4, then 1.5"])
        self.assertEqual(taken.changes(["python"]), [])
        self.assertEqual(list(map(str, changes(two, three, []))), ["the kernel 6.1, then 6.2"])

    def test_interpreters_and_what_nobody_told(self):
        runtime = {"implementation": "PyPy", "interpreter": "pypy3", "packages": {}}
        old = session(1, runtimes={"other": UsedRuntime(version="7.3", **runtime)})
        new = session(2, runtimes={"other": UsedRuntime(version="7.4", **runtime)}, kernel="6.1")
        self.assertEqual(list(map(str, changes(old, new, []))), ["other PyPy 7.3, then PyPy 7.4"])

    def test_what_held_the_machine_back_in_any_session(self):
        taken = RunSet(
            [run(1, "a", 1, 1.0, session=1), run(2, "a", 2, 1.0, session=2)],
            [session(1, throttled_s=2.0, cores=2), session(2, throttled_s=0.5, cores=4)],
        )
        self.assertEqual((taken.machine.throttled_s, taken.machine.cores), (2.5, 4))
        self.assertIsNone(taken.machine.heat_throttles)
        self.assertEqual(taken.at({"rows": 9}).runs, [])


if __name__ == "__main__":
    unittest.main()
