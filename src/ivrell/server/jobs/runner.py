"""Doing a job: begun, done by its handler, ended with what came of it in words."""

import logging
import os
from collections.abc import Callable

from django.db import InterfaceError, OperationalError

from ivrell.core.base.errors import Stopped
from ivrell.core.records.trouble import Trouble
from ivrell.server.jobs.handlers import Hold, Paused, handler_of
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.troubles import told
from ivrell.server.parts import FOR_NOW

log = logging.getLogger("ivrell.jobs")


def do(number: int, within: Callable[[], bool] | None = None) -> None:
    """Do a job, unless it has been done or is paused.

    Args:
        number: of its record.
        within: says whether what it is done in the midst of is to end, where there is such a
            thing; it then waits again.
    """
    job = Job.objects.filter(pk=number).first()
    if job is None or not job.begin():
        return
    handler = handler_of(job.kind)
    hold = Hold(job, within)

    def failed(trouble: Trouble) -> None:
        job.finish(Job.State.FAILED, trouble)

    with told(log, str(job), handler.words, failed, handler.kept):
        try:
            handler.work(job, hold)
            job.finish(Job.State.DONE)
        except Paused:
            job.make_room()
        except Stopped:
            if hold.interrupted() and not job.stop_asked:
                job.put_back()
            else:
                job.finish(Job.State.STOPPED)
        except (OperationalError, InterfaceError):
            if within is not None:
                raise
            # The records are away. Another worker goes on once they are back.
            log.exception("%s cannot be recorded for now", job)
            logging.shutdown()
            os._exit(FOR_NOW)
    if handler.afterwards and job.has_ended_well:
        handler.afterwards(job)


def do_those_wanted_now(within: Callable[[], bool]) -> None:
    """Do the jobs that somebody wants before what is under way goes on; no error of theirs is
    that one's."""
    for job in Job.objects.filter(state=Job.State.WAITING, now=True).order_by("pk"):
        if within():
            return
        # First: one that brings the worker down waits its turn the next time.
        Job.objects.filter(pk=job.pk).update(now=False)
        try:
            do(job.pk, within)
        except (OperationalError, InterfaceError):
            raise
        except Exception:
            log.warning("work goes on after %s", job)
