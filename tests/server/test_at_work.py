"""Trying all, running again, going on after an upgrade, environments, labels, the command line's
key."""

import os
import shutil
import tempfile
from pathlib import Path
from unittest import mock

from django.test import override_settings

from ivrell.core.results.folder import SESSIONS
from ivrell.core.runtimes import Runtimes
from ivrell.core.trial.plan import Plan
from ivrell.server.comparisons.models import Comparison
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.runner import do
from ivrell.server.trials.models import Trial, TryAll
from tests.core.test_environments import wheel
from tests.support.comparisons import UNDISTURBED, approach
from tests.support.server import TWO_LANES, ServerCase, change_job, work

PLAN = Plan(rounds=1, warm_ups=0, disturbed=UNDISTURBED)


class TryingAll(ServerCase):
    def test_every_lane_once_with_errors_agreement_and_times(self):
        wrong = approach(
            "wrong", "SELECT gauge, count(*) + 1 AS n FROM readings GROUP BY 1", "duckdb"
        )
        broken = approach("broken", "SELECT nothing FROM readings", "duckdb")
        self.comparison = Comparison.objects.from_text(TWO_LANES + wrong + broken)
        self.assertIsNone(self.call("get", self.at("try-all/"))["newest"])
        begun = self.call("post", self.at("try-all/"), status=201)["newest"]
        self.assertEqual(("waiting", True), (begun["state"], begun["of_now"]))
        work(TryAll.objects.get())
        newest = self.call("get", self.at("try-all/"))["newest"]
        lanes = {lane["lane"]: lane for lane in newest["found"]["lanes"]}
        self.assertEqual("failed", lanes["broken"]["state"])
        self.assertIn("nothing", lanes["broken"]["trouble"])
        self.assertIs(False, lanes["wrong"]["agrees"])
        self.assertTrue(lanes["wrong"]["reasons"])
        self.assertIs(True, lanes["query"]["agrees"])
        self.assertEqual("broken did not come to its end; wrong gives another answer.",
                         newest["found"]["words"])  # fmt: skip
        self.assertGreaterEqual(newest["runs"], 4)
        # What it took tells how long a plan takes.
        asked = {"plan": {"rounds": 5, "approaches": ["loop", "query"]}, "minutes": None}
        told = self.call("post", self.at("estimate/"), asked)
        self.assertNotIn("not known", [lane["rests_on"] for lane in told["lanes"]])
        self.comparison.put_text(self.comparison.text + "\n# changed\n")
        self.comparison.save()
        self.assertFalse(self.call("get", self.at("try-all/"))["newest"]["of_now"])

    def test_it_is_stopped(self):
        self.call("post", self.at("try-all/"), status=201)
        newest = self.call("delete", self.at("try-all/"))["newest"]
        self.assertEqual("stopped", newest["state"])


class Again(ServerCase):
    def test_exactly_as_it_was_though_the_comparison_is_another_now(self):
        plan = PLAN.model_copy(update={"order_seed": 77})
        first = Trial.objects.launch(self.comparison, plan)
        work(first)
        self.comparison.put_text(self.comparison.text.replace("count(*)", "count( * )"))
        self.comparison.save()
        made = self.call("post", f"trials/{first.pk}/again/", status=201)
        again = Trial.objects.get(pk=made["id"])
        self.assertEqual((first.text, first.plan), (again.text, again.plan))
        work(again)
        self.assertEqual("done", again.state)

    def test_one_that_waits_for_other_versions_goes_on_with_them(self):
        trial = Trial.objects.launch(self.comparison, PLAN)
        work(trial)
        at = f"trials/{trial.pk}/"
        self.call("post", f"{at}resume/", {"other_versions": True}, status=400)
        # Cut off half-way by an upgrade of the kernel.
        results = trial.results
        runs = results.runs()
        results.write_runs(runs[:1])
        trial.runs.exclude(number=runs[0].run).delete()
        results.reopen()
        (session,) = results.sessions()
        older = session.machine.model_copy(update={"kernel": "1.0"})
        results.keep(SESSIONS, [session.model_copy(update={"machine": older})])
        change_job(trial, state="waiting", finished_at=None)
        work(trial)
        self.assertEqual("failed", trial.state)
        message = self.call("get", at)["message"]
        self.assertTrue(message["other_versions"])
        self.assertIn("the kernel 1.0, then", message["what"])
        self.call("post", f"{at}resume/", {"other_versions": True})
        trial.refresh_from_db()
        work(trial)
        self.assertEqual(("done", 2), (trial.state, trial.done_runs))


