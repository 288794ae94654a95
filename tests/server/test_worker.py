"""What a worker finds when it starts after another one died."""

from django.db import connection
from django.test import TransactionTestCase
from procrastinate.contrib.django.models import ProcrastinateJob

from ivrell.core.trial.plan import Plan
from ivrell.server.comparisons.models import Comparison
from ivrell.server.trials.management.commands.work import sweep
from ivrell.server.trials.models import Trial
from tests.support.server import TWO_LANES


class Sweep(TransactionTestCase):
    def setUp(self):
        comparison = Comparison.objects.from_text(TWO_LANES)
        self.cut_off = Trial.objects.launch(comparison, Plan(rounds=1))
        self.waiting = Trial.objects.launch(comparison, Plan(rounds=1))
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
        self.assertEqual(self.jobs(self.cut_off), ["failed", "todo"])
        self.assertEqual(self.jobs(self.waiting), ["todo"])
        with connection.cursor() as cursor:
            cursor.execute("SELECT count(*) FROM procrastinate_jobs WHERE status = 'doing'")
            self.assertEqual(cursor.fetchone(), (0,))

    def test_with_nothing_cut_off_nothing_changes(self):
        sweep()
        before = list(ProcrastinateJob.objects.values_list("pk", "status"))
        Trial.objects.update(state="done")
        sweep()
        self.assertEqual(list(ProcrastinateJob.objects.values_list("pk", "status")), before)
