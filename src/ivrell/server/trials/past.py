"""Trials of a comparison over time: their history, two of them laid over each other, thinning."""

import datetime
from collections.abc import Iterable, Sequence

from django.db import transaction
from django.utils import timezone
from pydantic import BaseModel, Field

from ivrell.core.base.errors import BadInput
from ivrell.core.records.compared import Compared
from ivrell.core.records.data import MadeTable
from ivrell.core.records.history import Across, History, Overlay
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.session import RunSet
from ivrell.core.report.across import across
from ivrell.core.report.compared import compared
from ivrell.core.report.history import history, points_ran
from ivrell.core.report.overlay import Past, overlay
from ivrell.core.stats.turns import MOST_TRIALS
from ivrell.server.comparisons.models import Comparison
from ivrell.server.jobs.models import Job
from ivrell.server.trials.models import Run, Trial

_COUNTED = {"record__state": "done", "record__warm_up": False}


class Thinning(BaseModel):
    """Trials of a comparison that are older than so many days, which are not kept: of them
    summaries stay. With ``only_tell`` nothing is done."""

    older_than_days: float = Field(ge=0, le=36_500)
    only_tell: bool = True


class Thinned(BaseModel):
    """The trials that are or would be thinned, and the bytes that this gives back; ``gone`` of them
    were deleted before, and leave nothing."""

    trials: list[int]
    gone: list[int]
    size_bytes: int


def past(trial: Trial, point: Point) -> Past:
    """A trial with its runs at a point."""
    return Past(
        trial=trial.pk,
        when=trial.job.started_at or trial.job.created_at,
        comparison=trial.read,
        plan=trial.plan_of,
        taken=RunSet(trial.runs_at(point), trial.sessions_of),
        made=[MadeTable.model_validate(table) for table in trial.data],
    )


def _readable(trials: Iterable[Trial]) -> list[Trial]:
    """Those whose file this version can read."""
    found = []
    for trial in trials:
        try:
            _ = trial.read
        except BadInput:
            continue
        found.append(trial)
    return found


def _points_told(trials: Iterable[Trial]) -> dict[int, list[Point]]:
    """Points of which trials have a counted run, by their numbers."""
    told = (
        Run.objects.filter(trial__in=[trial.pk for trial in trials], **_COUNTED)
        .order_by()
        .values_list("trial", "record__point")
        .distinct()
    )
    by_trial: dict[int, list[Point]] = {}
    for number, own in told:
        by_trial.setdefault(number, []).append(own)
    return by_trial


def history_of(
    comparison: Comparison, point: Point | None, measure: str, anchor: str | None
) -> History:
    """What the trials of a comparison that have ended say over time. Raises BadInput."""
    newest = Trial.objects.present().filter(comparison=comparison, job__state__in=_ENDED)
    newest = newest.select_related("comparison", "job").order_by("-pk")[:MOST_TRIALS]
    trials = _readable(reversed(newest))
    by_trial = _points_told(trials)
    points = points_ran(by_trial.get(trial.pk, []) for trial in trials)
    if not points:
        raise BadInput("No trial has a counted run yet.", hint="Run one.")
    point = points[0] if point is None else point
    there = [trial for trial in trials if point in by_trial.get(trial.pk, [])]
    remarks = {trial.pk: trial.said for trial in there}
    return history([past(trial, point) for trial in there], points, point, measure, anchor, remarks)


_ENDED = (Job.State.DONE, Job.State.STOPPED)


def overlay_of(trial: Trial, other: Trial, point: Point) -> Overlay:
    """A trial laid over another one of its comparison, whichever is the earlier. Raises
    BadInput."""
    if trial.comparison_id != other.comparison_id or trial.pk == other.pk:
        raise BadInput(
            "Only another trial of the same comparison can be laid under this one.", where="under"
        )
    if point_name(point) not in {point_name(own) for own in other.points}:
        raise BadInput("The other trial did not run at this point.", where="point")
    earlier, later = sorted((trial, other), key=lambda one: one.pk)
    return overlay(past(earlier, point), past(later, point), point)


def across_of(trial: Trial, point: Point) -> Across:
    """The trials of a group, one a machine, at a point. Raises BadInput for one alone."""
    group = Trial.objects.present().filter(group=trial.group) if trial.group else ()
    there = [one for one in group if one.job.state in _ENDED and one.runs_at(point)]
    if len(there) < 2:
        raise BadInput(
            "Only one of these machines has told anything here yet.", hint="Wait for the others."
        )
    there.sort(key=lambda one: one.pk)
    names = [one.job.machine.name if one.job.machine else HERE for one in there]
    return across(
        [past(one, point) for one in there], names,
        [one.agreement_at(point) for one in there], point,
    )  # fmt: skip


def compared_of(trials: Sequence[Trial], point: Point | None) -> Compared:
    """Trials as rows of one table, at a point that all of them ran: the first in common unless
    named. Raises BadInput."""
    if len({trial.pk for trial in trials}) < len(trials):
        raise BadInput("A trial is named twice.", where="trials")
    for trial in trials:
        _ = trial.read
    ran = [{point_name(own): own for own in trial.points if trial.runs_at(own)} for trial in trials]
    wanted = ran[0] if point is None else {point_name(point): point}
    common = [own for name, own in wanted.items() if all(name in other for other in ran)]
    if not common:
        raise BadInput(
            "These trials have no such point in common.", where="point",
            hint="Each must have run the same values of knobs and conditions.",
        )  # fmt: skip
    names = [f"trial {trial.pk}{f', {trial.said.name}' if trial.said.name else ''}"
             for trial in trials]  # fmt: skip
    return compared([past(trial, common[0]) for trial in trials], names, common[0])


HERE = "here"


def thin(comparison: Comparison, asked: Thinning) -> Thinned:
    """Thin old trials of a comparison, or tell which would be."""
    before = timezone.now() - datetime.timedelta(days=asked.older_than_days)
    trials = Trial.objects.select_related("job").filter(
        comparison=comparison, job__state__in=_ENDED, job__finished_at__lte=before
    )
    gone = [trial for trial in trials if trial.deleted_at]
    old = [
        trial for trial in trials
        if not trial.deleted_at and not trial.kept
        and trial.results.is_one and trial.results.thinned_bytes
    ]  # fmt: skip
    size = sum(sum(one.results.contents().values()) for one in gone)
    size += sum(one.results.thinned_bytes for one in old)
    found = Thinned(trials=[one.pk for one in old], gone=[one.pk for one in gone], size_bytes=size)
    if not asked.only_tell:
        _thin(old)
        for trial in gone:
            trial.remove()
    return found


def _thin(trials: Sequence[Trial]) -> None:
    for trial in trials:
        with transaction.atomic():
            job = Job.objects.select_for_update().get(pk=trial.job_id)
            if job.is_under_way:
                continue
            trial.results.thin()
            trial.runs.update(curve=[])
