"""Trials over time in the API: history, overlays, remarks, deleting, thinning, schedules."""

import datetime
from unittest import mock

from django.utils import timezone

from ivrell.core.trial.plan import Plan
from ivrell.server.jobs.handlers import ask_for_those_due
from ivrell.server.jobs.hours import Hours
from ivrell.server.jobs.models import Job
from ivrell.server.trials.models import Schedule, Trial
from tests.support.comparisons import UNDISTURBED
from tests.support.server import ServerCase, change_job, work

PLAN = Plan(rounds=2, warm_ups=0, disturbed=UNDISTURBED)


class Past(ServerCase):
    def trial(self, plan=PLAN):
        trial = Trial.objects.launch(self.comparison, plan)
        work(trial)
        self.assertEqual("done", trial.state, trial.job.message)
        return trial

    def test_two_trials_and_what_changed_between_them(self):
        first = self.trial()
        text = self.comparison.text.replace("count(*) AS n", "count(*) AS  n")
        self.comparison.put_text(text)
        self.comparison.save()
        second = self.trial()
        found = self.call("get", self.at("history/"))
        self.assertEqual([first.pk, second.pk], [one["trial"] for one in found["trials"]])
        told = [one["words"] for one in found["trials"][1]["differences"]]
        self.assertEqual(["code of query"], told)
        self.assertEqual("loop", found["anchor"])
        lanes = {lane["lane"]: lane for lane in found["lanes"]}
        self.assertEqual(2, len(lanes["query"]["values"]))
        self.assertGreater(lanes["query"]["values"][0]["of_anchor"], 0)
        memory = self.call("get", self.at("history/?measure=peak_memory&anchor=query"))
        self.assertEqual(("bytes", "query"), (memory["unit"], memory["anchor"]))
        laid = self.call("get", f"trials/{second.pk}/overlay/?under={first.pk}")
        self.assertEqual(["loop"], laid["anchors"])
        other_way = self.call("get", f"trials/{first.pk}/overlay/?under={second.pk}")
        self.assertEqual(laid, other_way)
        self.call("get", f"trials/{second.pk}/overlay/?under={second.pk}", status=400)
        self.call("get", self.at('history/?point={"rows":7}'), status=400)
        self.call("get", self.at("history/?point=["), status=400)

    def test_remarks_deleting_and_bringing_back(self):
        trial = self.trial()
        at = f"trials/{trial.pk}/"
        said = self.call("patch", at, {"name": "Before the flood", "kept": True})["said"]
        self.assertEqual({"name": "Before the flood", "note": "", "kept": True}, said)
        self.call("delete", at, status=204)
        here = f"trials/?comparison={self.comparison.pk}"
        self.assertEqual([], self.call("get", here))
        self.assertEqual([], self.call("get", "queue/")["ended"])
        self.assertIsNone(self.call("get", "comparisons/")[0]["last_trial"])
        self.call("get", self.at("history/"), status=400)
        self.call("post", f"{at}restore/")
        self.assertEqual(1, len(self.call("get", here)))

    def test_one_that_goes_on_is_not_deleted(self):
        trial = Trial.objects.launch(self.comparison, PLAN)
        self.call("delete", f"trials/{trial.pk}/", status=400)

    def test_old_trials_are_thinned_to_summaries_told_beforehand(self):
        old, kept, gone, new = (self.trial() for _ in range(4))
        long_ago = timezone.now() - datetime.timedelta(days=100)
        for trial in (old, kept, gone):
            change_job(trial, finished_at=long_ago)
        self.call("patch", f"trials/{kept.pk}/", {"kept": True})
        self.call("delete", f"trials/{gone.pk}/", status=204)
        asked = {"older_than_days": 30}
        told = self.call("post", self.at("thin/"), asked)
        self.assertEqual(([old.pk], [gone.pk]), (told["trials"], told["gone"]))
        self.assertGreater(told["size_bytes"], 0)
        self.assertTrue(old.results.answers.exists() and gone.folder.exists())
        before = self.call("get", f"trials/{old.pk}/findings/")
        done = self.call("post", self.at("thin/"), {**asked, "only_tell": False})
        self.assertEqual(told, done)
        self.assertFalse(old.results.answers.exists() or gone.folder.exists())
        self.assertTrue(new.results.answers.exists() and kept.results.answers.exists())
        self.assertFalse(Trial.objects.filter(pk=gone.pk).exists())
        # Figures stay; what needs answers is refused in words.
        self.assertEqual(before, self.call("get", f"trials/{old.pk}/findings/"))
        self.assertEqual(3, len(self.call("get", self.at("history/"))["trials"]))
        refused = self.call("post", f"trials/{old.pk}/more/", {"rounds": 1}, status=400)
        self.assertIn("thinned", str(refused))
        self.call("post", f"trials/{old.pk}/judge/", {"lane": "query"}, status=400)
        self.assertEqual([], self.call("post", self.at("thin/"), asked)["trials"])


