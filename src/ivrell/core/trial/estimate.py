"""How long a plan will take, by what runs of its lanes took before.

A run's time here is that between the ends of two runs, so that process, imports, tables put back
and answer are in it. At points that ran before it is the mean of what runs took there; at other
sizes it is told by how the lane grows, where it ran at several; by one other size alone it lies
somewhere between the same and in proportion.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from math import exp, log, sqrt
from statistics import fmean, stdev

from ivrell.core.comparison.alike import as_run
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.estimate import Ended, Estimate, LaneEstimate, MemoryEstimate, Rest, Took
from ivrell.core.records.plan import Plan
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.report.measures import input_rows
from ivrell.core.stats.growth import Predictor, enough, predictor
from ivrell.core.trial.plan import chosen_approaches, points_of

BEGINNING_S = 2.5
"""Looking at the machine, starting the runner and what looks at answers, settling."""

_USUAL = 0.25
"""Logarithm by which a run is off where nothing tells (90 %)."""

_DAYS = 0.2
"""The same of what was measured: a machine is quicker on some days than on others, for all lanes
at once (eight plans of the demos took 0.82 to 1.15 times what was told)."""

_NEAR = 4
"""A lane that holds a fourth of the limit may break it, where its bounds reach so far."""

_WITHIN_90 = 1.64
_DRAWS = 100


def took(runs: Iterable[Ended]) -> list[Took]:
    """What each run of a trial took; they follow each other."""
    found = []
    before = 0.0
    for run in sorted(runs, key=lambda run: run.number):
        if run.spent_s is None:
            continue
        if run.state == "done" and run.spent_s > before:
            seconds = run.spent_s - before
            found.append(
                Took(lane=run.lane, point=run.point, seconds=seconds, memory_bytes=run.memory_bytes)
            )
        before = max(before, run.spent_s)
    return found


def as_ended(run: RunRecord) -> Ended:
    """What of a run's record tells what it took."""
    return Ended(run.run, run.approach, run.point, run.state, run.spent_s, run.peak_memory_bytes)


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
    points, rounds = points_of(plan, comparison), plan.warm_ups + plan.most_rounds
    by_lane: dict[str, list[Took]] = {}
    for one in earlier:
        by_lane.setdefault(one.lane, []).append(one)
    lanes = [
        _lane(comparison, lane, points, rounds, by_lane.get(lane, []), plan.limits.memory_bytes)
        for lane in chosen_approaches(plan, comparison)
    ]
    known = sum(lane.seconds for lane in lanes)
    # Lanes are off each by itself, and all of them with the machine.
    alone = sqrt(sum(max(lane.high - lane.seconds, lane.seconds - lane.low) ** 2 for lane in lanes))
    off = max(alone, _DAYS * known)
    around = BEGINNING_S + data_s
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
    comparison: Comparison,
    lane: str,
    points: Sequence[Point],
    rounds: int,
    earlier: Sequence[Took],
    memory_limit: int,
) -> LaneEstimate:
    before = _Before(comparison, [(one.point, one.seconds) for one in earlier])
    each = [before.run(point) for point in points]
    # Runs of a lane are off together: the reason is the same for all.
    return LaneEstimate(
        lane=lane,
        seconds=rounds * sum(one.seconds for one in each),
        low=rounds * sum(one.seconds * exp(-one.off) for one in each),
        high=rounds * sum(one.seconds * exp(one.off) for one in each),
        rests_on=min((one.rests_on for one in each), key=_ORDER.index),
        memory=_memory(comparison, points, earlier, memory_limit),
    )


def _memory(
    comparison: Comparison, points: Sequence[Point], earlier: Sequence[Took], limit: int
) -> MemoryEstimate | None:
    """What a lane will hold where it holds most; None where nothing, or one other size alone, tells
    it: memory that is held at any size is no part of what grows."""
    held = [(one.point, float(one.memory_bytes)) for one in earlier if one.memory_bytes]
    before = _Before(comparison, held)
    told = [one for one in map(before.run, points) if one.rests_on in ("measured", "sizes")]
    if not told:
        return None
    most = max(told, key=lambda one: one.seconds)
    low, high = most.seconds * exp(-most.off), most.seconds * exp(most.off)
    if most.rests_on == "measured":
        # It was there, and below the limit that it had then.
        low, high = most.seconds * 0.95, most.seconds * 1.05
    # Far beyond the sizes that ran anything may be: what is likely is told.
    near = _NEAR * most.seconds > limit
    return MemoryEstimate(
        value=most.seconds, low=low, high=high,
        breaks="will" if low > limit else "may" if high > limit and near else "",
    )  # fmt: skip


class _Before:
    """What runs of one lane took before, of time or of memory."""

    def __init__(self, comparison: Comparison, earlier: Sequence[tuple[Point, float]]) -> None:
        self._comparison = comparison
        self._at: dict[str, list[float]] = {}
        self._by_size: dict[int, list[float]] = {}
        for point, value in earlier:
            self._at.setdefault(point_name(point), []).append(value)
            if rows := input_rows(comparison, point):
                self._by_size.setdefault(rows, []).append(value)

    @cached_property
    def _grows(self) -> Predictor | None:
        """How the lane grows, where it ran at sizes enough."""
        sizes = [float(size) for size in self._by_size]
        if not enough(sizes):
            return None
        # Of means, and few draws: it is asked for while a plan is typed.
        return predictor(sizes, [fmean(own) for own in self._by_size.values()], _DRAWS)

    def run(self, point: Point) -> _One:
        """What a run at a point will take."""
        if same := self._at.get(point_name(point)):
            logs = [log(seconds) for seconds in same]
            spread = stdev(logs) / sqrt(len(logs)) if len(logs) > 2 else 0.0
            return _One(fmean(same), max(_DAYS, _WITHIN_90 * spread), "measured")
        rows = input_rows(self._comparison, point)
        if not rows or not self._by_size:
            alike = [seconds for own in self._at.values() for seconds in own]
            known = _One(fmean(alike), 1.0, "another size") if alike else None
            return known or _One(0.0, 0.0, "not known")
        if self._grows:
            told = self._grows.at(float(rows))
            off = max(log(told.high / told.value), log(told.value / told.low), _USUAL)
            return _One(told.value, off, "sizes")
        size = min(self._by_size, key=lambda one: abs(log(one / rows)))
        ratio = log(rows / size)
        # Between the same time and one in proportion, a little beyond either.
        seconds = fmean(self._by_size[size]) * exp(0.5 * ratio)
        return _One(seconds, abs(0.6 * ratio) + _USUAL, "another size")
