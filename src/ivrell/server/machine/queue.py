"""The API of the queue: what is done now, what waits and when it is due, what ended."""

import datetime
from typing import Self

from django.db import transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from pydantic import AwareDatetime, BaseModel, Field
from rest_framework.decorators import api_view
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.base.errors import BadInput
from ivrell.core.records.trouble import Trouble
from ivrell.server.asking import asked
from ivrell.server.jobs.hours import Hours
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.states import JobState
from ivrell.server.replies import reply
from ivrell.server.trials.models import Trial

_MOST_ENDED = 50
"""Trials that have ended are told back to this many."""


class JobLine(BaseModel):
    """A job in the queue, or one that has ended; of a trial with its runs so far, of those planned,
    and its headline. ``words`` say what it is, ``not_before`` when it may begin, null where that is
    at any time, ``hours`` in which of the day it may be done."""

    id: int
    kind: str
    state: JobState
    words: str
    comparison: int | None
    comparison_name: str
    trial: int | None
    done_runs: int | None
    planned_runs: int | None
    headline: str
    not_before: datetime.datetime | None
    hours: Hours | None
    created_at: datetime.datetime
    started_at: datetime.datetime | None
    finished_at: datetime.datetime | None
    stop_asked: bool
    pause_asked: bool
    message: Trouble | None

    @classmethod
    def of(cls, job: Job) -> Self:
        """A record as a line."""
        subject = job.subject
        comparison = getattr(subject, "comparison", None)
        trial = subject if isinstance(subject, Trial) else None
        return cls(
            id=job.pk,
            kind=job.kind,
            state=job.state,
            words=_WORDS.get(job.kind, job.kind),
            comparison=comparison and comparison.pk,
            comparison_name=comparison.name if comparison else "",
            trial=trial and trial.pk,
            done_runs=trial and trial.done_runs,
            planned_runs=trial and trial.planned_runs,
            headline=trial.conclusion if trial else "",
            not_before=job.not_before,
            hours=job.hours and Hours.model_validate(job.hours),
            created_at=job.created_at,
            started_at=job.started_at,
            finished_at=job.finished_at,
            stop_asked=job.stop_asked,
            pause_asked=job.pause_asked,
            message=subject.trouble if subject else None,
        )


_WORDS = {
    "trial": "trial",
    "making": "making data",
    "try": "a try",
    "tryall": "trying all lanes",
    "challenge": "challenge",
    "judging": "judging anew",
    "noise": "the machine's noise",
    "environment": "an environment",
}


class Queue(BaseModel):
    """What is under way, in the order in which it is done, and the trials that ended last."""

    under_way: list[JobLine]
    ended: list[JobLine]


class Order(BaseModel):
    """Jobs that wait, by their numbers, in the order in which they are to be done."""

    jobs: list[int] = Field(max_length=1000)


class Due(BaseModel):
    """When a job may begin, and in which hours of the day it may be done; null for at any time."""

    not_before: AwareDatetime | None
    hours: Hours | None = None


def _queue() -> Response:
    subjects = (
        "of_trial__comparison",
        "of_making__comparison",
        "of_try__comparison",
        "of_tryall__comparison",
        "of_challenge__comparison",
    )
    jobs = Job.objects.select_related(*subjects)
    ended = jobs.filter(
        kind="trial", of_trial__deleted_at=None, finished_at__isnull=False
    ).order_by("-finished_at")
    return reply(
        Queue(
            under_way=[JobLine.of(job) for job in jobs.under_way()],
            ended=[JobLine.of(job) for job in ended[:_MOST_ENDED] if not job.is_under_way],
        )
    )


class QueueView(APIView):
    """All jobs of this machine."""

    @extend_schema(responses=Queue, operation_id="queue")
    def get(self, request: Request) -> Response:
        """What is done now, what waits, and the trials that ended last."""
        return _queue()

    @extend_schema(request=Order, responses=Queue, operation_id="order_queue")
    def put(self, request: Request) -> Response:
        """Give jobs that wait another order; those that are not named come after them."""
        wanted = asked(Order, request).jobs
        with transaction.atomic():
            waiting = {
                job.pk: job for job in Job.objects.under_way().filter(state=Job.State.WAITING)
            }
            for number in wanted:
                if number not in waiting:
                    raise BadInput(
                        f"Job {number} does not wait.", where="jobs", hint="Look at the queue anew."
                    )
            order = [*dict.fromkeys(wanted), *(pk for pk in waiting if pk not in wanted)]
            for place, number in enumerate(reversed(order), 1):
                job = waiting[number]
                job.place(place, job.not_before, job.hours)
        return _queue()


@extend_schema(request=Due, responses=Queue, operation_id="put_off")
@api_view(["POST"])
def put_off(request: Request, id: int) -> Response:
    """Let a job that waits begin at a time and not before."""
    job = get_object_or_404(Job, pk=id)
    given = asked(Due, request)
    job.place(job.priority, given.not_before, given.hours.model_dump() if given.hours else None)
    return _queue()


@extend_schema(request=None, responses=Queue, operation_id="stop_job")
@api_view(["POST"])
def stop(request: Request, id: int) -> Response:
    """End a job, or take it out of the queue."""
    get_object_or_404(Job, pk=id).stop()
    return _queue()


@extend_schema(request=None, responses=Queue, operation_id="pause_job")
@api_view(["POST"])
def pause(request: Request, id: int) -> Response:
    """Let others pass a trial, from the end of its run under way on."""
    job = get_object_or_404(Job, pk=id)
    if job.kind != "trial":
        raise BadInput("Only trials can be paused.", hint="Stop it, and ask for it again later.")
    job.pause()
    return _queue()


@extend_schema(request=None, responses=Queue, operation_id="continue_job")
@api_view(["POST"])
def go_on(request: Request, id: int) -> Response:
    """Go on with a trial that was paused, when its turn comes."""
    get_object_or_404(Job, pk=id).go_on()
    return _queue()
