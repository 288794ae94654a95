"""Drawings of a report: SVG that needs no script, in the colours of a light or a dark page."""

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from html import escape

from ivrell.core.base.patience import BANDS
from ivrell.core.base.quantities import format_seconds, three_figures
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.cost import CostAlong
from ivrell.core.records.findings import Findings, LaneFindings
from ivrell.core.records.points import Point, beside, point_name
from ivrell.core.records.sweep import SweepFindings
from ivrell.core.report.sweep.along import numeric_knobs, told_size
from ivrell.core.report.words import knobs_told

COLOURS = (
    "#2860b0", "#c2561a", "#16806a", "#8b4aa8", "#a27a00",
    "#c03a6f", "#2d8bb0", "#6b6f2a", "#7b4b33", "#5c6780",
)  # fmt: skip
"""Colours of lanes by their place in the file; the page uses the same."""

_WIDTH = 420.0
_PAD = 10.0

STYLE = """
svg text { font: 12px "Source Sans 3", "DejaVu Sans", sans-serif; fill: var(--quiet, #55607a) }
svg .ink { fill: var(--ink, #1c2740) } svg .rule { stroke: var(--line, #ddd5c5) }
svg .band0 { fill: var(--band0, #e4eee4) } svg .band1 { fill: var(--band1, #eef0e2) }
svg .band2 { fill: var(--band2, #f6efdf) } svg .band3 { fill: var(--band3, #f7e6dc) }
svg .target { stroke: var(--target, #28518f) }
svg .hatch { stroke: var(--ground, #f8f5ee); stroke-width: 5; opacity: .75 }
"""
"""What drawings look like on a page that says its colours; without one, on a light ground."""

DARK = """
--ink: #e7e3d8; --quiet: #a9b0bf; --line: #3a4256; --ground: #161b27; --sheet: #1d2433;
--band0: #1d2b27; --band1: #252b22; --band2: #2e291e; --band3: #33241f; --target: #8fb4ee;
--bad: #f0938b; --caution: #e8a867
"""
"""The same colours for a dark page."""


@dataclass(frozen=True)
class Colours:
    """The colour of each lane by its id."""

    by_lane: Mapping[str, str]

    @classmethod
    def of(cls, comparison: Comparison) -> "Colours":
        """By the lanes' places in the file."""
        places = enumerate(comparison.approach)
        return cls({lane.id: COLOURS[place % len(COLOURS)] for place, lane in places})

    def __getitem__(self, lane: str) -> str:
        return self.by_lane[lane]


class Axis:
    """A logarithmic time axis from a little below the shortest to a little above the
    longest of some times in seconds; positions are in pixels."""

    width = _WIDTH

    def __init__(self, times: Sequence[float]) -> None:
        known = [t for t in times if t > 0] or [1.0]
        self._low, self._high = min(known) / 1.4, max(known) * 1.4

    def at(self, seconds: float) -> float:
        """Position of a time, held to the axis's ends."""
        inside = min(max(seconds, self._low), self._high)
        share = math.log(inside / self._low) / math.log(self._high / self._low)
        return round(_PAD + share * (_WIDTH - 2 * _PAD), 1)

    def bands(self) -> list[tuple[float, float, int]]:
        """Bands of patience: left, width, number."""
        found = []
        start = 0.0
        for place, (until, _) in enumerate(BANDS):
            if until > self._low and start < self._high:
                left = 0.0 if start <= self._low else self.at(start)
                right = _WIDTH if until >= self._high else self.at(until)
                found.append((left, round(right - left, 1), place))
            start = until
        return found

    def ticks(self) -> list[tuple[float, str]]:
        """Powers of ten on the axis with their labels; the ends where there is none."""
        powers = range(math.ceil(math.log10(self._low)), math.floor(math.log10(self._high)) + 1)
        times = [10.0**power for power in powers] or [self._low * 1.4, self._high / 1.4]
        return [(self.at(t), format_seconds(t)) for t in times]


def alone(drawing: str) -> str:
    """A drawing as a file of its own, in dark colours where a reader wants those."""
    style = f"<style>{STYLE}@media (prefers-color-scheme: dark) {{ svg {{ {DARK} }} }}</style>"
    head, rest = drawing.split(">", 1)
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{head}>{style}{rest}\n'


