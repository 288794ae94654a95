"""More of the same: rounds, lanes and sizes that are added to a trial that has ended.

Lanes that come later are run beside one that ran before, the anchor, in rounds of their own: what
the machine does otherwise by then falls out of the ratio by way of it.
"""

from collections.abc import Sequence

from pydantic import ValidationError

from ivrell.core.base.errors import BadInput
from ivrell.core.base.wording import told
from ivrell.core.comparison.alike import as_run, others_than_lanes
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.plan import Plan
from ivrell.core.records.points import Value, point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import More, Stretch
from ivrell.core.trial.plan import chosen_approaches, points_of

MOST_TOLD = 200
"""Rounds at the most that are added until something is told."""


def extended(
    comparison: Comparison, plan: Plan, runs: Sequence[RunRecord], more: More
) -> tuple[Plan, Stretch]:
    """What a trial's plan is with something added, and what its next session does of it.

    Args:
        comparison: that the trial is of, with the lanes that are added.
        plan: of the trial so far.
        runs: of it.
        more: what is added.

    Raises BadInput where nothing is asked for, or what cannot be added.
    """
    counted = [run for run in runs if run.counted]
    if not counted:
        raise BadInput("Nothing has been counted in this trial.", hint="Run it anew.")
    asked = [name for name in ("lanes", "knobs") if getattr(more, name)]
    told = more.told_within_minutes
    if len(asked) > 1 or not (asked or more.rounds or told) or (asked and told):
        raise BadInput(
            "Add rounds, or lanes, or values of knobs.", where="more", hint="One of them at a time."
        )
    here = [run for run in counted if more.point is None or run.point == more.point]
    if not here:
        raise BadInput("This trial has no such point.", where="point")
    once = _but(plan, until=None, search=None)
    last = max(run.round for run in here)
    if more.lanes:
        return _lanes(comparison, plan, once, counted, more)
    if more.knobs:
        return _values(comparison, plan, more, last)
    asked_plan = _but(once, rounds=more.rounds or MOST_TOLD)
    points = [] if more.point is None else [more.point]
    # The plan says how many rounds there are at every point.
    fixed = not (points or plan.until or told)
    rounds = {"rounds": max(last, plan.rounds) + more.rounds} if fixed else {}
    stretch = Stretch(
        plan=asked_plan, first_round=last + 1, points=points, told_within_minutes=told
    )
    return _but(plan, **rounds), stretch


def _lanes(
    comparison: Comparison, plan: Plan, once: Plan, counted: Sequence[RunRecord], more: More
) -> tuple[Plan, Stretch]:
    ran = {run.approach for run in counted}
    for lane in more.lanes:
        comparison.approach_called(lane)
        if lane in ran:
            raise BadInput(f"{lane} has run in this trial.", where="lanes", hint="Add rounds.")
    last = max(run.round for run in counted)
    anchor = anchor_of(comparison, counted)
    order = [approach.id for approach in comparison.approach]
    beside = sorted({anchor, *more.lanes}, key=order.index)
    rounds = more.rounds or last
    stretch = _but(once, approaches=beside, rounds=rounds)
    both = {*chosen_approaches(plan, comparison), *more.lanes} & {*ran, *more.lanes}
    whole = _but(plan, approaches=sorted(both, key=order.index))
    return whole, Stretch(plan=stretch, first_round=last + 1)


def anchor_of(comparison: Comparison, counted: Sequence[RunRecord]) -> str:
    """The lane that later ones are run beside: the baseline, or the one that took the least time
    where that did not run."""
    times: dict[str, float] = {}
    for run in counted:
        times[run.approach] = times.get(run.approach, 0.0) + (run.elapsed_s or 0.0)
    baseline = comparison.baseline_id
    return baseline if baseline in times else min(times, key=lambda lane: times[lane])


def _values(comparison: Comparison, plan: Plan, more: More, last: int) -> tuple[Plan, Stretch]:
    if plan.points:
        raise BadInput(
            "Values of knobs that go together cannot be added to.",
            where="knobs",
            hint="Run a trial of its own at them.",
        )
    there = {knob: plan.knobs.get(knob) or values[:1] for knob, values in comparison.knobs.items()}
    known = {point_name(point) for point in points_of(plan, comparison)}
    knobs = {knob: _with(values, more.knobs.get(knob, [])) for knob, values in there.items()}
    whole = _but(plan, knobs=knobs)
    new = [point for point in points_of(whole, comparison) if point_name(point) not in known]
    if not new:
        raise BadInput("All of these values have run.", where="knobs", hint="Add rounds.")
    asked = _but(whole, rounds=more.rounds or last, until=None, search=None)
    return whole, Stretch(plan=asked, points=new)


def _but(plan: Plan, **fields: object) -> Plan:
    """The plan with some fields that are others. Raises BadInput where it is none then."""
    try:
        return Plan.model_validate({**dict(plan), **fields})
    except ValidationError as error:
        problem = told(error)
        raise BadInput(
            f"So much cannot be added to a trial: {problem.message}.",
            where=problem.path,
            hint="Add less, or run a trial of its own.",
        ) from None


def _with(values: Sequence[Value], more: Sequence[Value]) -> list[Value]:
    found = list(dict.fromkeys([*values, *more]))
    if all(type(value) in (int, float) for value in found):
        return sorted(found, key=lambda value: float(str(value)))
    return found


def text_with(before: str, now: str, runs: Sequence[RunRecord], lanes: Sequence[str]) -> str:
    """The text that a trial goes on with where lanes are added: its own where it has them, else
    that of now. Raises BadInput where what ran is another there.

    Args:
        before: the text that the trial ran.
        now: of the comparison as it is.
        runs: of the trial.
        lanes: that are added.
    """
    one = parse(before)
    known = {approach.id for approach in one.approach}
    if all(lane in known for lane in lanes):
        return before
    other = parse(now)
    differs = others_than_lanes(one, other)
    for lane in dict.fromkeys(run.approach for run in runs):
        there = next((own for own in other.approach if own.id == lane), None)
        if there is None or as_run(there) != as_run(one.approach_called(lane)):
            differs.append(f"lane {lane}")
    if differs:
        raise BadInput(
            f"What this trial ran is not what the comparison says now: {', '.join(differs)}.",
            where="lanes",
            hint="Run a trial anew.",
        )
    return now
