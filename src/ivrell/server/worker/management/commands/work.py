"""``manage work``: the worker that conducts trials on this machine."""

import asyncio
import logging
from collections.abc import Callable
from typing import Any

import procrastinate
from django.core.management.base import BaseCommand, CommandParser
from django.db.models import QuerySet
from procrastinate import jobs
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob

from ivrell.core.records.trouble import Trouble
from ivrell.server.data.models import Making
from ivrell.server.data.tasks import make_data
from ivrell.server.queue import QUEUE
from ivrell.server.trials.models import Trial, Try
from ivrell.server.trials.tasks import conduct_trial, try_lane

log = logging.getLogger("ivrell.worker")


MOST_ATTEMPTS = 2
"""Workers that one job may bring down."""

_POLL_S = 20.0
"""New jobs are told of at once; this is for a notice that was missed."""
_HEARTBEAT_S = 20.0


def sweep(*, died: bool = True) -> None:
    """Take up what a worker left: its job waits again, whatever it was; one that has brought
    several workers down is given up. ``died`` says whether that worker ended unasked; what was
    stopped in order counts for nothing.

    Only to be called when no other worker of this machine runs.
    """
    for task, arguments in asyncio.run(_queued_again(died)):
        _give_up(task, arguments)
    waiting = _waiting()
    makings = Making.objects.filter(state__in=[Making.State.WAITING, Making.State.RUNNING])
    tries = Try.objects.filter(state=Try.State.WAITING)
    under_way: tuple[tuple[QuerySet[Any], Callable[[int], object], str], ...] = (
        (Trial.objects.under_way(), lambda pk: conduct_trial.defer(trial_id=pk), "trial_id"),
        (makings, lambda pk: make_data.defer(making_id=pk), "making_id"),
        (tries, lambda pk: try_lane.defer(try_id=pk), "try_id"),
    )
    for records, go_on, name in under_way:
        for record in records.order_by("pk"):
            if (name, record.pk) not in waiting:
                log.info("%s was cut off and goes on", record)
                go_on(record.pk)


async def _queued_again(died: bool) -> list[tuple[str, dict[str, Any]]]:
    """Let jobs that nobody does any more wait again; those that are given up, with arguments."""
    given_up = []
    async with _worker_app().open_async() as own:
        for job in await own.job_manager.list_jobs_async(status="doing", queue=QUEUE):
            if not died or job.attempts + 1 < MOST_ATTEMPTS:
                await own.job_manager.retry_job(job)
                if not died:
                    await own.connector.execute_query_async(_UNCOUNTED, id=job.id)
            else:
                await own.job_manager.finish_job(job, jobs.Status.FAILED, delete_job=False)
                given_up.append((job.task_name, job.task_kwargs))
    return given_up


_UNCOUNTED = "UPDATE procrastinate_jobs SET attempts = greatest(0, attempts - 1) WHERE id = %(id)s"


def _waiting() -> set[tuple[str, int]]:
    """Arguments of the jobs that wait in the queue."""
    todo = ProcrastinateJob.objects.filter(status="todo", queue_name=QUEUE)
    return {(name, value) for job in todo for name, value in job.args.items()
            if isinstance(value, int)}  # fmt: skip


def _give_up(task: str, arguments: dict[str, Any]) -> None:
    """Tell with the record that its job ended the worker each time."""
    message = Trouble(
        what=f"It ended the worker that did it, {MOST_ATTEMPTS} times.",
        hint="The worker's log has the details.",
    )
    log.error("%s %s is given up: it ended the worker each time", task, arguments)
    if "trial_id" in arguments and task == conduct_trial.name:
        Trial.objects.get(pk=arguments["trial_id"]).finish(Trial.State.FAILED, message)
    elif "making_id" in arguments:
        Making.objects.get(pk=arguments["making_id"]).finish(Making.State.FAILED, message)
    elif "try_id" in arguments:
        attempt = Try.objects.get(pk=arguments["try_id"])
        attempt.fail(message)
        attempt.save()


def _worker_app() -> procrastinate.App:
    """The queue with the connection that a worker needs."""
    connector: Any = app.connector
    return app.with_connector(connector.get_worker_connector())


class Command(BaseCommand):
    help = "Conduct trials, one at a time."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--after-death", action="store_true", help="the one before was killed")

    def handle(self, *args: Any, **options: Any) -> None:
        sweep(died=options["after_death"])

        async def work() -> None:
            async with _worker_app().open_async() as own:
                await own.run_worker_async(
                    queues=[QUEUE],
                    concurrency=1,
                    fetch_job_polling_interval=_POLL_S,
                    delete_jobs="successful",
                    update_heartbeat_interval=_HEARTBEAT_S,
                    shutdown_graceful_timeout=2,
                )

        asyncio.run(work())
