"""Trials of a comparison as rows of one table, each held against the first."""

from collections.abc import Mapping, Sequence
from statistics import median

from ivrell.core.base.errors import BadInput
from ivrell.core.records.compared import Compared, ComparedLane, ComparedTrial
from ivrell.core.records.history import Overlay
from ivrell.core.records.points import Point, Value
from ivrell.core.report.across import machine_words
from ivrell.core.report.measures import values_at
from ivrell.core.report.overlay import Past, overlay

_ELAPSED = "elapsed"


def compared(
    trials: Sequence[Past], names: Sequence[str], values: Mapping[str, Value | None]
) -> Compared:
    """Trials at a point that all of them ran.

    Args:
        trials: the one that others are held against first.
        names: what each is called.
        values: of knobs and conditions of the point; the first in common unless given.

    Raises BadInput where there are fewer than two, or none has a point in common with all.
    """
    if len(trials) < 2:
        raise BadInput("Name two trials or more.")
    point = _in_common(trials, values)
    first, *others = trials
    laid = [None, *(overlay(first, other, point) for other in others)]
    lanes = {
        approach.id: approach.label
        for past in reversed(trials)
        for approach in past.comparison.approach
    }
    return Compared(
        point=point,
        lanes=lanes,
        trials=[
            _row(past, name, over, point, list(lanes))
            for past, name, over in zip(trials, names, laid, strict=True)
        ],
    )


def _in_common(trials: Sequence[Past], values: Mapping[str, Value | None]) -> Point:
    ran = [[run.point for run in past.taken.runs if run.counted] for past in trials]
    for point in ran[0]:
        if values.items() <= point.items() and all(point in other for other in ran[1:]):
            return point
    raise BadInput(
        "These trials have no such point in common.",
        hint="Each must have run the same values of knobs and conditions.",
    )


def _row(
    past: Past, name: str, laid: Overlay | None, point: Point, lanes: Sequence[str]
) -> ComparedTrial:
    took = values_at(past.comparison, past.at(point).taken.runs, point).get(_ELAPSED)
    medians = {lane: median(own.values()) for lane, own in (took.lanes if took else {}).items()}
    change = {
        one.lane: one
        for measure in (laid.measures if laid else [])
        if measure.key == _ELAPSED
        for one in measure.lanes
    }
    return ComparedTrial(
        trial=past.trial,
        name=name,
        at=past.when,
        machine=machine_words(past.taken.machine),
        lanes=[
            ComparedLane(
                lane=lane,
                median=medians.get(lane),
                plain=change[lane].plain if lane in change else None,
                change=change[lane].ratio if lane in change else None,
            )
            for lane in lanes
        ],
        quickest=min(medians, key=lambda lane: medians[lane]) if medians else None,
        differences=laid.differences if laid else [],
        words=laid.words if laid else "",
    )
