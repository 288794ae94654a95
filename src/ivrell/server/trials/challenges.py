"""The API of challenges: trying to break the conclusion of a comparison."""

import datetime
from typing import Annotated

from django.db import transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from pydantic import BaseModel, Field
from rest_framework import status
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.base.errors import BadInput
from ivrell.core.records.challenge import ChallengeFindings
from ivrell.core.records.points import Value
from ivrell.core.records.trouble import Trouble
from ivrell.core.trial.plan import Plan, most_runs
from ivrell.server.asking import asked
from ivrell.server.comparisons.models import Comparison
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.states import JobState
from ivrell.server.replies import reply
from ivrell.server.trials.models import Challenge


class ChallengeAsked(BaseModel):
    """For how many minutes, and at which values of knobs (the first of each unless given)."""

    minutes: Annotated[float, Field(ge=0.5, le=24 * 60)] = 10.0
    knobs: dict[str, Value] = {}


class ChallengeShape(BaseModel):
    """The newest challenge of a comparison; ``of_now`` where the comparison has not changed since,
    ``runs`` how many have been done."""

    id: int
    state: JobState
    of_now: bool
    runs: int
    minutes: float
    message: Trouble | None
    found: ChallengeFindings | None
    created_at: datetime.datetime

    @classmethod
    def of(cls, record: Challenge) -> "ChallengeShape":
        """A record in full."""
        return cls(
            id=record.pk, state=record.state, of_now=record.text == record.comparison.text,
            runs=(record.job.progress or {}).get("runs", 0), minutes=record.minutes,
            message=record.trouble, created_at=record.job.created_at,
            found=record.found and ChallengeFindings.model_validate(record.found),
        )  # fmt: skip


class Challenged(BaseModel):
    """The newest challenge, if there was ever one."""

    newest: ChallengeShape | None


class ChallengeView(APIView):
    """Trying to break a conclusion."""

    @extend_schema(responses=Challenged, operation_id="challenged")
    def get(self, request: Request, comparison: int) -> Response:
        """What came of it the last time."""
        return _newest(comparison)

    @extend_schema(request=ChallengeAsked, responses={201: Challenged}, operation_id="challenge")
    def post(self, request: Request, comparison: int) -> Response:
        """Change one thing after another and look whether the winner stays, when its turn comes."""
        given = asked(ChallengeAsked, request)
        record = get_object_or_404(Comparison.objects.present(), pk=comparison)
        record.refuse_unread()
        most_runs(record.data, Plan())
        for knob in given.knobs.keys() - record.data.knobs.keys():
            raise BadInput(f'There is no knob "{knob}".', where=f"knobs.{knob}",
                           hint=f"Its knobs: {', '.join(record.data.knobs)}.")  # fmt: skip
        with transaction.atomic():
            Challenge.objects.create(
                job=Job.objects.ask("challenge"), comparison=record, text=record.text,
                minutes=given.minutes, knobs=given.knobs,
            )  # fmt: skip
        return _newest(comparison, status.HTTP_201_CREATED)

    @extend_schema(responses={200: Challenged}, operation_id="stop_challenge")
    def delete(self, request: Request, comparison: int) -> Response:
        """End it; what it found so far stays."""
        found = Challenge.objects.filter(comparison=comparison).first()
        if found:
            found.job.stop()
        return _newest(comparison)


def _newest(comparison: int, code: int = status.HTTP_200_OK) -> Response:
    newest = Challenge.objects.filter(comparison=comparison).select_related("comparison", "job")
    found = newest.first()
    return reply(Challenged(newest=found and ChallengeShape.of(found)), code)
