"""The end of a trial: answers held against each other, findings and report written."""

from collections.abc import Callable, Sequence
from typing import Literal

from ivrell.core.agreement.record import Answers
from ivrell.core.agreement.sources import Sources
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import FINDINGS_EDITION, TrialFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.report.findings import findings
from ivrell.core.report.html import report_html
from ivrell.core.report.sweep import sweeps
from ivrell.core.results.folder import AGREEMENT, FINDINGS, REPORT, ResultFolder


def judged(
    comparison: Comparison,
    results: ResultFolder,
    runs: Sequence[RunRecord],
    answers: Answers,
    sources: Callable[[Point], Sources],
    *,
    lanes: list[str],
    points: Sequence[Point],
    machine: Machine,
    made: Sequence[MadeTable],
    ended: Literal["done", "stopped"],
    memory_limit: float | None = None,
    step_up: bool = False,
) -> TrialFindings:
    """Judge what a trial measured, and write agreement, curves, findings and report.

    Args:
        sources: gives the rows that went in at a point.
        lanes: ids of the lanes that ran.
        ended: how the trial ended.
        memory_limit: bytes that a run may take.
        step_up: whether sizes went from small to large.
    """
    agreement = {point_name(point): answers.judge(lanes, point, sources(point)) for point in points}
    results.keep(AGREEMENT, agreement)
    results.write_curves(run.run for run in runs)
    told = [
        findings(comparison, runs, agreement[point_name(point)], machine, point, made)
        for point in points
    ]
    found = TrialFindings(
        edition=FINDINGS_EDITION,
        ended=ended,
        points=told,
        sweeps=sweeps(comparison, runs, told, memory_limit, stepped=step_up and ended == "done"),
    )
    results.keep(FINDINGS, found)
    results.write(REPORT, report_html(comparison, found, machine, made))
    return found
