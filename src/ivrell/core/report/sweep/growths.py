"""How each lane grows along a knob, and where it would reach the memory that it may take."""

from collections.abc import Callable, Sequence

from ivrell.core.base.quantities import format_limit, three_figures
from ivrell.core.records.sweep import Growth, Law, LeftBehind, Wall
from ivrell.core.report.measures import Measure
from ivrell.core.report.sweep.along import Along, told_bounds, told_size
from ivrell.core.stats.growth import enough, next_value, outlook, predictor_ahead

GROWING = ("elapsed", "cpu_total", "peak_memory", "answer_bytes")
"""Measures whose growth is told, by key."""

_ALL_MEMORY = "peak_memory_absolute"
_AHEAD = (1.5, 2.0, 3.0, 5.0, 7.0, 10.0)
_FEW_LANES = 3

_FORMS = {
    "linear": "linearly",
    "logarithmic": "with the logarithm",
    "quadratic": "with the square",
    "n log n": "as n log n",
}


def growths(along: Along) -> list[Growth]:
    """How every lane's measures grow."""
    return [
        _growth(lane, one.measure, one.sizes, one.values, along.knob)
        for (lane, _), one in along.seen(GROWING).items()
    ]


def _growth(
    lane: str, measure: Measure, sizes: Sequence[float], values: Sequence[float], knob: str
) -> Growth:
    def told(words: str) -> Growth:
        return Growth(lane=lane, measure=measure.key, laws=[], bend=None, words=words, ahead=[])

    if not enough(sizes):
        return told("Three sizes over a factor of three are needed to tell a law.")
    if min(values) <= 0:
        return told("It is zero at some size.")
    found = outlook(sizes, values)
    laws = [law_words(law, measure.words, knob) for law in found.laws]
    words = f"{laws[0]}."
    if found.bend is not None:
        at = told_size(found.bend)
        words = f"Up to about {knob} = {at} {laws[0]}; beyond, {laws[1]}."
    if found.why_not:
        words = f"{words} What comes beyond is not told: {found.why_not}."
    known = found.ahead
    return Growth(
        lane=lane,
        measure=measure.key,
        laws=found.laws,
        bend=found.bend,
        words=words,
        ahead=[known.at(times * max(sizes)) for times in _AHEAD] if known else [],
    )


def law_words(found: Law, told: Callable[[float], str], knob: str) -> str:
    """A law in words: how it grows, what doubling costs, and what is paid at any size."""
    if found.name == "constant":
        return f"does not grow with {knob}: about {told(found.fixed)}"
    form = _FORMS.get(found.name, f"as {knob} to the power of {found.exponent:.2f}")
    when = f"{three_figures(found.doubling)} times when {knob} doubles"
    # Only what is surely above nought is paid at any size.
    fixed = f"; {told(found.fixed)} of it at any size" if found.fixed_low > 0 else ""
    return f"grows {form}, {when}{fixed}"


def left_behind(along: Along) -> list[LeftBehind]:
    """Lanes that ran at smaller sizes and have no run at larger ones."""
    found = []
    lanes = {lane.id: None for one in along.sizes for lane in one.findings.lanes}
    for lane in lanes:
        here = [any(own.id == lane for own in one.findings.lanes) for one in along.sizes]
        if here[-1] or not here[0]:
            continue
        until = here.index(False)
        ran = [
            (one.size, own.elapsed.median)
            for one in along.sizes[:until]
            for own in one.findings.lanes
            if own.id == lane and own.elapsed
        ]
        start = along.sizes[until].size
        sizes, values = [size for size, _ in ran], [value for _, value in ran]
        found.append(
            LeftBehind(
                lane=lane,
                from_size=start,
                last_size=along.sizes[until - 1].size,
                expected=next_value(sizes, values, start) if ran else None,
            )
        )
    return found


def walls(along: Along, limit: float) -> list[Wall]:
    """Where each lane would reach the memory that a run may take, where its growth tells; the
    nearest first."""
    found = []
    for (lane, _), one in along.seen([_ALL_MEMORY]).items():
        if not enough(one.sizes) or min(one.values) <= 0:
            continue
        known = predictor_ahead(one.sizes, one.values)
        at = known.reaches(limit) if known else None
        if at:
            found.append(Wall(lane=lane, limit_bytes=limit, size=at.size, low=at.low, high=at.high))
    return sorted(found, key=lambda wall: wall.size)


def wall_words(along: Along, found: Sequence[Wall], names: dict[str, str]) -> str:
    """Which lanes pass the memory that they may take, where that is not far beyond what was run,
    and which stay below it."""
    there = [lane for lane in names if _ended_well(along, lane)]
    reach = _AHEAD[-1] * along.sizes[-1].size
    near = [wall for wall in found if wall.lane in there and wall.size <= reach]
    if not near:
        return ""
    limit = format_limit(near[0].limit_bytes)
    passed = ", ".join(
        f"{names[wall.lane]} at {along.knob} {told_bounds(wall.size, wall.low, wall.high)}"
        for wall in near
    )
    left = [lane for lane in there if lane not in {wall.lane for wall in near}]
    beyond = ""
    if 0 < len(left) <= _FEW_LANES:
        stays = "stays" if len(left) == 1 else "stay"
        beyond = f"; beyond, only {' and '.join(names[lane] for lane in left)} {stays} below"
    return f"By their growth these would pass {limit} of memory: {passed}{beyond}."


def _ended_well(along: Along, lane: str) -> bool:
    """Whether a lane had a right answer and a figure of its memory at the largest size it ran."""
    ran = [one for one in along.sizes if any(own.id == lane for own in one.findings.lanes)]
    return bool(ran) and lane in ran[-1].medians(_ALL_MEMORY)