def runs_drawing(found: Findings, axis: Axis, colours: Colours, target: float | None) -> str:
    """Every run of each lane at a point on one axis of time, the quickest lane at the top."""
    room, row, right = 210.0, 30.0, 96.0
    lanes = found.ranked
    height = row * len(lanes) + 26
    parts = [
        f'<rect x="{room + left}" width="{width}" height="{height - 22}" class="band{band}"/>'
        for left, width, band in axis.bands()
    ]
    if target:
        x = room + axis.at(target)
        parts.append(
            f'<line x1="{x}" x2="{x}" y2="{height - 22}" class="target" stroke-dasharray="4 3"/>'
        )
    for place, lane in enumerate(lanes):
        y = row * place + row / 2
        parts.append(f'<text x="0" y="{y + 4}" class="ink">{escape(_cut(lane.name, 32))}</text>')
        parts += _lane_drawn(lane, room, y, axis, colours[lane.id])
        told = format_seconds(lane.elapsed.median) if lane.elapsed else lane.state
        parts.append(
            f'<text x="{room + axis.width + 8}" y="{y + 4}" class="ink">{escape(told)}</text>'
        )
    parts += [
        f'<text x="{room + x}" y="{height - 6}" text-anchor="middle">{escape(label)}</text>'
        for x, label in axis.ticks()
    ]
    return _svg(room + axis.width + right, height, "every run of each lane", parts)


def _lane_drawn(
    lane: LaneFindings, room: float, y: float, axis: Axis, colour: str
) -> Iterator[str]:
    if lane.elapsed is None:
        return
    if lane.elapsed.low is not None and lane.elapsed.high is not None:
        left, right = axis.at(lane.elapsed.low), axis.at(lane.elapsed.high)
        yield (
            f'<rect x="{room + left}" y="{y - 7}" width="{max(2.0, right - left):.1f}" '
            f'height="14" fill="{colour}" opacity=".25"/>'
        )
    for place, run in enumerate(run for run in lane.runs if run.counted and run.elapsed_s):
        yield (
            f'<circle cx="{room + axis.at(run.elapsed_s or 0)}" cy="{y - 4 + place % 5 * 2}" '
            f'r="2.6" fill="{colour}"/>'
        )
    x = room + axis.at(lane.elapsed.median)
    yield (
        f'<line x1="{x}" x2="{x}" y1="{y - 10}" y2="{y + 10}" stroke="{colour}" '
        f'stroke-width="2.5"/>'
    )


@dataclass(frozen=True)
class Spot:
    """A figure at a size with its interval; ``ahead`` where it was predicted and not measured."""

    size: float
    value: float
    low: float | None
    high: float | None
    ahead: bool = False


_BEYOND = 5.0
"""How many times beyond the outermost lines intervals are drawn at the most."""


def sweep_drawing(
    sweep: SweepFindings, points: Sequence[Findings], colours: Colours, names: Mapping[str, str]
) -> str:
    """Elapsed time of each lane over the sizes of a knob, both logarithmic, with intervals and
    where the lead changes; "" where fewer than two sizes have a figure."""
    lead = sweep.lead("elapsed")
    crossings = [crossing.at for crossing in lead.crossings] if lead else []
    title = f"elapsed time over {sweep.knob}"
    return _curves(_lines(sweep, points), crossings, format_seconds, title, colours, names)


def cost_drawing(along: CostAlong, colours: Colours, names: Mapping[str, str]) -> str:
    """What each lane costs a month over the sizes of a knob, both logarithmic, with where another
    becomes the cheapest; sizes that were not run are dashed. "" where there are fewer than two."""
    lines: dict[str, list[Spot]] = {}
    for size in along.sizes:
        for lane, cost in size.lanes.items():
            spot = Spot(size.size, cost.value, cost.low, cost.high, ahead=size.predicted)
            lines.setdefault(lane, []).append(spot)
    crossings = [crossing.at for crossing in along.crossings]
    title = f"cost a month over {along.knob}"
    return _curves(lines, crossings, three_figures, title, colours, names)


