"""The trials of a comparison over time: what each lane took, and since when it takes another time.

Lanes are held against an anchor, one of them, within the rounds of each trial, so that a machine
that is slower today makes no lane slower.
"""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from itertools import pairwise
from math import exp

from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import three_figures
from ivrell.core.comparison.alike import as_run
from ivrell.core.records.findings import Summary
from ivrell.core.records.history import (
    Difference,
    History,
    PastLane,
    PastTrial,
    PastValue,
    Remarks,
    Since,
)
from ivrell.core.records.points import Point, point_name
from ivrell.core.report.measures import BY_KEY, Values, counter_measure, values_at
from ivrell.core.report.overlay import Past, differences
from ivrell.core.stats.levels import relative_level
from ivrell.core.stats.turns import MOST_TRIALS, turns

_COUNTER = "counter."


def points_ran(ran: Iterable[Iterable[Point]]) -> list[Point]:
    """The points of trials, those of most trials first, and of those the newest.

    Args:
        ran: of each trial, the oldest first, the points with a counted run.
    """
    counts: Counter[str] = Counter()
    points: dict[str, Point] = {}
    for own in reversed([*map(list, ran)]):
        here = {point_name(point): point for point in own}
        counts.update(here.keys())
        for name, point in here.items():
            points.setdefault(name, point)
    return [points[name] for name, _ in counts.most_common()]


def history(
    trials: Sequence[Past],
    points: Sequence[Point],
    point: Point | None = None,
    measure: str = "elapsed",
    anchor: str | None = None,
    remarks: Mapping[int, Remarks] | None = None,
) -> History:
    """What trials of a comparison say over time.

    Args:
        trials: that have a counted run, the oldest first, with the runs at ``point`` at least; the
            last MOST_TRIALS are taken.
        points: that trials ran at, as ``points_ran`` orders them.
        point: the one looked at; the first unless given.
        measure: its key.
        anchor: the lane, by id, that others are held against; unless given, of the lanes that were
            never changed the one that ran in most trials, the baseline before others.
        remarks: what people said of trials, by trial.

    Raises BadInput where there is no trial, no such point or no such lane.
    """
    if not points:
        raise BadInput("No trial has a counted run yet.", hint="Run one.")
    point = points[0] if point is None else point
    if point not in points:
        raise BadInput("No trial ran at this point.", where="point", hint="Take another one.")
    there = [past for past in trials if past.at(point).taken.runs][-MOST_TRIALS:]
    values = [values_at(past.comparison, past.at(point).taken.runs, point) for past in there]
    labels = {key: one.measure.label for own in values for key, one in own.items()
              if one.measure.better != "neither"}  # fmt: skip
    of_trial = [own.get(measure) for own in values]
    names = {a.id: a.label for past in there for a in past.comparison.approach}
    ran = Counter(lane for own in of_trial if own for lane in own.lanes)
    if anchor is not None and anchor not in ran:
        raise BadInput("No trial ran this lane here.", where="anchor", hint="Take another one.")
    anchor = anchor or _anchor(ran, there)
    told = [differences(before, now) for before, now in pairwise(there)]
    against = sum(count > 1 for lane, count in ran.items() if lane != anchor)
    lanes = [
        _lane(lane, names[lane], anchor, names, there, of_trial, told, max(1, against))
        for lane in names
        if lane in ran
    ]
    chosen = BY_KEY.get(measure) or counter_measure(measure.removeprefix(_COUNTER))
    return History(
        point=point,
        points=list(points),
        measure=measure,
        label=chosen.label,
        unit=chosen.unit,
        measures=labels,
        anchor=anchor,
        trials=list(_trials(there, [[], *told], remarks or {})),
        lanes=lanes,
        words=_words(lanes, len(there), names.get(anchor or "", "")),
    )


def _anchor(ran: Mapping[str, int], trials: Sequence[Past]) -> str | None:
    """The lane that ran most often, of those that are the same in all trials, if any is; of those
    the baseline, then the first."""
    if len(ran) < 2:
        return None
    steady = {lane: count for lane, count in ran.items() if _is_steady(lane, trials)}
    able = steady or ran
    most = max(able.values())
    baseline = trials[-1].comparison.baseline_id
    often = [lane for lane, count in able.items() if count == most]
    return baseline if baseline in often else often[0]


