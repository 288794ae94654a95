"""The search for crossings: new sizes where the lead changes, more rounds where it is unsure.

After the sizes that the plan names, each stage looks at all runs so far, takes the change of the
lead that is known worst, and puts one size next to where it should be, with those lanes only that
could lead there; or, where the sizes on both sides are near enough, more rounds at both. What a
stage does depends on earlier runs alone, so that a trial that was interrupted goes on alike.
"""

import random
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import exp, log, sqrt
from statistics import median

from ivrell.core.records.findings import Ratio
from ivrell.core.records.plan import Plan
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.stats.contrasts import Pair, Terms, contrasts, turned
from ivrell.core.stats.crossing import Passing, Rated, passing_by
from ivrell.core.trial.plan import PlannedRun, Rotation, most_searched, size_of

_WIDE = 2.5
_EDGE = 0.12
_TIMES_ROUNDS = 4
_TIMES_ROUNDS_UNSURE = 2
_JUST = 1.01
_FIGURES = 3

Ratios = dict[Pair, Ratio]


@dataclass(frozen=True)
class _Change:
    """A change of the lead: the point but for its size, where, the lanes that could lead on either
    side, whether it may be none at all, and how badly it is known (see CrossingSearch._badness)."""

    others: Point
    where: Passing
    lanes: list[str]
    unsure: bool
    badness: float


class CrossingSearch:
    """Decides what runs after the sizes that a plan names.

    Args:
        plan: with ``search``.
        knob: whose sizes are searched.
        lanes: that run, in the file's order.
        points: that the plan names.
        matters: share below which a difference between lanes does not matter.
    """

    def __init__(
        self,
        plan: Plan,
        knob: str,
        lanes: Sequence[str],
        points: Sequence[Point],
        matters: float,
    ) -> None:
        assert plan.search is not None
        self._plan = plan
        self._search = plan.search
        self._knob = knob
        self._lanes = list(lanes)
        self._points_named = points
        self._terms = Terms(matters)
        sizes = [size_of(point, knob) for point in points]
        self._whole = all(type(point[knob]) is int for point in points)
        contests = {point_name(self._others(point)) for point in points}
        self._budget = most_searched(plan, sizes, len(lanes), len(contests))

    def take_up(self, runs: Sequence[RunRecord]) -> None:
        """Say which runs of an earlier session were of a search: one of an earlier version told
        them from those of the plan by their numbers alone."""
        if any(run.stage for run in runs):
            return
        named = {point_name(point) for point in self._points_named}
        for run in runs:
            if point_name(run.point) not in named or run.round > self._plan.rounds:
                run.stage = 1

    def runs(
        self, known: Sequence[RunRecord], able: Callable[[], set[str]]
    ) -> Iterator[PlannedRun]:
        """The runs of one stage after the other, until the crossings are known, or time or runs
        are used up. Between two of them ``known``, all runs so far, must have grown.

        Args:
            able: gives the lanes whose answers count, once the sizes of the plan have run.
        """
        lanes = [lane for lane in self._lanes if lane in able()]
        done: list[set[tuple[str, int]]] = []
        asked_for = stage = 0
        while asked_for < self._budget:
            stage += 1
            earlier = [run for run in known if run.stage < stage and not run.memory_run]
            if self._spent(earlier) >= self._search.minutes * 60:
                return
            planned = list(self._stage(earlier, lanes, stage))
            asked = {(point_name(one.point), one.round) for one in planned}
            # What was asked for before and did not run would not run again.
            if not planned or asked in done:
                return
            done.append(asked)
            yield from planned
            asked_for += len(planned)

    def _spent(self, runs: Sequence[RunRecord]) -> float:
        """Seconds since the sizes of the plan had run."""
        before = [run.spent_s or 0.0 for run in runs if run.stage == 0]
        after = [run.spent_s or 0.0 for run in runs if run.stage > 0]
        return max(after, default=0.0) - max(before, default=0.0) if after else 0.0

    def _stage(
        self, runs: Sequence[RunRecord], lanes: Sequence[str], stage: int
    ) -> Iterator[PlannedRun]:
        changes = [change for change in self._changes(runs, lanes) if change.badness > 1]
        if not changes:
            return
        worst = max(changes, key=lambda change: change.badness)
        points, rounds = self._points(worst, runs)
        contests = [(point, lane) for point in points for lane in worst.lanes]
        rotation = Rotation(len(contests), random.Random(self._plan.order_seed + stage))
        for round_number in rounds:
            order = [contests[place] for place in rotation.next()]
            for position, (point, lane) in enumerate(order, 1):
                yield PlannedRun(lane, point, round_number, position, stage=stage)

    def _points(
        self, change: _Change, runs: Sequence[RunRecord]
    ) -> tuple[list[Point], Sequence[int]]:
        """A new point of a change with its rounds, or both beside it with more rounds."""
        where = change.where
        size = None if change.unsure else self._between(where)
        if size is not None:
            point = {**change.others, self._knob: size}
            return [point], range(1 - self._plan.warm_ups, self._plan.rounds + 1)
        beside = [run.point for run in runs if self._beside(run.point, change)]
        both = list({point_name(point): point for point in beside}.values())
        last = max(run.round for run in runs if run.point in both)
        return both, range(last + 1, last + 1 + self._plan.rounds)

    def _beside(self, point: Point, change: _Change) -> bool:
        ends = change.where.below, change.where.above
        return self._others(point) == change.others and size_of(point, self._knob) in ends

    @property
    def _near(self) -> float:
        """Sizes on both sides of a crossing no further apart than this know it."""
        return (1 + self._search.within) ** 2

    def _between(self, where: Passing) -> int | float | None:
        """A size inside a bracket: where the crossing should be; a little on the farther side of
        it where that is nearly known, so that the next bracket is narrow. None where the bracket
        is narrow enough."""
        if where.bracket <= self._near:
            return None
        at, aside = log(where.at), 0.7 * log(1 + self._search.within)
        low, high = log(where.below), log(where.above)
        if where.bracket < _WIDE or min(at - low, high - at) < aside:
            at += aside if at - low < high - at else -aside
        edge = _EDGE * (high - low)
        size = self._told(exp(min(max(at, low + edge), high - edge)))
        return size if where.below < size < where.above else None

    def _told(self, size: float) -> int | float:
        rounded = float(f"{size:.{_FIGURES}g}")
        return round(rounded) if self._whole else rounded

    def _changes(self, runs: Sequence[RunRecord], lanes: Sequence[str]) -> Iterator[_Change]:
        """Changes of the lead, for each choice of the other knobs."""
        contests: dict[str, dict[float, list[RunRecord]]] = {}
        others: dict[str, Point] = {}
        for run in runs:
            if run.counted and run.elapsed_s and run.approach in lanes:
                rest = self._others(run.point)
                others[point_name(rest)] = rest
                sizes = contests.setdefault(point_name(rest), {})
                sizes.setdefault(size_of(run.point, self._knob), []).append(run)
        for name, sizes in contests.items():
            yield from self._changes_along(others[name], dict(sorted(sizes.items())))

    def _changes_along(
        self, others: Point, sizes: Mapping[float, list[RunRecord]]
    ) -> Iterator[_Change]:
        ratios = {size: self._ratios(runs) for size, runs in sizes.items()}
        leaders = [(size, _leader(ratios[size], runs)) for size, runs in sizes.items()]
        for (below, before), (above, after) in pairwise(leaders):
            if before == after:
                continue
            rated = _rated(ratios, before, after)
            known = passing_by(rated, above)
            if known is None or known.above != above:
                # Each leads at its size, and yet their ratio does not turn over between: more
                # rounds at both say which of the two it is.
                known = Passing(sqrt(below * above), below, above, None, None)
            rounds = [
                min(sum(run.approach == lane for run in sizes[size]) for lane in (before, after))
                for size in (known.below, known.above)
            ]
            unsure = not _sure(rated, known)
            yield _Change(
                others=others,
                where=known,
                lanes=self._could_lead(ratios, known, before, after),
                unsure=unsure,
                badness=self._badness(known, min(rounds), unsure=unsure),
            )

    def _badness(self, where: Passing, rounds: int, *, unsure: bool) -> float:
        """How badly a crossing is known, 1 or less being well enough or as well as it can be."""
        if not unsure and self._between(where) is not None:
            return where.bracket / self._near
        # What no rounds tell apart is left at that.
        most = _TIMES_ROUNDS_UNSURE if unsure else _TIMES_ROUNDS
        if rounds >= most * self._plan.rounds:
            return 0.0
        spread = where.spread
        return _JUST if unsure or spread is None else spread / self._near

    def _could_lead(
        self, ratios: Mapping[float, Ratios], where: Passing, before: str, after: str
    ) -> list[str]:
        """Lanes that are not surely slower than who leads on either side of a crossing."""
        found = {before, after}
        for size, leader in ((where.below, before), (where.above, after)):
            for lane in self._lanes:
                ratio = _ratio(ratios[size], leader, lane)
                if ratio is not None and ratio.verdict != "slower":
                    found.add(lane)
        return [lane for lane in self._lanes if lane in found]

    def _ratios(self, runs: Sequence[RunRecord]) -> Ratios:
        values: dict[str, dict[int, float]] = {}
        for run in runs:
            assert run.elapsed_s is not None
            values.setdefault(run.approach, {})[run.round] = run.elapsed_s
        return contrasts(values, self._terms)

    def _others(self, point: Point) -> Point:
        return {name: value for name, value in point.items() if name != self._knob}


