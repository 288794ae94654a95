"""What a change did to the lead: judged by the findings at its point."""

from collections.abc import Iterable, Sequence

from ivrell.core.challenge.changes import Change
from ivrell.core.records.challenge import (
    CHALLENGE_VERDICTS,
    ChallengeVerdict,
    ChangedLane,
    ChangeOutcome,
)
from ivrell.core.records.findings import Findings, LaneFindings
from ivrell.core.records.points import Point


def leader_of(found: Findings) -> LaneFindings | None:
    """Who is the quickest of those that ended and are right."""
    able = [lane for lane in found.lanes if lane.elapsed and not wrong_with(lane)]
    return min(able, key=lambda lane: lane.elapsed.median, default=None)  # type: ignore[union-attr]


def wrong_with(lane: LaneFindings) -> str:
    """What is wrong with a lane: it did not end, or answers otherwise; "" for nothing."""
    if lane.state != "done" or lane.elapsed is None:
        return lane.trouble or "it did not come to its end"
    told = lane.agreement
    if told is not None and not told.agrees and not told.itself:
        return "; ".join(told.reasons) or str(told.verdict)
    return "it does not give the same answer every time" if told and told.unstable else ""


def judged(
    change: Change, leader: str, before: Findings, found: Findings, *, point: Point, folder: str
) -> ChangeOutcome:
    """The outcome of one change.

    Args:
        change: that was made.
        leader: id of the lane that led before; the ratios of ``found`` are to it.
        before: findings as things are.
        found: findings under the change.
        point, folder: where they are.
    """
    usual = {lane.id: lane for lane in before.lanes}
    lanes = [_changed(lane, usual.get(lane.id)) for lane in found.lanes]
    right = {one.id: one for one in found.lanes if one.elapsed and not wrong_with(one)}
    first = leader_of(found)
    rounds = max((lane.elapsed.count for lane in found.lanes if lane.elapsed), default=0)
    others = [one for name, one in right.items() if name != leader]
    best = min(others, key=lambda one: one.elapsed.median, default=None)  # type: ignore[union-attr]
    lead = best.ratio if best is not None and leader in right else None
    return ChangeOutcome(
        words=change.words, what=change.what, knob=change.knob, usual=change.usual,
        value=change.value, point=point, folder=folder,
        verdict=_verdict(leader, usual, right, others), leader=first.id if first else None,
        # The ratio says how many times faster the other one is: the lead is the other way round.
        lead=1 / lead.value if lead and lead.value else None,
        low=1 / lead.high if lead and lead.high else None,
        high=1 / lead.low if lead and lead.low else None,
        rounds=rounds, lanes=lanes,
    )  # fmt: skip


def _verdict(
    leader: str,
    usual: dict[str, LaneFindings],
    right: dict[str, LaneFindings],
    others: Sequence[LaneFindings],
) -> ChallengeVerdict:
    if leader not in right:
        return "leader wrong" if not wrong_with(usual[leader]) else "unsure"
    told = [one.ratio.verdict if one.ratio else None for one in others]
    if "faster" in told:
        return "turned over"
    return "held" if told and all(verdict == "slower" for verdict in told) else "unsure"


def _changed(lane: LaneFindings, before: LaneFindings | None) -> ChangedLane:
    new = wrong_with(lane) if before is None or not wrong_with(before) else ""
    return ChangedLane(
        lane=lane.id, name=lane.name,
        usual_s=before.elapsed.median if before and before.elapsed else None,
        changed_s=lane.elapsed.median if lane.elapsed else None,
        of_leader=lane.ratio, wrong=new,
    )  # fmt: skip


def not_run(change: Change, reason: str) -> ChangeOutcome:
    """The outcome of a change that could not be looked at."""
    return ChangeOutcome(
        words=change.words, what=change.what, knob=change.knob, usual=change.usual,
        value=change.value, verdict="not run", reason=reason,
    )  # fmt: skip


def in_order(outcomes: Iterable[ChangeOutcome]) -> list[ChangeOutcome]:
    """Those that matter first; of the same verdict the one where the lead is least."""
    return sorted(
        outcomes,
        key=lambda one: (CHALLENGE_VERDICTS.index(one.verdict), one.lead or 0.0),
    )
