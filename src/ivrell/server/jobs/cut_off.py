"""What a worker finds that another one left."""

import asyncio
import logging
from typing import Any

import procrastinate
from procrastinate import jobs
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob

from ivrell.core.records.trouble import Trouble
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.queue import QUEUE
from ivrell.server.jobs.tasks import do_job

log = logging.getLogger("ivrell.worker")
MOST_ATTEMPTS = 2
"""Workers that one job may bring down."""


def take_up(*, died: bool = True) -> None:
    """Take up what a worker left: its job waits again, whatever it was; one that has brought
    several workers down is given up. ``died`` says whether that worker ended unasked; what was
    stopped in order counts for nothing.

    Only to be called when no other worker of this machine runs.
    """
    for number in asyncio.run(_queued_again(died)):
        _give_up(number)
    todo = ProcrastinateJob.objects.filter(status="todo", queue_name=QUEUE)
    waiting = {job.args.get("job_id") for job in todo if job.task_name == do_job.name}
    for job in Job.objects.under_way().exclude(state=Job.State.PAUSED):
        if job.pk not in waiting:
            log.info("%s was cut off and goes on", job)
            job.queued = None
            job.queue()


async def _queued_again(died: bool) -> list[int]:
    """Let jobs that nobody does any more wait again; the numbers of those that are given up."""
    given_up = []
    async with worker_app().open_async() as own:
        for job in await own.job_manager.list_jobs_async(queue=QUEUE):
            if job.task_name != do_job.name:
                # An earlier version's name: the record is put in anew.
                if job.status in ("todo", "doing"):
                    await own.job_manager.finish_job(job, jobs.Status.FAILED, delete_job=True)
                continue
            if job.status != "doing":
                continue
            if not died or job.attempts + 1 < MOST_ATTEMPTS:
                await own.job_manager.retry_job(job)
                if not died:
                    await own.connector.execute_query_async(_UNCOUNTED, id=job.id)
            else:
                await own.job_manager.finish_job(job, jobs.Status.FAILED, delete_job=False)
                given_up.append(int(str(job.task_kwargs["job_id"])))
    return given_up


_UNCOUNTED = "UPDATE procrastinate_jobs SET attempts = greatest(0, attempts - 1) WHERE id = %(id)s"


def _give_up(number: int) -> None:
    """Tell with its record that a job ended the worker each time."""
    message = Trouble(
        what=f"It ended the worker that did it, {MOST_ATTEMPTS} times.",
        hint="The worker's log has the details.",
    )
    job = Job.objects.filter(pk=number).first()
    if job is None:
        return
    log.error("%s is given up: it ended the worker each time", job)
    job.finish(Job.State.FAILED, message)


def worker_app() -> procrastinate.App:
    """The queue with the connection that a worker needs."""
    connector: Any = app.connector
    return app.with_connector(connector.get_worker_connector())
