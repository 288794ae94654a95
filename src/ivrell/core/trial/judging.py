"""The end of a trial: answers held against each other, findings and report written."""

from collections.abc import Callable, Mapping, Sequence
from typing import Literal

from ivrell.core.agreement.record import Answers
from ivrell.core.agreement.sources import Sources
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import FINDINGS_EDITION, TrialFindings
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.session import RunSet
from ivrell.core.report.claims import over_all, with_crossings
from ivrell.core.report.document.page import report_html
from ivrell.core.report.findings import findings
from ivrell.core.report.sweep.findings import sweeps
from ivrell.core.results.folder import AGREEMENT, FINDINGS, REPORT, SWEEP, ResultFolder
from ivrell.core.trial.plan import Plan, points_of, points_with
from ivrell.core.trial.reporting import document_at_end


def judged(
    comparison: Comparison,
    results: ResultFolder,
    taken: RunSet,
    answers: Answers,
    sources: Callable[[Point], Sources],
    *,
    lanes: list[str],
    made: Sequence[MadeTable],
    ended: Literal["done", "stopped"],
    plan: Plan,
) -> TrialFindings:
    """Judge what a trial measured, and write agreement, curves, findings and report.

    Args:
        taken: all runs with their sessions.
        sources: gives the rows that went in at a point.
        lanes: ids of the lanes that ran.
        ended: how the trial ended.
        plan: what it was to do.
    """
    runs = taken.runs
    points = points_with(plan, comparison, (run.point for run in runs))
    agreement = {point_name(point): answers.judge(lanes, point, sources(point)) for point in points}
    return told_of(comparison, results, taken, agreement, made=made, ended=ended, plan=plan)


def told_of(
    comparison: Comparison,
    results: ResultFolder,
    taken: RunSet,
    agreement: Mapping[str, Mapping[str, Agreement]],
    *,
    made: Sequence[MadeTable],
    ended: Literal["done", "stopped"],
    plan: Plan,
) -> TrialFindings:
    """Write what follows of runs and of their agreement, by the name of the point and by lane; as
    ``judged`` takes them."""
    runs = taken.runs
    points = points_with(plan, comparison, (run.point for run in runs))
    results.keep(AGREEMENT, agreement)
    results.write_curves(run.run for run in runs)
    told = with_crossings(
        comparison.claim,
        [
            findings(comparison, taken, agreement.get(point_name(point), {}), point, made)
            for point in points
        ],
    )
    found = TrialFindings(
        edition=FINDINGS_EDITION,
        ended=ended,
        points=told,
        claims=over_all(comparison.claim, told) if told else [],
        sweeps=sweeps(
            comparison,
            taken,
            told,
            plan.limits.memory_bytes,
            named=points_of(plan, comparison),
            stepped=plan.step_up and ended == "done",
            search=plan.search,
        ),
    )
    # First, so that findings that are there are whole.
    if found.sweeps:
        results.keep(SWEEP, found.sweeps)
    results.keep(FINDINGS, found.model_copy(update={"sweeps": []}))
    results.write(
        REPORT, report_html(document_at_end(comparison, results, found, taken, plan, made))
    )
    return found
