"""How long a plan will take, by what runs of its lanes took before.

A run's time here is that between the ends of two runs, so that process, imports, tables put back
and answer are in it. At points that ran before it is the mean of what runs took there; at other
sizes it is told by how the lane grows, where it ran at several; by one other size alone it lies
somewhere between the same and in proportion.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from math import exp, log, sqrt
from statistics import fmean, stdev

from ivrell.core.comparison.model import Comparison
from ivrell.core.records.estimate import Ended, Estimate, LaneEstimate, Rest, Took
from ivrell.core.records.plan import Plan
from ivrell.core.records.points import Point
from ivrell.core.records.run import RunRecord
from ivrell.core.report.measures import input_rows
from ivrell.core.stats.growth import enough, predictor
from ivrell.core.trial.more import as_run
from ivrell.core.trial.plan import ordered_runs

BEGINNING_S = 2.5
"""Looking at the machine, starting the runner and what looks at answers, settling."""

_USUAL = 0.25
"""Logarithm by which a run is off where nothing tells (90 %)."""

_DAYS = 0.2
"""The same of what was measured: a machine is quicker on some days than on others, for all lanes
at once (eight plans of the demos took 0.82 to 1.15 times what was told)."""

_WITHIN_90 = 1.64


def took(runs: Iterable[Ended]) -> list[Took]:
    """What each run of a trial took; they follow each other."""
    found = []
    before = 0.0
    for run in sorted(runs, key=lambda run: run.number):
        if run.spent_s is None:
            continue
        if run.state == "done" and run.spent_s > before:
            seconds = run.spent_s - before
            found.append(Took(lane=run.lane, point=run.point, seconds=seconds))
        before = max(before, run.spent_s)
    return found


def as_ended(run: RunRecord) -> Ended:
    """What of a run's record tells what it took."""
    return Ended(run.run, run.approach, run.point, run.state, run.spent_s)


def took_by(comparison: Comparison, other: Comparison, found: Iterable[Took]) -> list[Took]:
    """What of the runs of another comparison, or of this one as it was, tells of lanes as they are
    now: those of the same code, settings and data."""
    if comparison.data != other.data:
        return []
    now = {approach.id: as_run(approach) for approach in comparison.approach}
    same = {own.id for own in other.approach if now.get(own.id) == as_run(own)}
    return [one for one in found if one.lane in same]


def estimated(
    comparison: Comparison,
    plan: Plan,
    earlier: Sequence[Took],
    *,
    data_s: float = 0.0,
    time_s: float | None = None,
) -> Estimate:
    """What a plan will take.

    Args:
        comparison: as it is now.
        plan: to be run; of one that ends by how sure it is, all rounds that it may have.
        earlier: what runs of its lanes took, with the code that they have now.
        data_s: seconds that making data will take.
        time_s: seconds that are to be filled with rounds.
    """
    runs = list(ordered_runs(comparison, plan))
    by_lane: dict[str, list[Point]] = {}
    for run in runs:
        by_lane.setdefault(run.approach, []).append(run.point)
    lanes = [
        _lane(comparison, lane, points, [one for one in earlier if one.lane == lane])
        for lane, points in by_lane.items()
    ]
    known = sum(lane.seconds for lane in lanes)
    # Lanes are off each by itself, and all of them with the machine.
    alone = sqrt(sum(max(lane.high - lane.seconds, lane.seconds - lane.low) ** 2 for lane in lanes))
    off = max(alone, _DAYS * known)
    around = BEGINNING_S + data_s
    rounds = plan.warm_ups + plan.most_rounds
    round_s = known / rounds
    fit = None
    if time_s is not None and round_s > 0:
        fit = int((time_s - around) / round_s) - plan.warm_ups
    return Estimate(
        seconds=known + around,
        low=max(known / 4, known - off) + around,
        high=known + off + around,
        data_s=data_s,
        round_s=round_s,
        lanes=lanes,
        rounds_in_time=None if fit is None else max(0, fit),
    )


@dataclass(frozen=True)
class _One:
    """A run to be: seconds, the logarithm that it may be off by at 90 %, what that rests on."""

    seconds: float
    off: float
    rests_on: Rest


_ORDER: tuple[Rest, ...] = ("not known", "another size", "sizes", "measured")


def _lane(
    comparison: Comparison, lane: str, points: Sequence[Point], earlier: Sequence[Took]
) -> LaneEstimate:
    different = {repr(sorted(point.items(), key=str)): point for point in points}
    known = {name: _run(comparison, point, earlier) for name, point in different.items()}
    each = [known[repr(sorted(point.items(), key=str))] for point in points]
    total = sum(one.seconds for one in each)
    # Runs of a lane are off together where the reason is the same for all.
    low = sum(one.seconds * exp(-one.off) for one in each)
    high = sum(one.seconds * exp(one.off) for one in each)
    worst = min((one.rests_on for one in each), key=_ORDER.index)
    return LaneEstimate(lane=lane, seconds=total, low=low, high=high, rests_on=worst)


def _run(comparison: Comparison, point: Point, earlier: Sequence[Took]) -> _One:
    same = [one.seconds for one in earlier if one.point == point]
    if same:
        logs = [log(seconds) for seconds in same]
        spread = stdev(logs) / sqrt(len(logs)) if len(logs) > 2 else 0.0
        return _One(fmean(same), max(_DAYS, _WITHIN_90 * spread), "measured")
    rows = input_rows(comparison, point)
    sized = [(input_rows(comparison, one.point), one.seconds) for one in earlier]
    known = [(size, seconds) for size, seconds in sized if size]
    if not known or not rows:
        alike = [seconds for _, seconds in sized]
        return _One(fmean(alike), 1.0, "another size") if alike else _One(0.0, 0.0, "not known")
    sizes, values = [float(size) for size, _ in known], [seconds for _, seconds in known]
    if enough(sizes) and (tells := predictor(sizes, values)):
        told = tells.at(float(rows))
        off = max(log(told.high / told.value), log(told.value / told.low), _USUAL)
        return _One(told.value, off, "sizes")
    size, _ = min(known, key=lambda one: abs(log(one[0] / rows)))
    alike = [value for other, value in known if other == size]
    ratio = log(rows / size)
    # Between the same time and one in proportion, a little beyond either.
    return _One(fmean(alike) * exp(0.5 * ratio), abs(0.6 * ratio) + _USUAL, "another size")
