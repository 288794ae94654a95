"""Whether what a trial measured bears out the claims that were pinned."""

from collections.abc import Mapping, Sequence

from ivrell.core.comparison.model import Claim
from ivrell.core.records.findings import ClaimState, JudgedClaim, Ratio
from ivrell.core.records.points import Point
from ivrell.core.report.words import ratio_told
from ivrell.core.stats.contrasts import Pair, turned


def judged_claims(
    claims: Sequence[Claim],
    ratios: Mapping[str, Mapping[Pair, Ratio]],
    point: Point,
    untrusted: Sequence[str],
) -> list[JudgedClaim]:
    """Every claim held against what was measured at a point.

    Args:
        ratios: of every pair of lanes, by key of the measure.
        untrusted: ids of lanes whose answer is not the right one.
    """
    return [_judged(claim, ratios, point, untrusted) for claim in claims]


def _judged(
    claim: Claim,
    ratios: Mapping[str, Mapping[Pair, Ratio]],
    point: Point,
    untrusted: Sequence[str],
) -> JudgedClaim:
    def told(state: ClaimState, reason: str) -> JudgedClaim:
        return JudgedClaim(
            text=claim.text, lower=claim.lower, higher=claim.higher, measure=claim.measure,
            conditions=claim.conditions, state=state, reason=reason,
        )  # fmt: skip

    if not claim.is_about(point):
        return told("not of this point", "It speaks of other values of the knobs.")
    found = ratios.get(claim.measure, {})
    ratio = found.get((claim.higher, claim.lower))
    if ratio is None and (back := found.get((claim.lower, claim.higher))):
        ratio = turned(back)
    if ratio is None:
        return told("not measured", "One of the two lanes has no such figure here.")
    odd = [lane for lane in (claim.lower, claim.higher) if lane in untrusted]
    if odd:
        return told("contradicted", f"{odd[0]} does not give the right answer here.")
    figures = f"Here: {ratio_told(ratio)}."
    if ratio.verdict in ("faster", "less"):
        return told("holds", figures)
    if ratio.verdict == "not told apart":
        return told("cannot tell", figures)
    return told("contradicted", figures)