class Scheduled(ServerCase):
    def asked(self, **fields):
        now = timezone.now()
        return {"plan": {"rounds": 1}, "every_hours": 24, "next_at": now.isoformat(), **fields}

    def test_a_trial_is_asked_for_when_it_is_due_and_not_beside_the_one_before(self):
        at = self.at("schedule/")
        self.assertIsNone(self.call("get", at)["schedule"])
        past = timezone.now() - datetime.timedelta(hours=30)
        self.call("put", at, self.asked(next_at=past.isoformat(), hours={"first": 1, "until": 5}))
        ask_for_those_due()
        trial = Trial.objects.get()
        self.assertEqual({"first": 1, "until": 5}, trial.job.hours)
        schedule = self.call("get", at)["schedule"]
        self.assertEqual(f"Trial {trial.pk} was asked for.", schedule["last"])
        # Two were missed: one is enough, and the next is as it would have been.
        kept = Schedule.objects.get()
        self.assertEqual(datetime.timedelta(hours=48), kept.next_at - past)
        ask_for_those_due()
        self.assertEqual(1, Trial.objects.count())
        Schedule.objects.update(next_at=past)
        ask_for_those_due()
        self.assertEqual(1, Trial.objects.count())
        self.assertIn("had not ended", self.call("get", at)["schedule"]["last"])
        self.assertIsNone(self.call("delete", at)["schedule"])

    def test_what_cannot_be_asked_for_is_said(self):
        self.call("put", self.at("schedule/"), self.asked(every_hours=0), status=400)
        wrong = self.asked(plan={"approaches": ["nobody"]})
        self.call("put", self.at("schedule/"), wrong, status=400)
        self.call("put", self.at("schedule/"), self.asked(plan={"approaches": ["query"]}))
        self.comparison.put_text(self.comparison.text.replace('"query"', '"other"'))
        self.comparison.save()
        ask_for_those_due()
        self.assertIn("No trial could be asked for", Schedule.objects.get().last)

    def test_hours_of_a_day_and_of_a_night(self):
        def at(hour):
            return datetime.datetime(2031, 5, 1, hour, 30).astimezone()

        day, night = Hours(first=9, until=17), Hours(first=22, until=6)
        self.assertEqual([9, 16], [h for h in (8, 9, 16, 17) if day.allow(at(h))])
        self.assertEqual([22, 5], [h for h in (21, 22, 5, 6) if night.allow(at(h))])
        self.assertEqual((1, 22), (night.next_opening(at(7)).day, night.next_opening(at(7)).hour))
        self.assertEqual((2, 9), (day.next_opening(at(18)).day, day.next_opening(at(18)).hour))

    def test_one_whose_hours_are_over_waits_for_the_next_and_goes_on_there(self):
        trial = Trial.objects.launch(self.comparison, PLAN, hours={"first": 1, "until": 5})
        with mock.patch.object(Hours, "allow", return_value=False):
            work(trial)
        self.assertEqual(("waiting", 0), (trial.state, trial.done_runs))
        self.assertGreater(trial.job.not_before, timezone.now())
        allowed = iter([True, True])
        with mock.patch.object(Hours, "allow", side_effect=lambda: next(allowed, False)):
            work(trial)
        self.assertEqual("waiting", trial.state)
        self.assertTrue(0 < trial.done_runs < 4, trial.done_runs)
        Job.objects.update(hours=None)
        work(trial)
        self.assertEqual(("done", 4), (trial.state, trial.done_runs))
