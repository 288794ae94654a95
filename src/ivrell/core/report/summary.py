"""The whole of a trial in one paragraph, in plain words, for those who decide."""

from collections.abc import Sequence

from ivrell.core.comparison.model import Comparison
from ivrell.core.records.findings import CLAIM_STATES, Findings, JudgedClaim, TrialFindings
from ivrell.core.report.words import knobs_told

_STATE_WORDS = {
    "holds": "holds", "weakened": "is weakened", "contradicted": "is contradicted",
    "cannot tell": "is not told yet",
}  # fmt: skip


def summary(comparison: Comparison, found: TrialFindings, claims: Sequence[JudgedClaim]) -> str:
    """One paragraph of what a trial says: who wins and by how much, at which sizes, whether the
    answers are the same, what could change it, what became of claims, on what it was measured."""
    if not found.points:
        return "Nothing was measured."
    words = [(sweep.knob, sweep.words) for sweep in found.sweeps if sweep.words]
    # Where a rule over sizes is known it is the answer, and the largest size an example of it.
    if words:
        knob, rule = words[0]
        first = max(found.points, key=lambda point: _size(point, knob))
        parts = [rule, first.conclusion]
    else:
        first = found.points[0]
        parts = [first.conclusion, first.tradeoff, first.target]
    parts += [_answers(found.points), _doubts(found.points), _claims(claims)]
    if first.conditions:
        parts.append(f"Measured at {', '.join(first.conditions)}.")
    if found.ended != "done":
        parts.append("The trial was stopped before its end.")
    return " ".join(part.strip() for part in parts if part)


def _size(found: Findings, knob: str) -> float:
    value = found.point.get(knob)
    return float(value) if isinstance(value, int | float) else 0.0


def _answers(points: Sequence[Findings]) -> str:
    told = [lane for found in points for lane in found.lanes if lane.agreement]
    wrong = {
        lane.name: found for found in points for lane in found.lanes if lane.gives_wrong_answer
    }
    if not told or len({lane.id for lane in told}) < 2:
        return ""
    if not wrong:
        return "All answers that were given are the same."
    names = " and ".join(list(wrong)[:3])
    more = f" and {len(wrong) - 3} others" if len(wrong) > 3 else ""
    at = knobs_told(next(iter(wrong.values())).point) if len(points) > 1 else []
    where = f" (first at {', '.join(at)})" if at else ""
    return f"{names}{more} {'gives' if len(wrong) == 1 else 'give'} another answer{where}."


def _doubts(points: Sequence[Findings]) -> str:
    """What could change the winner, each once."""
    found = dict.fromkeys(
        caution.word for point in points for caution in point.cautions if caution.reach == "winner"
    )
    return f"What could change the winner: {', '.join(found)}." if found else ""


def _claims(claims: Sequence[JudgedClaim]) -> str:
    told = []
    for state in CLAIM_STATES:
        count = sum(claim.state == state for claim in claims)
        if count and state in _STATE_WORDS:
            words = _STATE_WORDS[state]
            words = (
                words if count == 1 else words.replace("holds", "hold").replace("is ", "are ", 1)
            )
            told.append(f"{count} {words}")
    if not told:
        return ""
    of = f"Of {len(claims)} claims " if len(claims) > 1 else "Of the claim made, "
    return f"{of}{', '.join(told)}."
