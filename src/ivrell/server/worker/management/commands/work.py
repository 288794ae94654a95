"""``manage work``: the worker that does the jobs of this machine."""

import asyncio
from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from ivrell.server.jobs.cut_off import take_up, worker_app
from ivrell.server.jobs.queue import QUEUE

_POLL_S = 20.0
"""New jobs are told of at once; this is for a notice that was missed."""
_HEARTBEAT_S = 20.0


class Command(BaseCommand):
    help = "Conduct trials, one at a time."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--after-death", action="store_true", help="the one before was killed")

    def handle(self, *args: Any, **options: Any) -> None:
        take_up(died=options["after_death"])

        async def work() -> None:
            async with worker_app().open_async() as own:
                await own.run_worker_async(
                    queues=[QUEUE],
                    concurrency=1,
                    fetch_job_polling_interval=_POLL_S,
                    delete_jobs="successful",
                    update_heartbeat_interval=_HEARTBEAT_S,
                    shutdown_graceful_timeout=2,
                )

        asyncio.run(work())
