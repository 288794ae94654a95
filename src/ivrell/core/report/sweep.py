"""What a trial over several values of a knob says: growth of each lane, crossings, regimes."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import exp, log

from ivrell.core.comparison.model import Comparison
from ivrell.core.quantities import three_figures
from ivrell.core.records.findings import Findings, Ratio
from ivrell.core.records.points import Point
from ivrell.core.records.run import RunRecord
from ivrell.core.records.sweep import (
    Crossing,
    Growth,
    Law,
    LeftBehind,
    Regime,
    SweepFindings,
    Wall,
)
from ivrell.core.report.measures import Measure, values_at
from ivrell.core.stats.contrasts import turned
from ivrell.core.stats.growth import enough, laws, next_value, predictor

_ALL_MEMORY = "peak_memory_absolute"
_AHEAD = 10

GROWING = ("elapsed", "cpu_total", "peak_memory", "answer_bytes")
"""Measures whose growth is told, by key."""


def numeric_knobs(points: Sequence[Point]) -> list[str]:
    """Knobs that have more than one value, all of them numbers above 0."""
    found = []
    for knob in points[0] if points else ():
        values = [point.get(knob) for point in points]
        numbers = all(isinstance(v, int | float) and not isinstance(v, bool) for v in values)
        if numbers and len(set(values)) > 1 and all(float(v or 0) > 0 for v in values):
            found.append(knob)
    return found


def sweeps(
    comparison: Comparison,
    runs: Sequence[RunRecord],
    points: Sequence[Findings],
    memory_limit: float | None = None,
    *,
    stepped: bool = False,
) -> list[SweepFindings]:
    """What is found along each knob of numbers that has several values; ``memory_limit`` are the
    bytes that a run may take, ``stepped`` says that sizes went from small to large to the end."""
    knobs = numeric_knobs([found.point for found in points])
    return [
        sweep_findings(comparison, runs, points, knob, memory_limit, stepped=stepped)
        for knob in knobs
    ]


def sweep_findings(
    comparison: Comparison,
    runs: Sequence[RunRecord],
    points: Sequence[Findings],
    knob: str,
    memory_limit: float | None = None,
    *,
    stepped: bool = False,
) -> SweepFindings:
    """Growth and crossings along a knob, the others being as at the first point.

    Args:
        runs: of the whole trial.
        points: what each point says.
        knob: one of those that numeric_knobs gives.
        memory_limit: bytes that a run may take; None where that is not known.
        stepped: sizes went from small to large, to the end: who is missing was left behind.
    """
    first = points[0].point
    along = [
        found
        for found in points
        if all(found.point.get(name) == value for name, value in first.items() if name != knob)
    ]
    along.sort(key=lambda found: _size(found, knob))
    seen = _seen(comparison, runs, along, knob)
    growths = [
        _growth(lane, one.measure, one.sizes, one.values, knob)
        for (lane, key), one in seen.items()
        if key in GROWING
    ]
    walls = _walls(seen, memory_limit) if memory_limit else []
    crossings, regimes = _lead(along, knob)
    names = {lane.id: lane.name for found in along for lane in found.lanes}
    return SweepFindings(
        knob=knob,
        measure="elapsed",
        growths=growths,
        crossings=crossings,
        regimes=regimes,
        walls=walls,
        left_behind=_left_behind(along, knob) if stepped else [],
        words=_regime_words(regimes, crossings, names, knob),
    )


def _size(found: Findings, knob: str) -> float:
    size = found.point[knob]
    assert isinstance(size, int | float)
    return float(size)


@dataclass(frozen=True)
class _Seen:
    """A measure of a lane in every run along a knob, with the size of each."""

    measure: Measure
    sizes: list[float]
    values: list[float]


def _seen(
    comparison: Comparison, runs: Sequence[RunRecord], along: Sequence[Findings], knob: str
) -> dict[tuple[str, str], _Seen]:
    """What was measured along a knob, by lane and key of the measure."""
    seen: dict[tuple[str, str], _Seen] = {}
    for found in along:
        here = [run for run in runs if run.point == found.point]
        values = values_at(comparison, here, found.point)
        for key in (*GROWING, _ALL_MEMORY):
            for lane, own in values[key].lanes.items() if key in values else ():
                one = seen.setdefault((lane, key), _Seen(values[key].measure, [], []))
                one.sizes.extend([_size(found, knob)] * len(own))
                one.values.extend(own.values())
    return seen


def _left_behind(along: Sequence[Findings], knob: str) -> list[LeftBehind]:
    """Lanes that ran at smaller sizes and have no run at larger ones."""
    found = []
    lanes = {lane.id: None for point in along for lane in point.lanes}
    for lane in lanes:
        here = [any(one.id == lane for one in point.lanes) for point in along]
        if here[-1] or not here[0]:
            continue
        until = here.index(False)
        ran = [
            (_size(point, knob), one.elapsed.median)
            for point in along[:until]
            for one in point.lanes
            if one.id == lane and one.elapsed
        ]
        start = _size(along[until], knob)
        sizes, values = [size for size, _ in ran], [value for _, value in ran]
        expected = next_value(sizes, values, start) if ran else None
        last = _size(along[until - 1], knob)
        found.append(LeftBehind(lane=lane, from_size=start, last_size=last, expected=expected))
    return found


def _walls(seen: Mapping[tuple[str, str], _Seen], limit: float) -> list[Wall]:
    """Where each lane would reach the memory that a run may take, where its growth tells."""
    found = []
    for (lane, key), one in seen.items():
        if key != _ALL_MEMORY or not enough(one.sizes) or min(one.values) <= 0:
            continue
        known = predictor(one.sizes, one.values)
        at = known.reaches(limit) if known else None
        if at:
            found.append(Wall(lane=lane, limit_bytes=limit, size=at.size, low=at.low, high=at.high))
    return found


def _growth(
    lane: str, measure: Measure, sizes: Sequence[float], values: Sequence[float], knob: str
) -> Growth:
    def growth(found: list[Law], bend: float | None, words: str) -> Growth:
        known = predictor(sizes, values) if found else None
        ahead = known.at(_AHEAD * max(sizes)) if known else None
        return Growth(
            lane=lane, measure=measure.key, laws=found, bend=bend, words=words, prediction=ahead
        )

    if not enough(sizes):
        return growth([], None, "Three sizes over a factor of three are needed to tell a law.")
    if min(values) <= 0:
        return growth([], None, "It is nought at some size.")
    found, bend = laws(sizes, values)
    words = [law_words(law, measure.words, knob) for law in found]
    if bend is None:
        return growth(found, bend, f"{words[0]}.")
    at = f"{bend:,.0f}" if bend >= 10 else three_figures(bend)
    return growth(found, bend, f"Up to about {knob} = {at} {words[0]}; beyond, {words[1]}.")


def law_words(found: Law, told: Callable[[float], str], knob: str) -> str:
    """A law in words: how it grows, what doubling costs, and what is paid at any size."""
    if found.name == "constant":
        return f"does not grow with {knob}: about {told(found.fixed)}"
    form = _FORMS.get(found.name, f"as {knob} to the power of {found.exponent:.2f}")
    when = f"{three_figures(found.doubling)} times when {knob} doubles"
    # Only what is surely above nought is paid at any size.
    fixed = f"; {told(found.fixed)} of it at any size" if found.fixed_low > 0 else ""
    return f"grows {form}, {when}{fixed}"


_FORMS = {
    "linear": "linearly",
    "logarithmic": "with the logarithm",
    "quadratic": "with the square",
    "n log n": "as n log n",
}


def _ratio(found: Findings, base: str, lane: str) -> Ratio | None:
    for pair in found.pairs:
        if (pair.base, pair.lane) == (base, lane):
            return pair.ratio
        if (pair.base, pair.lane) == (lane, base):
            return turned(pair.ratio)
    return None


def _leader(found: Findings) -> str | None:
    return next((lane.id for lane in found.ranked if lane.trusted), None)


def _lead(along: Sequence[Findings], knob: str) -> tuple[list[Crossing], list[Regime]]:
    """Where the lead changes, and the stretches between."""
    known = [(found, leader) for found in along if (leader := _leader(found))]
    crossings: list[Crossing] = []
    stretches: list[tuple[str, list[Findings]]] = []
    for found, leader in known:
        if stretches and stretches[-1][0] != leader:
            # A lead that nobody can be sure of is no change of hands.
            ratio = _ratio(found, stretches[-1][0], leader)
            if ratio is None or ratio.verdict != "faster":
                stretches[-1][1].append(found)
                continue
            crossings.append(_crossing(along, knob, stretches[-1][0], leader))
        if not stretches or stretches[-1][0] != leader:
            stretches.append((leader, []))
        stretches[-1][1].append(found)
    bounds = [None, *(crossing.at for crossing in crossings), None]
    regimes = [
        Regime(
            lane=lane,
            from_size=bounds[place],
            until_size=bounds[place + 1],
            level=_level(lane, own),
        )
        for place, (lane, own) in enumerate(stretches)
    ]
    return crossings, regimes


def _level(lane: str, along: Sequence[Findings]) -> list[str]:
    """Lanes that cannot be told from the leader at any size of a stretch."""
    others = [other.id for other in along[0].lanes if other.trusted and other.id != lane]

    def is_level(other: str) -> bool:
        ratios = [_ratio(found, other, lane) for found in along]
        return all(ratio is not None and ratio.verdict != "faster" for ratio in ratios)

    return [other for other in others if is_level(other)]


def _crossing(along: Sequence[Findings], knob: str, before: str, after: str) -> Crossing:
    """Where one lane passes another: between measured sizes the logarithm of the ratio is taken to
    go straight over the logarithm of the knob, its bounds too."""
    sizes, middle, low, high = [], [], [], []
    for found in along:
        ratio = _ratio(found, before, after)
        if ratio is None:
            continue
        sizes.append(log(_size(found, knob)))
        middle.append(log(ratio.value))
        low.append(log(ratio.low) if ratio.low else None)
        high.append(log(ratio.high) if ratio.high else None)
    at = _nought(sizes, middle)
    # With the upper bound of the lead it comes earlier, with the lower one later.
    early = _nought(sizes, high) if None not in high else None
    late = _nought(sizes, low) if None not in low else None
    return Crossing(
        before=before,
        after=after,
        at=exp(at if at is not None else sizes[-1]),
        low=None if early is None else exp(early),
        high=None if late is None else exp(late),
    )


def _nought(xs: Sequence[float], ys: Sequence[float | None]) -> float | None:
    """Where straight lines from point to point last rise through nought."""
    found = None
    points = [(x, y) for x, y in zip(xs, ys, strict=True) if y is not None]
    for (x0, y0), (x1, y1) in pairwise(points):
        if y0 <= 0 < y1:
            found = x0 + (x1 - x0) * (0 - y0) / (y1 - y0)
    return found


def _regime_words(
    regimes: Sequence[Regime], crossings: Sequence[Crossing], names: dict[str, str], knob: str
) -> str:
    """The regimes as a rule that can be acted on."""
    if not regimes:
        return ""

    def who(regime: Regime) -> str:
        level = [names[lane] for lane in regime.level]
        also = f" (no slower as far as anyone can tell: {', '.join(level)})" if level else ""
        return f"{names[regime.lane]} is the quickest{also}"

    if len(regimes) == 1:
        return f"At every {knob} that was run {who(regimes[0])}."
    parts = []
    for place, regime in enumerate(regimes):
        if place < len(crossings):
            parts.append(f"below {_about(crossings[place])} {who(regime)}")
        else:
            parts.append(f"above {who(regime)}")
    text = "; ".join(parts)
    return f"For {knob} {text}."


def _about(crossing: Crossing) -> str:
    def told(size: float) -> str:
        rounded = float(f"{size:.2g}")
        return f"{rounded:,.0f}" if rounded >= 10 else three_figures(size)

    if crossing.low is None and crossing.high is None:
        return told(crossing.at)
    if crossing.low is None or crossing.high is None:
        side = "at most" if crossing.low is None else "at least"
        known = crossing.high if crossing.low is None else crossing.low
        return f"{told(crossing.at)} ({side} {told(known or crossing.at)})"
    return f"{told(crossing.at)} ({told(crossing.low)} to {told(crossing.high)})"
