"""What does each kind of job: found in the modules named ``handlers`` of the server's parts."""

import time
from collections.abc import Callable
from dataclasses import dataclass

from django.utils.module_loading import autodiscover_modules

from ivrell.core.trial.control import NoControl
from ivrell.server.jobs.models import Job

_ASK_EVERY_S = 0.5


class Paused(Exception):
    """A job came to a place where it can wait, and was asked to."""


class Hold:
    """What was asked of a job while it is done, looked up now and then.

    Args:
        job: being done.
        within: says whether what it is done in the midst of is to end.
    """

    def __init__(self, job: Job, within: Callable[[], bool] | None = None) -> None:
        self.job = job
        self._within = within
        self._asked_at = 0.0

    def stopped(self) -> bool:
        """Whether it is to end now."""
        self._ask()
        return self.job.stop_asked or self.interrupted()

    def interrupted(self) -> bool:
        """Whether it is to end and to be done another time."""
        return self._within is not None and self._within()

    def pause_here(self) -> None:
        """Raise Paused where that was asked for, or where its hours are over."""
        self._ask()
        if self.job.pause_asked or not self.job.is_allowed:
            raise Paused

    def _ask(self) -> None:
        if time.monotonic() - self._asked_at >= _ASK_EVERY_S:
            self._asked_at = time.monotonic()
            self.job.refresh_from_db(fields=["stop_asked", "pause_asked", "hours"])


class HoldControl(NoControl):
    """Lets what the core does hear a hold."""

    def __init__(self, hold: Hold) -> None:
        self._hold = hold

    def stop_all(self) -> bool:
        return self._hold.stopped()


@dataclass(frozen=True)
class Handler:
    """What does a kind of job.

    Attributes:
        words: how such a job is called, such as "The trial".
        work: does it; raises Stopped where it ended because it was asked to, BadInput with what
            a user can do something about.
        kept: what of it stays where it fails, such as "; the runs so far are kept".
        afterwards: what is to follow once its end is known, whose errors are not its own.
    """

    words: str
    work: Callable[[Job, Hold], None]
    kept: str = ""
    afterwards: Callable[[Job], None] | None = None


HANDLERS: dict[str, Handler] = {}
"""By kind of job."""


DUE: list[Callable[[], None]] = []
"""What asks for jobs that are due by now, by schedules of the server's parts."""


def ask_for_those_due() -> None:
    """Ask for the jobs that are due by now."""
    autodiscover_modules("handlers")
    for ask in DUE:
        ask()


def handler_of(kind: str) -> Handler:
    """What does jobs of a kind."""
    autodiscover_modules("handlers")
    return HANDLERS[kind]
