"""Lanes that descend from each other, read as steps from the first to the last."""

from collections.abc import Mapping, Sequence

from ivrell.core.comparison.model import Comparison
from ivrell.core.records.findings import LaneFindings, PairRatio, Ratio, Staircase, StairStep
from ivrell.core.report.code_diff import code_diff, lines_changed


def staircases(
    comparison: Comparison, lanes: Sequence[LaneFindings], pairs: Sequence[PairRatio]
) -> list[Staircase]:
    """A staircase for every lane that no other descends from and that has a parent itself, in the
    order of the file. Lanes that did not run at the point are no steps; their children descend
    from the nearest ancestor that did.
    """
    ran = {lane.id: lane for lane in lanes}
    parents = {approach.id: approach.parent for approach in comparison.approach}
    nearest = {lane: _nearest(lane, parents, ran) for lane in ran}
    has_children = set(nearest.values())
    ratios = {(pair.base, pair.lane): pair.ratio for pair in pairs}
    found = []
    for lane in ran:
        if lane in has_children or nearest[lane] is None:
            continue
        chain = [lane]
        while (above := nearest[chain[-1]]) is not None:
            chain.append(above)
        found.append(_staircase(comparison, [ran[one] for one in reversed(chain)], ratios))
    return found


def _nearest(
    lane: str, parents: Mapping[str, str | None], ran: Mapping[str, LaneFindings]
) -> str | None:
    """The nearest ancestor that ran; None where there is none, or the file goes in a circle."""
    seen = {lane}
    above = parents.get(lane)
    while above is not None and above not in seen:
        if above in ran:
            return above if not _circular(lane, parents) else None
        seen.add(above)
        above = parents.get(above)
    return None


def _circular(lane: str, parents: Mapping[str, str | None]) -> bool:
    seen = set()
    at: str | None = lane
    while at is not None:
        if at in seen:
            return True
        seen.add(at)
        at = parents.get(at)
    return False


def _staircase(
    comparison: Comparison,
    lanes: Sequence[LaneFindings],
    ratios: Mapping[tuple[str, str], Ratio],
) -> Staircase:
    target = comparison.targets.elapsed
    steps = []
    for place, lane in enumerate(lanes):
        above = lanes[place - 1] if place else None
        steps.append(_step(comparison, lanes[0], above, lane, ratios))
    meeting = (step.lane for step in steps if step.meets_target)
    return Staircase(steps=steps, target_s=target, first_to_meet=next(meeting, None))


def _step(
    comparison: Comparison,
    first: LaneFindings,
    above: LaneFindings | None,
    lane: LaneFindings,
    ratios: Mapping[tuple[str, str], Ratio],
) -> StairStep:
    took = lane.elapsed.median if lane.elapsed else None
    gain = ratios.get((above.id, lane.id)) if above else None
    changed, saved = 0, None
    if above:
        code = [comparison.approach_called(one.id).text() for one in (above, lane)]
        changed = lines_changed(code_diff(*code))
        if changed and took is not None and above.elapsed and first.elapsed:
            saved = (above.elapsed.median - took) / first.elapsed.median / changed
    target = comparison.targets.elapsed
    meets = lane.trusted and took is not None and target is not None and took <= target
    return StairStep(
        lane=lane.id,
        name=lane.name,
        elapsed_s=took,
        gain=gain,
        so_far=ratios.get((first.id, lane.id)),
        lines_changed=changed,
        gain_per_line=saved,
        code_lines=lane.code_lines,
        meets_target=None if target is None else meets,
        slower=gain is not None and gain.verdict == "slower",
        wrong=lane.gives_wrong_answer,
        trouble=lane.trouble,
    )