def _is_steady(lane: str, trials: Sequence[Past]) -> bool:
    """Whether a lane has the same code and settings in all trials that it ran in."""
    versions = [
        as_run(approach)
        for past in trials
        if lane in past.lanes
        for approach in past.comparison.approach
        if approach.id == lane
    ]
    return all(version == versions[0] for version in versions)


def _trials(
    trials: Iterable[Past],
    told: Iterable[list[Difference]],
    remarks: Mapping[int, Remarks],
) -> Iterable[PastTrial]:
    for past, differs in zip(trials, told, strict=True):
        counted = Counter(run.approach for run in past.taken.runs if run.counted)
        said = remarks.get(past.trial, Remarks())
        yield PastTrial(
            trial=past.trial,
            at=past.when,
            rounds=max(counted.values(), default=0),
            host=past.taken.machine.host,
            said=said,
            differences=differs,
        )


def _lane(
    lane: str,
    label: str,
    anchor: str | None,
    names: Mapping[str, str],
    trials: Sequence[Past],
    values: Sequence[Values | None],
    told: Sequence[list[Difference]],
    histories: int,
) -> PastLane:
    found: list[PastValue] = []
    logs: list[float] = []
    places: list[int] = []
    for place, (past, own) in enumerate(zip(trials, values, strict=True)):
        if own is None or lane not in own.lanes:
            continue
        summary: Summary = own.summaries[lane]
        level = None
        if anchor is not None and lane != anchor and anchor in own.lanes:
            both = own.lanes[lane], own.lanes[anchor]
            if min(*both[0].values(), *both[1].values()) > 0:
                level = relative_level(both[0], [both[1]])
        found.append(
            PastValue(
                trial=past.trial, median=summary.median, low=summary.low, high=summary.high,
                of_anchor=exp(level.middle) if level else None,
            )
        )  # fmt: skip
        if level:
            logs.append(level.middle)
            places.append(place)
    matters = trials[-1].comparison.matters
    since = [
        _since(turn.factor, turn.low, turn.high, label, names[anchor or ""], places, turn.place,
               trials, told)
        for turn in turns(logs, histories=histories, matters=matters)
    ]  # fmt: skip
    return PastLane(lane=lane, name=label, values=found, turns=since)


def _since(
    factor: float,
    low: float,
    high: float,
    label: str,
    anchor: str,
    places: Sequence[int],
    place: int,
    trials: Sequence[Past],
    told: Sequence[list[Difference]],
) -> Since:
    here, before = places[place], places[place - 1]
    between = [one.words for differs in told[before:here] for one in differs]
    more = factor > 1
    value = factor if more else 1 / factor
    span = sorted((low, high) if more else (1 / high, 1 / low))
    why = f"; between it and trial {trials[before].trial}: {', '.join(between)}" if between else (
        "; nothing that Ivrell knows of changed before it")  # fmt: skip
    words = (
        f"{label} takes {three_figures(value)} times ({three_figures(span[0])} to "
        f"{three_figures(span[1])}) {'more' if more else 'less'} than before since trial "
        f"{trials[here].trial}, {trials[here].when:%d %b %Y}, beside {anchor}{why}."
    )
    return Since(
        trial=trials[here].trial, before=trials[before].trial, factor=factor, low=low, high=high,
        words=words,
    )  # fmt: skip


def _words(lanes: Sequence[PastLane], trials: int, anchor: str) -> str:
    told = [turn for lane in lanes for turn in lane.turns[-1:]]
    others = sum(len(lane.values) > 1 for lane in lanes) - 1
    if told:
        words = " ".join(turn.words for turn in told)
        alike = len(told) > 1 and len(told) == others and (
            len({turn.trial for turn in told}) == 1
            and len({turn.factor > 1 for turn in told}) == 1
        )  # fmt: skip
        if alike:
            words += f" All others changed at once: more likely it was {anchor} that did."
        return words
    if trials < 2:
        return "One trial so far; with the next one there is something to lay it over."
    if trials < 5:
        return "From five trials on it is told since when a lane takes another time."
    return f"No lane is told to take another time, beside {anchor}, than it did." if anchor else ""
