"""A knob along which a trial ran, and what was measured there."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from statistics import median

from ivrell.core.base.quantities import three_figures
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.findings import Findings
from ivrell.core.records.points import Point, beside, going_with
from ivrell.core.records.run import RunRecord
from ivrell.core.report.measures import Measure, Values, values_at


def numeric_knobs(points: Sequence[Point]) -> list[str]:
    """Knobs that have more than one value, all of them numbers above 0, and that do not go
    together with an earlier one."""
    found: list[str] = []
    for knob in points[0] if points else ():
        values = [point.get(knob) for point in points]
        numbers = all(isinstance(v, int | float) and not isinstance(v, bool) for v in values)
        if not numbers or len(set(values)) == 1 or any(float(v or 0) <= 0 for v in values):
            continue
        if not any(knob in going_with(points, earlier) for earlier in found):
            found.append(knob)
    return found


@dataclass(frozen=True)
class Seen:
    """A measure of a lane in every run along a knob, with the size of each."""

    measure: Measure
    sizes: list[float]
    values: list[float]


@dataclass(frozen=True)
class Size:
    """One size along a knob: its findings, and every measure there by key."""

    size: float
    findings: Findings
    values: Mapping[str, Values]

    def trusted(self) -> list[str]:
        """Lanes that may be ranked here."""
        return [lane.id for lane in self.findings.lanes if lane.trusted]

    def medians(self, key: str) -> dict[str, float]:
        """The median of a measure of each lane that may be ranked."""
        if key not in self.values:
            return {}
        lanes = self.values[key].lanes
        return {lane: median(lanes[lane].values()) for lane in self.trusted() if lane in lanes}


@dataclass(frozen=True)
class Along:
    """The sizes of a knob, rising, at one choice of the other knobs and conditions; but those that
    go together with its values."""

    knob: str
    at: Point
    sizes: list[Size]

    def seen(self, keys: Sequence[str]) -> dict[tuple[str, str], Seen]:
        """What was measured in every run, by lane and key of the measure."""
        found: dict[tuple[str, str], Seen] = {}
        for one in self.sizes:
            for key in keys:
                for lane, own in one.values[key].lanes.items() if key in one.values else ():
                    place = found.setdefault((lane, key), Seen(one.values[key].measure, [], []))
                    place.sizes.extend([one.size] * len(own))
                    place.values.extend(own.values())
        return found


def along(
    comparison: Comparison,
    runs: Sequence[RunRecord],
    points: Sequence[Findings],
    knob: str,
    at: Point,
) -> Along:
    """The sizes of a knob where the others are as ``at`` says."""
    sizes = []
    apart = {knob, *going_with([found.point for found in points], knob)}
    for found in points:
        if beside(found.point, apart) == at:
            here = [run for run in runs if run.point == found.point]
            size = found.point[knob]
            assert isinstance(size, int | float)
            sizes.append(Size(float(size), found, values_at(comparison, here, found.point)))
    return Along(knob, at, sorted(sizes, key=lambda one: one.size))


def told_size(size: float) -> str:
    """A size as people read it, to as many figures as it is known to."""
    rounded = float(f"{size:.2g}")
    return f"{rounded:,.0f}" if rounded >= 10 else three_figures(size)


def told_bounds(at: float, low: float | None, high: float | None) -> str:
    """A size with its bounds, where they are known."""
    if low is None and high is None:
        return told_size(at)
    if low is None or high is None:
        side = "at most" if low is None else "at least"
        return f"{told_size(at)} ({side} {told_size((high if low is None else low) or at)})"
    return f"{told_size(at)} ({told_size(low)} to {told_size(high)})"