def _curves(
    lines: Mapping[str, Sequence[Spot]], crossings: Sequence[float],
    told: Callable[[float], str], title: str, colours: Colours, names: Mapping[str, str],
) -> str:  # fmt: skip
    # A logarithmic axis has no place for nought.
    lines = {lane: [s for s in line if s.size > 0 and s.value > 0] for lane, line in lines.items()}
    lines = {lane: line for lane, line in lines.items() if line}
    spots = [spot for line in lines.values() for spot in line]
    sizes = sorted({spot.size for spot in spots})
    values = [value for spot in spots for value in (spot.value, spot.low, spot.high) if value]
    if len(sizes) < 2:
        return ""
    width, height, left, top, bottom = 760.0, 330.0, 70.0, 16.0, 34.0
    right = width - 190
    # An interval of few rounds may span decades: the lines, not it, say what is drawn.
    medians = [spot.value for spot in spots]
    low = max(min(values), min(medians) / _BEYOND) / 1.2
    high = min(max(values), max(medians) * _BEYOND) * 1.2

    def x(size: float) -> float:
        share = math.log(size / sizes[0]) / math.log(sizes[-1] / sizes[0])
        return round(left + share * (right - left), 1)

    def y(value: float) -> float:
        share = math.log(min(max(value, low), high) / low) / math.log(high / low)
        return round(height - bottom - share * (height - bottom - top), 1)

    parts = []
    for power in range(math.ceil(math.log10(low)), math.floor(math.log10(high)) + 1):
        at = y(10.0**power)
        parts.append(f'<line x1="{left}" x2="{right}" y1="{at}" y2="{at}" class="rule"/>')
        label = escape(told(10.0**power))
        parts.append(f'<text x="{left - 6}" y="{at + 4}" text-anchor="end">{label}</text>')
    parts += [
        f'<text x="{x(size)}" y="{height - 14}" text-anchor="middle">{told_size(size)}</text>'
        for size in _spread(sizes)
    ]
    for crossing in crossings:
        at = x(min(max(crossing, sizes[0]), sizes[-1]))
        parts.append(
            f'<line x1="{at}" x2="{at}" y1="{top}" y2="{height - bottom}" class="target" '
            f'stroke-dasharray="4 3"/><text x="{at}" y="{top - 4}" text-anchor="middle">'
            f"{told_size(crossing)}</text>"
        )
    ends: list[tuple[float, str]] = []
    for lane, line in lines.items():
        colour = colours[lane]
        ran = [spot for spot in line if not spot.ahead]
        for own, dashed in ((ran, ""), ([*ran[-1:], *line[len(ran) :]], ' stroke-dasharray="5 4"')):
            path = " ".join(f"{x(spot.size)},{y(spot.value)}" for spot in own)
            if len(own) > 1:
                parts.append(
                    f'<polyline points="{path}" fill="none" stroke="{colour}" '
                    f'stroke-width="2"{dashed}/>'
                )
        for spot in line:
            at = x(spot.size)
            if spot.low is not None and spot.high is not None:
                parts.append(
                    f'<line x1="{at}" x2="{at}" y1="{y(spot.low)}" y2="{y(spot.high)}" '
                    f'stroke="{colour}" stroke-width="5" opacity=".3"/>'
                )
            if not spot.ahead:
                parts.append(f'<circle cx="{at}" cy="{y(spot.value)}" r="3" fill="{colour}"/>')
        ends.append((y(line[-1].value), lane))
    for at, lane in _apart(sorted(ends)):
        parts.append(
            f'<rect x="{right + 10}" y="{at - 9}" width="10" height="10" fill="{colours[lane]}"/>'
            f'<text x="{right + 25}" y="{at}" class="ink">{escape(_cut(names[lane], 24))}</text>'
        )
    return _svg(width, height, title, parts)


def _lines(sweep: SweepFindings, points: Sequence[Findings]) -> dict[str, list[Spot]]:
    lines: dict[str, list[Spot]] = {}
    for found in points:
        size = found.point.get(sweep.knob)
        own = beside(found.point, {sweep.knob, *sweep.together})
        if own != sweep.at or isinstance(size, bool) or not isinstance(size, int | float):
            continue
        for lane in found.lanes:
            if (took := lane.elapsed) and lane.state == "done" and not lane.gives_wrong_answer:
                spot = Spot(float(size), took.median, took.low, took.high)
                lines.setdefault(lane.id, []).append(spot)
    return {lane: sorted(line, key=lambda spot: spot.size) for lane, line in lines.items()}


def _spread(sizes: Sequence[float]) -> list[float]:
    """Some of the sizes, not too near to each other for their labels."""
    room = math.log(sizes[-1] / sizes[0]) / 7
    found: list[float] = []
    for size in sizes:
        if not found or math.log(size / found[-1]) >= room:
            found.append(size)
    return found


def _apart(ends: Sequence[tuple[float, str]]) -> Iterator[tuple[float, str]]:
    """Labels at the ends of lines, moved down where they would lie on each other."""
    last = -math.inf
    for at, lane in ends:
        last = max(at, last + 15)
        yield last, lane


@dataclass(frozen=True)
class Lead:
    """The lane that leads at a point by its median, whether that is sure, and how many times more
    the next one takes; None where there is none."""

    lane: str
    sure: bool
    margin: float | None


@dataclass(frozen=True)
class Grid:
    """Who leads at each choice of two knobs, all else being as ``at`` says."""

    across: str
    down: str
    at: Point
    columns: list[float]
    rows: list[float]
    leads: Mapping[tuple[float, float], Lead]

    @property
    def title(self) -> str:
        """What it shows, in words."""
        rest = "".join(f", {told}" for told in knobs_told(self.at))
        return f"Who leads by {self.across} and {self.down}{rest}"


_FULL_MARGIN = 10.0
"""How many times more the next takes where a cell has its full colour."""


