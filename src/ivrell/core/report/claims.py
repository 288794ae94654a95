"""Whether what a trial measured bears out the claims that were pinned."""

from collections.abc import Mapping, Sequence
from itertools import pairwise

from ivrell.core.base.quantities import format_bytes, format_seconds, three_figures
from ivrell.core.comparison.claims import Aim, Claim, CrossingClaimed
from ivrell.core.comparison.model import Targets
from ivrell.core.records.findings import (
    CLAIM_STATES,
    ClaimState,
    Findings,
    JudgedClaim,
    LaneFindings,
    Ratio,
    RatioVerdict,
)
from ivrell.core.records.points import Point, beside, going_with
from ivrell.core.report.sweep.along import told_bounds
from ivrell.core.report.words import knobs_told, ratio_told
from ivrell.core.stats.contrasts import Pair, turned
from ivrell.core.stats.crossing import Rated, passing

Told = tuple[ClaimState, str]
"""What became of a claim, and why."""

_LESS: tuple[RatioVerdict, ...] = ("faster", "less")
_LEVEL: tuple[RatioVerdict, ...] = ("not told apart", "no difference that matters")
_WORST_FIRST: tuple[ClaimState, ...] = ("contradicted", "weakened", "cannot tell", "holds")
_OTHER_POINT: Told = ("not of this point", "It speaks of other values of the knobs.")


def judged_claims(
    claims: Sequence[Claim],
    ratios: Mapping[str, Mapping[Pair, Ratio]],
    point: Point,
    lanes: Sequence[LaneFindings],
    targets: Targets,
) -> list[JudgedClaim]:
    """Every claim held against what was measured at a point; where a lane passes another is told
    of all points together, by ``with_crossings``.

    Args:
        ratios: of every pair of lanes, by key of the measure.
        lanes: what was found of each lane.
    """
    return [_judged(claim, _at_point(claim, ratios, point, lanes, targets)) for claim in claims]


def with_crossings(claims: Sequence[Claim], points: Sequence[Findings]) -> list[Findings]:
    """Findings at all points of a trial, in each of which it is told too whether one lane passes
    another where that was claimed."""
    if not any(claim.crossing for claim in claims):
        return list(points)
    return [
        found.model_copy(
            update={
                "claims": [
                    _judged(claim, _along(claim, claim.crossing, found.point, points))
                    if claim.crossing
                    else there
                    for claim, there in zip(claims, found.claims, strict=True)
                ]
            }
        )
        for found in points
    ]


def over_all(claims: Sequence[Claim], points: Sequence[Findings]) -> list[JudgedClaim]:
    """What became of each claim over all points that it is about: the worst that was found at any,
    with where that was."""
    found = with_crossings(claims, points)
    return [_worst(place, found) for place in range(len(claims))]


def _worst(place: int, points: Sequence[Findings]) -> JudgedClaim:
    there = [found.claims[place] for found in points]
    for state in (*_WORST_FIRST, *CLAIM_STATES):
        for found, one in zip(points, there, strict=True):
            if one.state == state:
                told = one.state in _WORST_FIRST and len({other.reason for other in there}) > 1
                at = f" At {', '.join(knobs_told(found.point))}." if told and found.point else ""
                return one.model_copy(update={"reason": f"{one.reason}{at}"})
    raise ValueError("no points")


def _judged(claim: Claim, told: Told) -> JudgedClaim:
    state, reason = told
    return JudgedClaim(
        text=claim.text, asserts=claim.asserts, measure=claim.measure,
        conditions=claim.conditions, state=state, reason=reason,
    )  # fmt: skip


