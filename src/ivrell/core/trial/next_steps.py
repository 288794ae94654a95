"""What to look at next, of a result folder."""

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from ivrell.core.records.machine import Machine
from ivrell.core.records.next_steps import NextSteps
from ivrell.core.records.points import Point
from ivrell.core.report.next_steps import next_steps
from ivrell.core.results.folder import FINDINGS, PLAN, ResultFolder


def next_of(results: ResultFolder, point: Point | None = None) -> NextSteps:
    """What a trial that has ended leaves open, at a point (the first unless given). Raises
    BadInput where it has not ended, or the point did not run."""
    if not results.has_ended:
        raise BadInput("This trial has not ended.", hint="Wait for its end, or go on with it.")
    trial = results.read(FINDINGS)
    here = [one for one in trial.points if point is None or one.point == point]
    if not here:
        raise BadInput("The trial has no such point.", where="point")
    sessions = results.sessions()
    machine = sessions[-1].machine if sessions else Machine()
    plan = results.read(PLAN)
    cores = plan.cores or int(machine.quota_cores or machine.cores or 1)
    comparison = parse(results.comparison_text)
    return NextSteps(steps=next_steps(comparison, plan, trial, here[0], cores))
