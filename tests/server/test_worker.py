"""What a worker finds when it starts after another one died."""

import errno
from unittest import mock

from django.db import connection
from django.test import TransactionTestCase
from procrastinate.contrib.django.models import ProcrastinateJob

from ivrell.core.trial.plan import Plan
from ivrell.server.comparisons.models import Comparison
from ivrell.server.data.models import Making
from ivrell.server.data.shapes import MakeRequest
from ivrell.server.data.tasks import make_data
from ivrell.server.machine.tasks import measure_noise
from ivrell.server.trials import tasks
from ivrell.server.trials.models import Trial, Try
from ivrell.server.worker.management.commands.work import sweep
from tests.support.server import TWO_LANES


class Sweep(TransactionTestCase):
    def setUp(self):
        # The queue's tables are none of Django's, which empties its own alone.
        with connection.cursor() as cursor:
            cursor.execute("DELETE FROM procrastinate_jobs")
        self.comparison = Comparison.objects.from_text(TWO_LANES)
        self.cut_off = Trial.objects.launch(self.comparison, Plan(rounds=1))
        self.waiting = Trial.objects.launch(self.comparison, Plan(rounds=1))
        # As a worker that is killed leaves things: its job is being done, by nobody.
        with connection.cursor() as cursor:
            cursor.execute(
                "UPDATE procrastinate_jobs SET status = 'doing' WHERE args->>'trial_id' = %s",
                [str(self.cut_off.pk)],
            )
        Trial.objects.filter(pk=self.cut_off.pk).update(state="running")

    def jobs(self, trial):
        found = ProcrastinateJob.objects.filter(args={"trial_id": trial.pk}).order_by("pk")
        return [job.status for job in found]

    def test_a_trial_that_was_cut_off_is_queued_again_and_its_lock_is_free(self):
        sweep()
        self.assertEqual(self.jobs(self.cut_off), ["todo"])
        self.assertEqual(self.jobs(self.waiting), ["todo"])
        with connection.cursor() as cursor:
            cursor.execute("SELECT count(*) FROM procrastinate_jobs WHERE status = 'doing'")
            self.assertEqual(cursor.fetchone(), (0,))

    def as_left(self, task, **arguments):
        """A job that a worker which was killed was doing."""
        task.defer(**arguments)
        with connection.cursor() as cursor:
            # One at a time holds the machine's lock.
            cursor.execute("UPDATE procrastinate_jobs SET lock = NULL")
            cursor.execute("UPDATE procrastinate_jobs SET status = 'doing' WHERE task_name = %s",
                           [task.name])  # fmt: skip

    def test_tries_judging_and_noise_are_taken_up_too(self):
        attempt = Try.objects.create(comparison=self.comparison, lane="loop", text="", rows=10)
        self.as_left(tasks.try_lane, try_id=attempt.pk)
        self.as_left(tasks.judge_trial, trial_id=self.waiting.pk, reference="loop")
        self.as_left(measure_noise, folder="/nowhere")
        lost = Try.objects.create(comparison=self.comparison, lane="loop", text="", rows=10)
        sweep()
        for task in ("try_lane", "judge_trial", "measure_noise"):
            jobs = ProcrastinateJob.objects.filter(task_name=task)
            self.assertEqual({job.status for job in jobs}, {"todo"}, task)
        tries = ProcrastinateJob.objects.filter(task_name="try_lane").order_by("pk")
        self.assertEqual([job.args["try_id"] for job in tries], [attempt.pk, lost.pk])

    def test_what_brings_the_worker_down_again_and_again_is_given_up(self):
        with connection.cursor() as cursor:
            cursor.execute("UPDATE procrastinate_jobs SET attempts = 1 WHERE status = 'doing'")
        sweep()
        self.cut_off.refresh_from_db()
        self.assertEqual(self.cut_off.state, "failed")
        self.assertIn("2 times", self.cut_off.message["what"])
        self.assertEqual(self.jobs(self.cut_off), ["failed"])

    def test_a_stop_in_order_counts_for_nothing(self):
        for _ in range(4):
            sweep(died=False)
            self.assertEqual(self.jobs(self.cut_off), ["todo"])
            with connection.cursor() as cursor:
                cursor.execute(
                    "UPDATE procrastinate_jobs SET status = 'doing' WHERE args->>'trial_id' = %s",
                    [str(self.cut_off.pk)],
                )
        sweep(died=True)
        self.assertEqual(self.jobs(self.cut_off), ["todo"])

    def test_a_try_that_brings_the_worker_down_twice_says_so(self):
        attempt = Try.objects.create(comparison=self.comparison, lane="loop", text="", rows=10)
        self.as_left(tasks.try_lane, try_id=attempt.pk)
        sweep()
        with connection.cursor() as cursor:
            cursor.execute("UPDATE procrastinate_jobs SET status = 'doing' "
                           "WHERE task_name = 'try_lane'")  # fmt: skip
        sweep()
        attempt.refresh_from_db()
        self.assertEqual(attempt.state, "failed")
        self.assertIn("2 times", attempt.message["what"])

    def test_what_the_system_refuses_is_told_by_making_data_too(self):
        wanted = MakeRequest(forms=["csv"])
        making = Making.objects.launch(self.comparison, wanted)
        refused = OSError(errno.EROFS, "Read-only file system", "/somewhere/made")
        with mock.patch("ivrell.server.data.tasks._make", side_effect=refused):
            make_data.func(making.pk)
        making.refresh_from_db()
        self.assertEqual(making.state, "failed")
        self.assertIn("The system refused: Read-only file system", making.message["what"])
        self.assertEqual(making.message["where"], "/somewhere/made")

    def test_a_full_disk_is_told_with_what_makes_room(self):
        trial = self.waiting
        full = OSError(errno.ENOSPC, "No space left on device", "/somewhere/runs.jsonl")
        with mock.patch("ivrell.core.trial.conduct.Trial.conduct", side_effect=full):
            tasks.conduct_trial(trial_id=trial.pk)
        trial.refresh_from_db()
        self.assertEqual(trial.state, "failed")
        self.assertIn("disk is full", trial.message["what"])
        self.assertIn("runs.jsonl", trial.message["where"])
        self.assertIn("machine page", trial.message["hint"])

    def test_with_nothing_cut_off_nothing_changes(self):
        sweep()
        before = list(ProcrastinateJob.objects.values_list("pk", "status"))
        Trial.objects.update(state="done")
        sweep()
        self.assertEqual(list(ProcrastinateJob.objects.values_list("pk", "status")), before)