def _at_point(
    claim: Claim,
    ratios: Mapping[str, Mapping[Pair, Ratio]],
    point: Point,
    lanes: Sequence[LaneFindings],
    targets: Targets,
) -> Told:
    if not claim.is_about(point):
        return _OTHER_POINT
    if claim.crossing:
        return "not of this point", "It speaks of all sizes together."
    if claim.meets and claim.lane:
        found = next((lane for lane in lanes if lane.id == claim.lane), None)
        return _target(claim.meets, found, targets)
    names = {lane.id: lane.name for lane in lanes}
    wrong = {lane.id: lane.name for lane in lanes if lane.agreement and not lane.agreement.agrees}
    own = ratios.get(claim.measure, {})
    if claim.order:
        return _in_order(claim.order, own, wrong, names)
    assert claim.lower is not None and claim.higher is not None
    ratio = _of_pair(own, claim.higher, claim.lower)
    if ratio is None:
        return "not measured", "One of the two lanes has no such figure here."
    return _wrong(claim.lanes, wrong) or _of_two(claim, ratio)


def _of_pair(ratios: Mapping[Pair, Ratio], base: str, lane: str) -> Ratio | None:
    """How many times less a lane takes than another."""
    if ratio := ratios.get((base, lane)):
        return ratio
    back = ratios.get((lane, base))
    return turned(back) if back else None


def _wrong(lanes: Sequence[str], wrong: Mapping[str, str]) -> Told | None:
    """Whether a lane gives a wrong answer; ``wrong`` are the names of those that do, by id."""
    odd = [wrong[lane] for lane in lanes if lane in wrong]
    return ("contradicted", f"{odd[0]} does not give the right answer here.") if odd else None


def _of_two(claim: Claim, ratio: Ratio) -> Told:
    figures = f"Here: {ratio_told(ratio)}."
    less = ratio.verdict in _LESS
    # Of a lane that was ended at a limit the factor is one bound and no more.
    low, high = ratio.low, ratio.high
    if ratio.bound == "at least":
        low, high = ratio.value, None
    if claim.at_least is not None:
        return _within((claim.at_least, None), (low, high), ratio, figures)
    if claim.between is not None:
        least, most = claim.between
        return _within((least, most), (low, high), ratio, figures)
    if not less:
        return ("cannot tell" if ratio.verdict == "not told apart" else "contradicted"), figures
    return "holds", f"{figures}{_moved(claim.factor, low, high)}"


def _moved(factor: float | None, low: float | None, high: float | None) -> str:
    """Whether the factor that was seen when a direction was pinned is another now."""
    if factor is None or low is None or high is None or low <= factor <= high:
        return ""
    way = "less" if high < factor else "more"
    then = f"{three_figures(factor)} times then, {way} now"
    return f" The direction is what is claimed, and holds; {then}."


Bounds = tuple[float | None, float | None]


def _within(claimed: tuple[float, float | None], found: Bounds, ratio: Ratio, figures: str) -> Told:
    """Whether a factor lies between two, by its interval."""
    (least, most), (low, high) = claimed, found
    inside = f"{least:,.10g}{'' if most is None else f' to {most:,.10g}'} times"
    if low is not None and low >= least and (most is None or (high is not None and high <= most)):
        return "holds", figures
    direction = "; that it takes less holds." if ratio.verdict in _LESS else "."
    beyond = ""
    if high is not None and high < least:
        beyond = f"less than {least:,.10g}"
    elif low is not None and most is not None and low > most:
        beyond = f"more than {most:,.10g}"
    if beyond and ratio.verdict in _LESS:
        return "weakened", f"{figures} That is {beyond} times{direction}"
    apart = ratio.verdict not in (*_LESS, "not told apart")
    if beyond or (apart and (most is None or (_more(ratio) and least >= 1))):
        return "contradicted", figures
    return "cannot tell", f"{figures} Whether it is {inside} is not told{direction}"


def _target(aim: Aim, lane: LaneFindings | None, targets: Targets) -> Told:
    """Whether a lane meets a target, by the interval of its median."""
    target = getattr(targets, aim)
    found = None if lane is None else lane.elapsed if aim == "elapsed" else lane.peak_memory
    if target is None:
        return "not measured", "There is no such target."
    if lane is not None and lane.state == "limit":
        return "contradicted", f"It {lane.trouble}."
    if lane is None or found is None:
        return "not measured", "The lane has no such figure here."
    if lane.gives_wrong_answer:
        return "contradicted", f"{lane.name} does not give the right answer here."
    told = format_seconds if aim == "elapsed" else format_bytes
    span = (
        ""
        if found.low is None or found.high is None
        else f" ({told(found.low)} to {told(found.high)})"
    )
    reason = f"Here: {told(found.median)}{span}; the target is {told(target)}."
    if found.low is None or found.high is None:
        return "cannot tell", reason
    if found.high <= target:
        return "holds", reason
    return ("contradicted" if found.low > target else "cannot tell"), reason


