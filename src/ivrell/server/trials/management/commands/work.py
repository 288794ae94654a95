"""``manage work``: the worker that conducts trials on this machine."""

import asyncio
import logging

import procrastinate
from django.core.management.base import BaseCommand
from procrastinate import jobs
from procrastinate.contrib.django import app

from ivrell.server.data.models import Making
from ivrell.server.data.tasks import make_data
from ivrell.server.trials.models import Trial
from ivrell.server.trials.tasks import QUEUE, conduct_trial

log = logging.getLogger("ivrell.worker")


def sweep() -> None:
    """Take up what a worker that died left: its jobs are failed, its trials queued again.

    Only to be called when no other worker of this machine runs.
    """

    async def fail_stalled() -> None:
        async with _worker_app().open_async() as own:
            for job in await own.job_manager.list_jobs_async(status="doing", queue=QUEUE):
                await own.job_manager.finish_job(job, jobs.Status.FAILED, delete_job=False)

    asyncio.run(fail_stalled())
    for trial in Trial.objects.filter(state=Trial.State.RUNNING):
        log.info("%s was cut off and goes on", trial)
        conduct_trial.defer(trial_id=trial.pk)
    for making in Making.objects.filter(state=Making.State.RUNNING):
        make_data.defer(making_id=making.pk)


def _worker_app() -> procrastinate.App:
    """The queue with the connection that a worker needs."""
    return app.with_connector(app.connector.get_worker_connector())


class Command(BaseCommand):
    help = "Conduct trials, one at a time."

    def handle(self, *args, **options) -> None:
        sweep()

        async def work() -> None:
            async with _worker_app().open_async() as own:
                await own.run_worker_async(
                    queues=[QUEUE],
                    concurrency=1,
                    fetch_job_polling_interval=0.5,
                    delete_jobs="successful",
                    shutdown_graceful_timeout=2,
                )

        asyncio.run(work())
