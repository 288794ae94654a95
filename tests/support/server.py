"""What server tests share: a signed-in client and a comparison to work on."""

from django.test import TestCase

from ivrell.server.accounts.models import owner
from ivrell.server.comparisons.models import Comparison
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.runner import do
from ivrell.server.trials.models import Trial
from tests.support.comparisons import COUNTING, HEAD, approach

QUERY = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"
TWO_LANES = HEAD + approach("loop", COUNTING) + approach("query", QUERY, "duckdb", parent="loop")


def work(record):
    """Do the job of a record now, as a worker would."""
    do(record.job_id)
    record.refresh_from_db()


def change_job(record, **fields):
    """Change how a record's job stands, as another process would."""
    Job.objects.filter(pk=record.job_id).update(**fields)


def trial_of(comparison):
    """A trial that waits, and does nothing yet."""
    return Trial.objects.create(
        job=Job.objects.create(kind="trial"),
        comparison=comparison,
        text=comparison.text,
        plan={},
        planned_runs=1,
    )


class ServerCase(TestCase):
    """Signed in as the owner, with one comparison of two lanes."""

    def setUp(self):
        self.client.force_login(owner())
        self.comparison = Comparison.objects.from_text(TWO_LANES)

    def call(self, method, path, body=None, status=200):
        """Call the API; checks the status and returns the data."""
        answer = getattr(self.client, method)(
            f"/api/{path}", data=body, content_type="application/json"
        )
        self.assertEqual(answer.status_code, status, answer.content[:500])
        return answer.json() if answer.content else None

    def at(self, rest=""):
        return f"comparisons/{self.comparison.pk}/{rest}"