def _in_order(
    order: Sequence[str],
    ratios: Mapping[Pair, Ratio],
    wrong: Mapping[str, str],
    names: Mapping[str, str],
) -> Told:
    """Whether each lane takes less than the one behind it."""
    if odd := _wrong(order, wrong):
        return odd
    found = [(first, second, _of_pair(ratios, second, first)) for first, second in pairwise(order)]
    for first, second, ratio in found:
        if ratio is None:
            told = " or ".join(names.get(lane, lane) for lane in (first, second))
            return "not measured", f"{told} has no such figure here."
    known = [(names[one], names[other], ratio) for one, other, ratio in found if ratio is not None]
    back = [f"{one} takes more than {other}" for one, other, ratio in known if _more(ratio)]
    level = [
        f"{one} and {other}: {ratio.verdict}"
        for one, other, ratio in known
        if ratio.verdict in _LEVEL
    ]
    if not back and not level:
        return "holds", "Each takes less than the next here."
    reason = f"Here: {'; '.join([*back, *level])}."
    if not back:
        return "cannot tell", reason
    # The first that still takes the least is the most of what was claimed.
    ahead = [_of_pair(ratios, lane, order[0]) for lane in order[1:]]
    if all(ratio is not None and ratio.verdict in _LESS for ratio in ahead):
        return "weakened", f"{reason} That {names[order[0]]} takes the least holds."
    return "contradicted", reason


def _more(ratio: Ratio) -> bool:
    """Whether the lane is told to take more."""
    return ratio.verdict not in (*_LESS, *_LEVEL)


def _along(
    claim: Claim, crossing: CrossingClaimed, point: Point, points: Sequence[Findings]
) -> Told:
    """Where a lane passes another along a knob, all else being as it is at a point."""
    if not claim.is_about(point) or crossing.knob not in point:
        return _OTHER_POINT
    assert claim.lower is not None and claim.higher is not None
    along = {crossing.knob, *going_with([found.point for found in points], crossing.knob)}
    others = beside(point, along)
    rated: list[Rated] = []
    for found in points:
        size = found.point.get(crossing.knob)
        # Sizes are looked at by their logarithms.
        if isinstance(size, bool) or not isinstance(size, int | float) or size <= 0:
            continue
        if beside(found.point, along) != others:
            continue
        if odd := _wrong(
            claim.lanes, {lane.id: lane.name for lane in found.lanes if lane.gives_wrong_answer}
        ):
            return odd
        pairs = {(pair.base, pair.lane): pair.ratio for pair in found.pairs}
        if ratio := _of_pair(pairs, claim.higher, claim.lower):
            rated.append((float(size), ratio))
    rated.sort(key=lambda one: one[0])
    if len(rated) < 2:
        return "not measured", f"Both lanes ran at fewer than two sizes of {crossing.knob}."
    return _crossed(crossing, rated)


def _crossed(crossing: CrossingClaimed, rated: Sequence[Rated]) -> Told:
    found = passing(rated)
    if found is None:
        (_, smallest), (_, largest) = rated[0], rated[-1]
        if smallest.verdict in _LESS:
            return "contradicted", "It takes less already at the smallest size that ran."
        if _more(largest):
            return "contradicted", "It takes more at the largest size that ran, too."
        return "cannot tell", "At the ends of what ran the two are not told apart."
    reason = f"Here: it passes at {told_bounds(found.at, found.low, found.high)}."
    low, high = found.low, found.high
    if low is not None and high is not None and crossing.low <= low and high <= crossing.high:
        return "holds", reason
    beyond = low is not None and low > crossing.high
    if beyond or (high is not None and high < crossing.low):
        return "weakened", f"{reason} That it passes holds."
    return "cannot tell", reason
