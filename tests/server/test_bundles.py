"""Bundles by the API: sent, looked at like any trial, and run only once their code was read."""

import io
import zipfile
from unittest import mock

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile

from ivrell.core.base.errors import BadInput
from ivrell.core.trial.plan import Plan
from ivrell.server.comparisons.models import Comparison
from ivrell.server.jobs.models import Job
from ivrell.server.trials.models import Trial, Try
from ivrell.server.trials.reindex import reindex
from tests.support.comparisons import UNDISTURBED
from tests.support.server import ServerCase, work


class Bundles(ServerCase):
    def setUp(self):
        super().setUp()
        self.trial = Trial.objects.launch(
            self.comparison, Plan(rounds=2, warm_ups=0, disturbed=UNDISTURBED)
        )
        work(self.trial)
        self.bundle = self.client.get(f"/api/trials/{self.trial.pk}/bundle/").content

    def send(self, content, status=201):
        file = SimpleUploadedFile("gauges.zip", content, content_type="application/zip")
        answer = self.client.post("/api/bundles/", {"file": file})
        self.assertEqual(answer.status_code, status, answer.content[:500])
        return answer.json()

    def test_it_is_looked_at_like_any_trial_and_marked(self):
        came = self.send(self.bundle)
        self.assertNotEqual(self.comparison.pk, came["comparison"])
        self.assertEqual("done", came["state"])
        self.assertIn("cores", came["origin"]["machine"])
        self.assertIsNotNone(came["finished_at"])
        there = self.call("get", f"trials/{self.trial.pk}/findings/")
        here = self.call("get", f"trials/{came['id']}/findings/")
        self.assertEqual(there["conclusion"], here["conclusion"])
        self.assertEqual(there["lanes"], here["lanes"])
        self.assertIsNone(self.call("get", f"trials/{self.trial.pk}/")["origin"])
        self.assertEqual(200, self.client.get(f"/api/trials/{came['id']}/report/").status_code)
        reindex()
        self.assertEqual(came["origin"], Trial.objects.get(pk=came["id"]).origin)

    def test_nothing_of_it_runs_before_its_code_was_read(self):
        came = self.send(self.bundle)
        own = f"comparisons/{came['comparison']}/"
        self.assertTrue(self.call("get", own)["unread"])
        jobs = Job.objects.count()
        for path in (f"{own}launch/", f"{own}try-all/", f"{own}lanes/loop/try/",
                     f"trials/{came['id']}/more/", f"trials/{came['id']}/again/",
                     f"trials/{came['id']}/changed/"):  # fmt: skip
            body = {"rounds": 1} if "more" in path or "launch" in path else {"rows": 10}
            told = self.call("post", path, body, status=400)
            self.assertIn("has not been read yet", told["what"], path)
        self.assertEqual(jobs, Job.objects.count())
        # What waits for other reasons is refused as it begins.
        comparison = Comparison.objects.get(pk=came["comparison"])
        attempt = Try.objects.create(
            job=Job.objects.ask("try"), comparison=comparison, lane="loop", text=comparison.text,
            rows=10,
        )  # fmt: skip
        work(attempt)
        self.assertIn("has not been read yet", attempt.trouble.what)
        self.assertFalse(self.call("post", f"{own}code-is-read/")["unread"])
        self.call("post", f"{own}launch/", {"rounds": 1}, status=201)

    def test_it_is_run_again_and_that_is_a_second_opinion(self):
        claim = {"text": "Pinned since", "lower": "loop", "higher": "query"}
        self.call(
            "put", f"comparisons/{self.comparison.pk}/remarks/", {"claims": [claim], "notes": []}
        )
        bundle = self.client.get(f"/api/trials/{self.trial.pk}/bundle/").content
        came = self.send(bundle)
        own = f"comparisons/{came['comparison']}/"
        self.assertEqual(["Pinned since"], [one["text"] for one in self.call("get", own)["claims"]])
        self.call("post", f"{own}code-is-read/")
        launched = self.call("post", f"{own}launch/", {"rounds": 2, "warm_ups": 0}, status=201)
        work(Trial.objects.get(pk=launched["id"]))
        opinion = f"trials/{launched['id']}/second-opinion/"
        found = self.call("get", f"{opinion}?of={came['id']}")
        # Two rounds tell nothing that could turn.
        self.assertIn("Order of lanes held", found["words"][0])
        self.call("get", f"{opinion}?of={launched['id']}", status=400)
        # It stands beside the trial that it came from, in one table.
        rows = self.call("get", f"compared/?trials={self.trial.pk},{came['id']},{launched['id']}")
        self.assertEqual([self.trial.pk, came["id"], launched["id"]],
                         [row["trial"] for row in rows["trials"]])  # fmt: skip
        self.assertIsNone(rows["trials"][0]["lanes"][0]["change"])
        self.assertTrue(rows["trials"][2]["lanes"][0]["change"])
        for wrong in ("", "x", f"{self.trial.pk}", f"{came['id']},{came['id']}"):
            self.call("get", f"compared/?trials={wrong}", status=400)

    def test_where_records_were_lost_it_comes_back_as_unread(self):
        came = self.send(self.bundle)
        self.call("post", f"comparisons/{came['comparison']}/code-is-read/")
        Comparison.objects.filter(pk=came["comparison"]).delete()
        reindex()
        back = Trial.objects.get(pk=came["id"])
        self.assertTrue(back.comparison.unread)
        self.assertNotEqual(self.comparison.pk, back.comparison_id)
        self.call("post", f"trials/{back.pk}/again/", status=400)

    def test_what_cannot_be_kept_leaves_no_folder(self):
        folders = set((settings.IVRELL_DATA / "trials").iterdir())
        lost = mock.patch("ivrell.server.trials.bundles.take_up", side_effect=BadInput("lost"))
        with lost:
            self.send(self.bundle, 400)
        self.assertEqual(folders, set((settings.IVRELL_DATA / "trials").iterdir()))

    def test_what_is_none_leaves_nothing(self):
        comparisons, trials = Comparison.objects.count(), Trial.objects.count()
        self.assertIn("no archive", self.send(b"x", 400)["what"])
        changed = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(self.bundle)) as old, zipfile.ZipFile(changed, "w") as new:
            for name in old.namelist():
                content = old.read(name)
                new.writestr(name, content + b"\n" if name == "runs.jsonl" else content)
        self.assertIn("more than it says", self.send(changed.getvalue(), 400)["what"])
        answer = self.client.post("/api/bundles/", {})
        self.assertEqual(400, answer.status_code)
        self.assertEqual((comparisons, trials), (Comparison.objects.count(), Trial.objects.count()))
        going = Trial.objects.launch(self.comparison, Plan(rounds=1))
        self.assertEqual(400, self.client.get(f"/api/trials/{going.pk}/bundle/").status_code)
