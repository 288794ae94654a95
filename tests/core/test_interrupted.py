"""What an interruption leaves behind, and whether it can be started again on that."""

import unittest
from dataclasses import replace
from unittest import mock

from ivrell.core.trial.interrupted import interrupted
from ivrell.core.trial.run_executor import RunExecutor
from tests.core.test_sql_engines import EngineCase, sql
from tests.core.test_writing import BIG, LEDGER, ONE_BY_ONE, client
from tests.support.comparisons import approach

SLOW = (
    "INSERT INTO ledger SELECT r.* FROM readings r, LATERAL "
    "(SELECT pg_sleep(CASE WHEN r.reading % 200 = 0 THEN 0.006 ELSE 0 END)) s"
)
"""Sleeps few times: of many short ones a busy machine makes many long ones, now and then."""


class Interrupted(EngineCase):
    def check(self, lane, share=0.5):
        store = self.store
        return interrupted(BIG + lane, "one", 20_000, share, self.folder / "t", store)

    def test_single_commits_leave_rows_twice(self):
        code = ONE_BY_ONE.replace(
            "db):", "db):\n        db.execute('CREATE TABLE IF NOT EXISTS ledger "
            "(reading int, gauge text)')", 1,
        )  # fmt: skip
        found = self.check(client("one", code, 'answer = "SELECT * FROM ledger"\n'))
        self.assertEqual(found.verdict, "cannot be started again", found.words)
        left = found.left[""]
        # When it was killed is the machine's affair, so long as some rows were there and not all.
        self.assertTrue(0 < left < 20_000, left)
        self.assertIn(f"{left:,} rows too many", found.words)

    def test_one_statement_leaves_nothing_or_all_and_a_check_makes_it_safe(self):
        guarded = f"TRUNCATE ledger; {SLOW}"
        found = self.check(sql("one", "postgres", guarded, LEDGER), share=0.2)
        self.assertEqual(found.verdict, "can be started again", found.words)
        self.assertEqual(found.whole, {"": 20_000})

    def test_what_was_quicker_than_usual_is_killed_earlier(self):
        made, late = RunExecutor.attempt, [60.0]

        def attempt(*given):
            *rest, overrides = given
            if overrides.seconds is not None and late:
                overrides = replace(overrides, seconds=late.pop())
            return made(*rest, overrides)

        lane = sql("one", "postgres", SLOW, LEDGER)
        with mock.patch.object(RunExecutor, "attempt", attempt):
            found = self.check(lane, share=0.5)
        self.assertEqual(late, [])
        self.assertEqual(found.runs.killed.state, "limit")
        # The same rows came twice, or none had come: what matters is that it was killed.
        self.assertNotEqual(found.verdict, "was not killed")

    def test_what_ends_too_soon_is_not_called_safe(self):
        code = "def answer(data, knobs, stage):\n    return [{'gauge': 'Ash'}]"
        found = self.check(approach("one", code))
        killed = found.runs.killed.state == "limit"
        expected = "can be started again" if killed else "was not killed"
        self.assertEqual(found.verdict, expected)


if __name__ == "__main__":
    unittest.main()
