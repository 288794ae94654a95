"""A gate against figures that are kept: lanes that both versions have alike carry the level over.

They run beside the new lanes and stood beside the old ones. How a lane stands to them is compared
then and now, so that another machine, or another day of the same one, takes nothing from either.
"""

from collections.abc import Mapping, Sequence
from math import exp, log, sqrt
from statistics import fmean, median, stdev

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.model import Comparison
from ivrell.core.gate.judged import ByRound, Gate, Gated, Sides, logs_of
from ivrell.core.gate.versions import Pairing
from ivrell.core.records.findings import Findings, LaneFindings, TrialFindings
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.report.measures import values_at
from ivrell.core.stats.sequential import FEWEST_KEPT, SURE, Told, slower_than_kept


class StoredGate(Gate):
    """A gate whose old version is not run.

    Args:
        comparison: the new version.
        pairing: gated lanes by themselves, and lanes that are the same in both.
        points: looked at.
        measures: keys.
        margin: the share that is let pass.
        then: the old version.
        kept: its runs.
        found: its findings.

    Raises BadInput where nothing carries the level over.
    """

    def __init__(
        self, comparison: Comparison, pairing: Pairing, points: Sequence[Point],
        measures: Sequence[str], margin: float, *, then: Comparison, kept: Sequence[RunRecord],
        found: TrialFindings,
    ) -> None:  # fmt: skip
        super().__init__(comparison, pairing, points, measures, margin)
        self._found = {point_name(one.point): one for one in found.points}
        self._kept = {
            point_name(point): values_at(then, [r for r in kept if r.point == point], point)
            for point in points
        }
        self.anchors = self._carrying(pairing.unchanged, points)

    def _carrying(self, lanes: Sequence[str], points: Sequence[Point]) -> list[str]:
        """Lanes that did their work then, at every point."""
        able = []
        for lane in lanes:
            then = [self._kept_lane(lane, point) for point in points]
            if all(one is not None and one.trusted for one in then):
                able.append(lane)
        if not able:
            raise BadInput(
                "No lane that is the same in both versions ran at these values then: nothing "
                "carries the level of the kept figures over.",
                where="--stored", hint="Run both versions: leave --stored out.",
            )  # fmt: skip
        return able

    def _kept_lane(self, lane: str, point: Point) -> LaneFindings | None:
        found = self._found.get(point_name(point))
        return next((one for one in found.lanes if one.id == lane), None) if found else None

    def _kept_values(self, what: Gated) -> ByRound:
        _, point, key = what
        values = self._kept.get(point_name(point), {})
        return values[key].lanes if key in values else {}

    def _logs(self, lane: str, lanes: ByRound) -> list[float]:
        """Of each round, how the lane stands to those that carry the level."""
        return logs_of(_together([lanes.get(one, {}) for one in self.anchors]), lanes.get(lane, {}))

    def _verdict_of(self, what: Gated, lanes: ByRound) -> tuple[Told, int]:
        now = self._logs(what[0], lanes)
        then = self._logs(what[0], self._kept_values(what))
        return slower_than_kept(now, then, self._margin, family=self.family), len(now)

    def _sides(self, what: Gated, lanes: ByRound) -> Sides:
        lane, _, _ = what
        before, here = self._kept_values(what).get(lane, {}), lanes.get(lane, {})
        then, now = self._logs(lane, self._kept_values(what)), self._logs(lane, lanes)
        times = low = high = None
        if min(len(then), len(now)) >= FEWEST_KEPT:
            times = exp(fmean(now) - fmean(then))
            wide = _difference(then, now)
            low, high = times / exp(wide), times * exp(wide)
        return Sides(
            median(before.values()) if before else None, median(here.values()) if here else None,
            times, low, high, len(now),
        )  # fmt: skip

    def _then(self, lane: str, found: Findings) -> LaneFindings | None:
        return self._kept_lane(lane, found.point)


def _together(lanes: Sequence[Mapping[int, float]]) -> dict[int, float]:
    """The geometric mean of several lanes in each round that all of them ran."""
    rounds = set.intersection(*(set(own) for own in lanes))
    means = {}
    for number in rounds:
        values = [own[number] for own in lanes]
        means[number] = exp(fmean(map(log, values))) if min(values) > 0 else 0.0
    return means


def _difference(then: Sequence[float], now: Sequence[float]) -> float:
    """Half of the interval of the difference of two means, after Welch (1947)."""
    from scipy.stats import t

    parts = [stdev(logs) ** 2 / len(logs) for logs in (then, now)]
    if not sum(parts):
        return 0.0
    free = sum(parts) ** 2 / sum(
        part**2 / (len(logs) - 1) for part, logs in zip(parts, (then, now), strict=True)
    )
    return float(t.ppf((1 + SURE) / 2, free)) * sqrt(sum(parts))