class Environments(ServerCase):
    def setUp(self):
        super().setUp()
        self.data = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.data)
        shelf = self.data / "shelf"
        shelf.mkdir()
        wheel(shelf, "sluice", "1.0", "LEVEL = 1")
        own = {"PIP_NO_INDEX": "1", "PIP_FIND_LINKS": str(shelf), "IVRELL_DATA": str(self.data),
               "PIP_CONFIG_FILE": os.devnull}  # fmt: skip
        for patch in (mock.patch.dict(os.environ, own), override_settings(IVRELL_DATA=self.data)):
            patch.__enter__()
            self.addCleanup(patch.__exit__, None, None, None)

    def test_one_is_made_shown_used_by_name_and_removed(self):
        asked = {"name": "old-sluice", "packages": ["sluice==1.0"]}
        waiting = self.call("post", "environments/", asked, status=202)
        self.assertEqual(["old-sluice"], [one["name"] for one in waiting["makings"]])
        do(Job.objects.get(kind="environment").pk)
        found = self.call("get", "environments/")
        self.assertEqual([], found["makings"])
        (made,) = found["environments"]
        self.assertEqual("1.0", made["packages"]["sluice"])
        self.assertIn("sluice 1.0", (self.data / "log/environment-old-sluice.log").read_text())
        self.call("post", "environments/", asked, status=400)
        self.assertEqual("old-sluice", Runtimes(self.data).get("old-sluice").name)
        left = self.call("delete", "environments/?name=old-sluice")
        self.assertEqual([], left["environments"])

    def test_one_that_cannot_be_made_says_so_in_the_list_until_it_is_cleared(self):
        self.call("post", "environments/", {"name": "x", "packages": ["--pre"]}, status=400)
        asked = {"name": "wrong", "packages": ["sluice==9"]}
        self.call("post", "environments/", asked, status=202)
        do(Job.objects.get(kind="environment").pk)
        (making,) = self.call("get", "environments/")["makings"]
        self.assertEqual("failed", making["state"])
        self.assertIn("There is no sluice==9", making["message"]["what"])
        self.assertTrue(making["lines"])
        left = self.call("delete", "environments/?name=wrong")
        self.assertEqual([], left["makings"])
        self.call("delete", "environments/?name=wrong", status=400)


class Labels(ServerCase):
    def test_labels_are_kept_and_change_nothing_else(self):
        before = self.call("get", self.at())["changed_at"]
        told = self.call("put", self.at("labels/"), {"labels": ["tolls", " nightly ", "tolls"]})
        self.assertEqual(["tolls", "nightly"], told["labels"])
        line = self.call("get", "comparisons/")[0]
        self.assertEqual(["tolls", "nightly"], line["labels"])
        self.assertEqual(before, self.call("get", self.at())["changed_at"])
        self.call("put", self.at("labels/"), {"labels": ["x" * 41]}, status=400)


class Key(ServerCase):
    def test_the_key_of_this_start_lets_in_and_no_other(self):
        self.client.logout()

        def status(given):
            return self.client.get("/api/queue/", headers={"Authorization": given}).status_code

        with override_settings(COMMAND_KEY="right"):
            self.assertEqual(200, status("Ivrell right"))
            for wrong in ("Ivrell wrong", "Ivrell ", "Bearer right", "Ivrell"):
                with self.subTest(wrong):
                    self.assertIn(status(wrong), (401, 403))
        with override_settings(COMMAND_KEY=""):
            self.assertIn(status("Ivrell "), (401, 403))
