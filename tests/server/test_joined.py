"""Machines that join, as the API takes them: tokens, what they may, machines that are away."""

import datetime
from unittest import mock

from django.utils import timezone

from ivrell.core.records.events import RunEnded
from ivrell.core.records.joined import WORKER_SCHEME
from ivrell.core.results.folder import AGREEMENT, DATA
from ivrell.core.trial.plan import Plan
from ivrell.server.jobs.models import Job, JoinedMachine
from ivrell.server.trials.models import Trial
from tests.support.comparisons import UNDISTURBED
from tests.support.server import ServerCase, change_job, work

PLAN = Plan(rounds=1, warm_ups=0, disturbed=UNDISTURBED)


class Joined(ServerCase):
    def setUp(self):
        super().setUp()
        self.tokens = {
            name: self.call("post", "machines/", {"name": name, "labels": ["yard"]}, 201)["token"]
            for name in ("weir", "quay")
        }

    def as_machine(self, name, path, body, status=200, worker="first-start"):
        body = {"worker": worker, **body}
        answer = self.client.post(
            f"/api/worker/{path}", data=body, content_type="application/json",
            headers={"Authorization": f"{WORKER_SCHEME} {self.tokens.get(name, name)}"},
        )  # fmt: skip
        self.assertEqual(status, answer.status_code, answer.content[:400])
        return answer.json() if answer.content else None

    def next(self, name, **how):
        return self.as_machine(name, "next/", {"machine": {"host": name}}, **how)["task"]

    def launch(self, on, status=201):
        path = f"{self.at('launch/')}?on={on}"
        return self.call("post", path, PLAN.model_dump(mode="json"), status)

    def local(self):
        """A trial that was run here, whose runs a machine could tell."""
        trial = Trial.objects.launch(self.comparison, PLAN)
        work(trial)
        return trial

    def told(self, trial):
        runs = trial.results.runs()
        events = [RunEnded(record=run).short.model_dump(mode="json") for run in runs]
        return {"runs": [run.model_dump(mode="json") for run in runs], "events": events,
                "curves": {run.run: trial.results.curve(run.run) for run in runs}}  # fmt: skip

    def brought(self, trial, ended="done"):
        results = trial.results
        return {
            "ended": ended, "sessions": trial.sessions,
            "data": [one.model_dump(mode="json") for one in results.read(DATA)],
            "agreement": AGREEMENT.shape.dump_python(results.read(AGREEMENT), mode="json"),
        }  # fmt: skip

    def test_a_trial_is_taken_told_and_brought_and_stands_beside_those_of_here(self):
        local = self.local()
        number = self.launch("weir")["id"]
        self.assertIsNone(self.next("quay"))
        task = self.next("weir")
        self.assertEqual((number, self.comparison.text), (task["trial"], task["text"]))
        self.assertIsNone(task["plan"]["own_files"])
        # What was made of the same recipe is what it is to make.
        told = {key: local.data[0][key] for key in ("fingerprint", "form", "bytes_hash")}
        self.assertIn(told, task["expected"])
        self.assertTrue(told["bytes_hash"])
        self.assertEqual(task, self.next("weir"))
        wanted = self.as_machine("weir", f"trials/{number}/told/", self.told(local))
        self.assertEqual((False, False), (wanted["stop"], wanted["pause"]))
        self.as_machine("weir", f"trials/{number}/brought/", self.brought(local))
        trial = Trial.objects.get(pk=number)
        self.assertEqual(("done", 2), (trial.state, trial.done_runs))
        there, here = (self.call("get", f"trials/{n}/findings/") for n in (number, local.pk))
        self.assertEqual(here["ranking"], there["ranking"])
        self.assertEqual("weir", self.call("get", f"trials/{number}/")["on"])
        self.assertTrue(trial.results.has_ended and trial.results.report.exists())
        self.assertEqual(2, len(self.call("get", self.at("history/"))["trials"]))
        self.call("post", f"trials/{number}/judge/", {"lane": "query"}, status=400)

    def test_what_a_machine_may_not(self):
        local = self.local()
        number = self.launch("weir")["id"]
        self.next("weir")
        for wrong in ("wrong", ""):
            self.as_machine(wrong, "next/", {"machine": {}}, status=403)
        # A token is good for nothing else, and a person's session for no worker.
        answer = self.client.post("/api/worker/next/", data={}, content_type="application/json")
        self.assertIn(answer.status_code, (401, 403))
        self.client.logout()
        alone = {"Authorization": f"{WORKER_SCHEME} {self.tokens['weir']}"}
        self.assertIn(self.client.get("/api/queue/", headers=alone).status_code, (401, 403))
        # Another machine's trial is none of its own.
        self.assertTrue(self.as_machine("quay", f"trials/{number}/told/", {})["stop"])
        self.as_machine("quay", f"trials/{number}/brought/", {"ended": "done"})
        self.assertEqual("running", Trial.objects.get(pk=number).state)
        told = self.told(local)
        told["runs"][0]["approach"] = "../../etc"
        self.as_machine("weir", f"trials/{number}/told/", told, status=400)
        many = self.told(local)
        many["runs"][0]["run"] = 10**6
        self.as_machine("weir", f"trials/{number}/told/", many, status=400)
        self.as_machine("weir", f"trials/{number}/told/", {"runs": [{"run": "x"}]}, status=400)
        self.as_machine("weir", f"trials/{number}/brought/", {"ended": "won"}, status=400)

    def test_of_two_workers_of_one_machine_one_alone_runs_a_trial(self):
        number = self.launch("weir")["id"]
        self.next("weir")
        asking = {"machine": {}}
        told = self.as_machine("weir", "next/", asking, worker="second-start")
        self.assertIsNone(told["task"])
        self.assertIn("another worker is at work as weir", told["why_not"])
        path = f"trials/{number}/told/"
        self.assertTrue(self.as_machine("weir", path, {}, worker="second-start")["stop"])
        self.assertFalse(self.as_machine("weir", path, {})["stop"])
        # The first was killed, and is silent: the second goes on, and the first is heard no more.
        long_ago = timezone.now() - datetime.timedelta(seconds=20)
        JoinedMachine.objects.update(seen_at=long_ago)
        self.assertEqual(number, self.next("weir", worker="second-start")["trial"])
        self.assertTrue(self.as_machine("weir", path, {})["stop"])
        self.as_machine("weir", f"trials/{number}/brought/", {"ended": "done"})
        self.assertEqual("running", Trial.objects.get(pk=number).state)

    def test_what_cannot_be_put_together_fails_in_words_and_is_brought_once(self):
        local = self.local()
        number = self.launch("weir")["id"]
        self.next("weir")
        self.as_machine("weir", f"trials/{number}/told/", self.told(local))
        with mock.patch("ivrell.core.trial.judging.told_of", side_effect=ZeroDivisionError):
            self.as_machine("weir", f"trials/{number}/brought/", self.brought(local))
        trial = Trial.objects.get(pk=number)
        self.assertEqual("failed", trial.state)
        self.assertIn("its runs so far are kept", trial.trouble.what)
        self.assertIsNone(self.next("weir"))

    def test_stop_pause_and_what_it_could_not_do(self):
        number = self.launch("weir")["id"]
        trial = Trial.objects.get(pk=number)
        self.next("weir")
        self.call("post", f"trials/{number}/pause/")
        told = self.as_machine("weir", f"trials/{number}/told/", {})
        self.assertEqual((False, True), (told["stop"], told["pause"]))
        self.as_machine("weir", f"trials/{number}/brought/", {"ended": "paused"})
        trial.refresh_from_db()
        self.assertEqual("paused", trial.state)
        self.assertIsNone(self.next("weir"))
        self.call("post", f"trials/{number}/continue/")
        self.assertEqual(number, self.next("weir")["trial"])
        trouble = {"what": "No room on this disk.", "hint": "Make some."}
        self.as_machine("weir", f"trials/{number}/brought/",
                        {"ended": "failed", "trouble": trouble})  # fmt: skip
        trial = Trial.objects.get(pk=number)
        self.assertEqual(("failed", "No room on this disk."), (trial.state, trial.trouble.what))

    def test_one_that_is_away_is_told_stopped_with_what_there_is_or_run_elsewhere(self):
        local = self.local()
        first, second = self.launch("weir")["id"], self.launch("weir")["id"]
        self.next("weir")
        told = self.told(local)
        one = {"runs": told["runs"][:1], "events": told["events"][:1], "curves": {}}
        self.as_machine("weir", f"trials/{first}/told/", one)
        self.assertIsNone(self.call("get", f"trials/{first}/")["away_since"])
        self.call("post", f"trials/{local.pk}/elsewhere/", status=400)
        long_ago = timezone.now() - datetime.timedelta(minutes=5)
        JoinedMachine.objects.update(seen_at=long_ago)
        self.assertIsNotNone(self.call("get", f"trials/{first}/")["away_since"])
        self.assertEqual("stopped", self.call("post", f"trials/{first}/stop/")["state"])
        found = self.call("get", f"trials/{first}/findings/")
        self.assertEqual(1, sum(len(lane["runs"]) for lane in found["lanes"]))
        here = self.call("post", f"trials/{second}/elsewhere/")
        self.assertEqual(("", "waiting"), (here["on"], here["state"]))
        trial = Trial.objects.get(pk=second)
        work(trial)
        self.assertEqual("done", trial.state)

    def test_names_labels_and_taking_a_token_back(self):
        self.call("post", "machines/", {"name": "weir"}, status=400)
        self.call("post", "machines/", {"name": "../x"}, status=400)
        self.launch("nowhere", status=400)
        self.launch("yard")
        group = Trial.objects.get(pk=self.launch("all")["id"]).group
        names = Trial.objects.filter(group=group).values_list("job__machine__name", flat=True)
        self.assertEqual({None, "weir", "quay"}, set(names))
        self.call("delete", "machines/?name=weir", status=400)
        for job in Job.objects.under_way():
            job.stop()
        self.call("delete", "machines/?name=weir")
        self.as_machine("weir", "next/", {"machine": {}}, status=403)
        listed = [one["name"] for one in self.call("get", "machines/")["machines"]]
        self.assertEqual(["quay"], listed)

    def test_across_needs_two_that_have_ended(self):
        trial = self.local()
        self.call("get", f"trials/{trial.pk}/across/", status=400)
        other = self.local()
        Trial.objects.filter(pk__in=(trial.pk, other.pk)).update(group=trial.pk)
        change_job(other, machine=JoinedMachine.objects.get(name="quay"))
        found = self.call("get", f"trials/{trial.pk}/across/")
        self.assertEqual(["here", "quay"], [one["name"] for one in found["machines"]])
        self.assertEqual({"loop", "query"}, {lane["lane"] for lane in found["lanes"]})
        self.assertTrue(found["words"])
