"""The API of a comparison's schedule: trials at a time, at night, every so often."""

import datetime

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from pydantic import AwareDatetime, BaseModel, Field
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.trial.plan import Plan, most_runs
from ivrell.server.asking import asked
from ivrell.server.comparisons.models import Comparison
from ivrell.server.jobs.hours import Hours
from ivrell.server.replies import reply
from ivrell.server.trials.models import Schedule

_MOST_HOURS = 24 * 366


class ScheduleAsked(BaseModel):
    """Trials of ``plan`` every so many hours, the first at ``next_at``; ``hours`` are those of the
    day, on the machine's clock, in which they may run, null for any."""

    plan: Plan
    every_hours: int = Field(ge=1, le=_MOST_HOURS)
    next_at: AwareDatetime
    hours: Hours | None = None


class KeptSchedule(ScheduleAsked):
    """A schedule as it is kept; ``last`` says what came of it last."""

    last: str


class ScheduleShape(BaseModel):
    """A comparison's schedule, null where it has none."""

    schedule: KeptSchedule | None

    @classmethod
    def of(cls, comparison: Comparison) -> "ScheduleShape":
        """That of a comparison."""
        found = Schedule.objects.filter(comparison=comparison).first()
        if found is None:
            return cls(schedule=None)
        fields = ("plan", "every_hours", "next_at", "hours", "last")
        return cls.model_validate({"schedule": {name: getattr(found, name) for name in fields}})


class ScheduleView(APIView):
    """When trials of a comparison are asked for."""

    @extend_schema(responses=ScheduleShape, operation_id="schedule")
    def get(self, request: Request, comparison: int) -> Response:
        """Its schedule, if any."""
        return reply(ScheduleShape.of(get_object_or_404(Comparison, pk=comparison)))

    @extend_schema(request=ScheduleAsked, responses=ScheduleShape, operation_id="put_schedule")
    def put(self, request: Request, comparison: int) -> Response:
        """Give it a schedule in the place of the one that it has."""
        record = get_object_or_404(Comparison.objects.present(), pk=comparison)
        given = asked(ScheduleAsked, request)
        most_runs(record.data, given.plan)
        next_at = given.next_at.astimezone(datetime.UTC)
        Schedule.objects.update_or_create(
            comparison=record,
            defaults={
                "plan": given.plan.model_dump(mode="json", exclude={"own_files", "sandbox"}),
                "every_hours": given.every_hours,
                "next_at": next_at,
                "hours": given.hours and given.hours.model_dump(),
                "last": "",
            },
        )
        return reply(ScheduleShape.of(record))

    @extend_schema(responses={200: ScheduleShape}, operation_id="drop_schedule")
    def delete(self, request: Request, comparison: int) -> Response:
        """Ask for no more trials by itself."""
        record = get_object_or_404(Comparison, pk=comparison)
        Schedule.objects.filter(comparison=record).delete()
        return reply(ScheduleShape.of(record))