def grid_drawing(grid: Grid, colours: Colours, names: Mapping[str, str]) -> str:
    """Who leads at each choice of two knobs: the stronger its colour, the farther the next is
    behind; hatched where it is not sure."""
    left, top, tall, bottom = 96.0, 8.0, 44.0, 40.0
    wide = min(150.0, (760.0 - left) / len(grid.columns))
    foot = top + tall * len(grid.rows)
    parts = [
        '<defs><pattern id="unsure" width="7" height="7" patternUnits="userSpaceOnUse" '
        'patternTransform="rotate(45)"><line y2="7" class="hatch"/></pattern></defs>'
    ]
    used: list[str] = []
    for (column, row), lead in grid.leads.items():
        x = left + grid.columns.index(column) * wide
        y = top + (len(grid.rows) - 1 - grid.rows.index(row)) * tall
        margin = min(max(lead.margin or _FULL_MARGIN, 1.0), _FULL_MARGIN)
        strength = 0.18 + 0.5 * math.log(margin) / math.log(_FULL_MARGIN)
        box = f'x="{x:.1f}" y="{y:.1f}" width="{wide - 1:.1f}" height="{tall - 1:.1f}"'
        parts.append(f'<rect {box} fill="{colours[lead.lane]}" opacity="{strength:.2f}"/>')
        if not lead.sure:
            parts.append(f'<rect {box} fill="url(#unsure)"/>')
        told = "" if lead.margin is None else f"{three_figures(lead.margin)}×"
        told = told if lead.sure or not told else f"≈ {told}"
        parts.append(
            f'<text x="{x + wide / 2:.1f}" y="{y + tall / 2 + 4:.1f}" text-anchor="middle" '
            f'class="ink"><title>{escape(names[lead.lane])}</title>{told}</text>'
        )
        if lead.lane not in used:
            used.append(lead.lane)
    parts += [
        f'<text x="{left + (place + 0.5) * wide:.1f}" y="{foot + 16}" text-anchor="middle">'
        f"{value:,.10g}</text>"
        for place, value in enumerate(grid.columns)
    ]
    parts += [
        f'<text x="{left - 8}" y="{top + (len(grid.rows) - place - 0.5) * tall + 4:.1f}" '
        f'text-anchor="end">{value:,.10g}</text>'
        for place, value in enumerate(grid.rows)
    ]
    parts.append(f'<text x="0" y="{top + 12}">{escape(_cut(grid.down, 12))}</text>')
    parts.append(f'<text x="{left}" y="{foot + 34}">{escape(grid.across)}</text>')
    key = foot + bottom + 14
    for place, lane in enumerate(used):
        y = key + place * 18
        parts.append(
            f'<rect x="{left}" y="{y - 10}" width="11" height="11" fill="{colours[lane]}"/>'
            f'<text x="{left + 17}" y="{y}" class="ink">{escape(names[lane])}</text>'
        )
    width = max(left + wide * len(grid.columns) + 4, 420.0)
    return _svg(width, key + 18 * len(used), grid.title, parts)


def grids(points: Sequence[Findings]) -> list[Grid]:
    """The grids of a trial's points: one for each choice of what else has several values."""
    knobs = numeric_knobs([found.point for found in points])
    if len(knobs) < 2:
        return []
    across, down, *_ = knobs
    rest = {point_name(o): o for found in points for o in [beside(found.point, {across, down})]}
    found = []
    for at in rest.values():
        own = [one for one in points if beside(one.point, {across, down}) == at]
        leads = {
            (_value(one, across), _value(one, down)): _lead(one)
            for one in own
            if one.ranking and one.lane(one.ranking[0]).trusted
        }
        columns, rows = (sorted({_value(one, knob) for one in own}) for knob in (across, down))
        found.append(Grid(across, down, at, columns, rows, leads))
    return found


def _value(found: Findings, knob: str) -> float:
    value = found.point[knob]
    assert isinstance(value, int | float)
    return value


def _lead(found: Findings) -> Lead:
    medians = [lane.elapsed.median for lane in found.ranked if lane.trusted and lane.elapsed]
    margin = medians[1] / medians[0] if len(medians) > 1 and medians[0] > 0 else None
    return Lead(found.ranking[0], _is_sure(found), margin)


def _is_sure(found: Findings) -> bool:
    """Whether the first of the ranking is ahead of all others that may win."""
    best, *others = (lane.id for lane in found.ranked if lane.trusted)
    ahead = {pair.base for pair in found.pairs if pair.lane == best and pair.ratio.value > 1
             and pair.ratio.verdict == "faster"}  # fmt: skip
    return ahead.issuperset(others)


def _cut(name: str, most: int) -> str:
    return name if len(name) <= most else f"{name[: most - 1]}…"


def _svg(width: float, height: float, title: str, parts: Sequence[str]) -> str:
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width:g} {height:g}" '
        f'width="{width:g}" height="{height:g}" role="img" aria-label="{escape(title)}">'
        f"{''.join(parts)}</svg>"
    )
