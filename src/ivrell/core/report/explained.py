"""How engines carry statements out, as text."""

from collections.abc import Iterator, Sequence

from ivrell.core.base.quantities import format_seconds
from ivrell.core.records.wire import StatementPlan, Step


def plan_lines(plans: Sequence[StatementPlan]) -> Iterator[str]:
    """The plan of each statement as a tree, a step a line."""
    for statement in plans:
        first = (statement.text.strip().splitlines() or [""])[0]
        yield f"line {statement.line}: {first}"
        if statement.plan:
            yield from _step(statement.plan, 1)
        else:
            yield "  carried out, not explained"


def _step(step: Step, depth: int) -> Iterator[str]:
    told = [step.what, step.detail]
    if step.rows is not None:
        expected = step.expected_rows
        guess = "" if expected is None else f" ({expected:,.0f} expected)"
        told.append(f"{step.rows:,.0f} rows{guess}")
    if step.own_s is not None:
        told.append(format_seconds(step.own_s))
    yield "  " * depth + ", ".join(filter(None, told))
    for below in step.steps:
        yield from _step(below, depth + 1)
