"""The report of a result folder, as its comparison's claims and notes are now."""

import datetime
from collections.abc import Mapping, Sequence
from pathlib import Path

from ivrell.core.agreement.record import Answers
from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.edit import data_text, with_remarks_of
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.cost import CostFindings
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import Findings, TrialFindings
from ivrell.core.records.pair import PairFindings
from ivrell.core.records.plan import Plan
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.session import RunSet
from ivrell.core.report.claims import over_all, with_crossings
from ivrell.core.report.document.content import Document
from ivrell.core.report.document.markdown import report_markdown
from ivrell.core.report.document.page import report_html
from ivrell.core.report.document.paper import report_pdf
from ivrell.core.report.findings import findings
from ivrell.core.report.pair import pair_findings
from ivrell.core.results.folder import AGREEMENT, DATA, FINDINGS, PLAN, SWEEP, ResultFolder
from ivrell.core.trial.costing import cost_of

PairAsked = tuple[str, str]
"""Two lanes by id: what the other is held against, and the other."""


def pair_of(
    comparison: Comparison, taken: RunSet, answers: Path, found: Findings, asked: PairAsked
) -> PairFindings:
    """Two lanes held against each other at the point that findings are of.

    Args:
        answers: the folder of answers that were kept.

    Raises BadInput where one of them did not run there.
    """
    base, lane = asked
    kept = Answers(comparison, answers)
    for run in taken.at(found.point).runs:
        if run.answer_fingerprint:
            kept.count_kept(run.approach, run.point, run.answer_fingerprint)
    agreement = kept.of_two(base, lane, found.point)
    return pair_findings(comparison, taken, found, base, lane, agreement)


def document_of(
    results: ResultFolder,
    now: Comparison | None = None,
    *,
    pairs: Sequence[PairAsked] = (),
    point: Point | None = None,
    explained: Mapping[str, str] | None = None,
) -> Document:
    """What the report of a trial that has ended says.

    Args:
        now: the comparison whose claims and notes it has; as it was run unless given. Those that
            name lanes that did not run are left out.
        pairs: those that are shown in full, at ``point`` or at the first.
        explained: how engines carry lanes out, by lane, where that is known.

    Raises BadInput where the trial has not ended, or a pair is not of it.
    """
    if not results.has_ended:
        raise BadInput("This trial has not ended.", hint="Wait for its end, or go on with it.")
    text = results.comparison_text
    ran = parse(text)
    comparison = ran if now is None else parse(with_remarks_of(text, now))
    found = results.read(FINDINGS)
    taken = results.run_set()
    made: list[MadeTable] = results.read(DATA) if results.has(DATA) else []
    points = found.points
    judged = all(len(one.claims) == len(comparison.claim) for one in points)
    if comparison.claim != ran.claim or not judged:
        agreement = results.read(AGREEMENT)
        points = [
            findings(comparison, taken, agreement.get(point_name(one.point), {}), one.point, made)
            for one in points
        ]
    points = with_crossings(comparison.claim, points)
    there = next((one for one in points if point is None or one.point == point), None)
    if pairs and there is None:
        raise BadInput("The trial has no such point.", where="point")
    sweeps = results.read(SWEEP) if results.has(SWEEP) else []
    now_told = datetime.datetime.now(datetime.UTC)
    return Document(
        comparison=comparison,
        found=found.model_copy(update={"points": points, "sweeps": sweeps}),
        claims=over_all(comparison.claim, points) if points else [],
        notes=comparison.note,
        plan=results.read(PLAN) if results.has(PLAN) else Plan(),
        sessions=results.sessions(),
        made=made,
        recipe=data_text(text).strip(),
        pairs=[pair_of(comparison, taken, results.answers, there, asked) for asked in pairs]
        if there
        else [],
        explained=explained or {},
        cost=_cost(results, now or ran),
        written=f"{now_told:%Y-%m-%d %H:%M} UTC",
    )


def _cost(results: ResultFolder, now: Comparison) -> CostFindings | str | None:
    """What the report says of costs; in words what is missing."""
    if now.cost is None:
        return None
    try:
        return cost_of(results, now=now)
    except BadInput as error:
        return error.what


FORMS = (".html", ".md", ".pdf")
"""What a report can be, by the end of its file's name."""


def written_to(document: Document, to: Path) -> Path:
    """Write a report to a file, as its name ends: a page, Markdown with its drawings beside it, or
    PDF by a browser. Raises BadInput."""
    if to.suffix not in FORMS:
        raise BadInput(f"A report ends in {', '.join(FORMS)}; {to.name} does not.", where=str(to))
    try:
        if to.suffix == ".pdf":
            report_pdf(report_html(document), to)
        elif to.suffix == ".html":
            to.write_text(report_html(document), encoding="utf-8")
        else:
            for name, text in report_markdown(document, to.stem).items():
                (to.parent / name).write_text(text, encoding="utf-8")
    except OSError as error:
        raise BadInput(f"The report cannot be written: {error.strerror}.", where=str(to)) from None
    return to


def document_at_end(
    comparison: Comparison,
    results: ResultFolder,
    found: TrialFindings,
    taken: RunSet,
    plan: Plan,
    made: Sequence[MadeTable],
) -> Document:
    """The same as a trial ends, from what is at hand."""
    return Document(
        comparison=comparison,
        found=found,
        claims=found.claims,
        notes=comparison.note,
        plan=plan,
        sessions=taken.sessions,
        made=made,
        recipe=data_text(results.comparison_text).strip(),
    )