def _sure(rated: Sequence[Rated], where: Passing) -> bool:
    """Whether the one surely leads at some size before, and the other at some size after."""
    before = any(ratio.verdict == "slower" for size, ratio in rated if size <= where.below)
    after = any(ratio.verdict == "faster" for size, ratio in rated if size >= where.above)
    return before and after


def _leader(ratios: Ratios, runs: Sequence[RunRecord]) -> str:
    """The lane that is ahead of most others by the rounds that they share; of those, that with the
    lowest median."""
    lanes = dict.fromkeys(run.approach for run in runs)
    ahead = Counter(pair[int(ratio.value > 1)] for pair, ratio in ratios.items())
    return min(lanes, key=lambda lane: (-ahead[lane], median(_elapsed(runs, lane))))


def _elapsed(runs: Sequence[RunRecord], lane: str) -> list[float]:
    return [run.elapsed_s for run in runs if run.approach == lane and run.elapsed_s]


def _ratio(ratios: Ratios, base: str, lane: str) -> Ratio | None:
    if (base, lane) in ratios:
        return ratios[base, lane]
    return turned(ratios[lane, base]) if (lane, base) in ratios else None


def _rated(ratios: Mapping[float, Ratios], before: str, after: str) -> list[Rated]:
    found = [(size, _ratio(own, before, after)) for size, own in ratios.items()]
    return [(size, ratio) for size, ratio in found if ratio is not None]
