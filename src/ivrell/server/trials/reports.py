"""Reports of trials as files to be downloaded, with the claims and notes of now."""

import io
import tempfile
import zipfile
from collections.abc import Sequence
from pathlib import Path
from typing import Literal, get_args

from pydantic import BaseModel

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Comparison as ComparisonData
from ivrell.core.records.bundle import SecondOpinion
from ivrell.core.records.points import Point
from ivrell.core.records.tries import TryOutcome
from ivrell.core.report.explained import plan_lines
from ivrell.server.trials.models import Trial, Try

ReportForm = Literal["html", "markdown", "pdf"]
FORMS: tuple[ReportForm, ...] = get_args(ReportForm)

MEDIA: dict[ReportForm, tuple[str, str]] = {
    "html": ("text/html; charset=utf-8", "html"),
    "markdown": ("application/zip", "zip"),
    "pdf": ("application/pdf", "pdf"),
}
"""What each is sent as, and the end of its file's name."""


def two_lanes(given: str) -> tuple[str, str]:
    """ "loop,query" as two lanes. Raises BadInput."""
    base, _, lane = given.partition(",")
    if not base or not lane:
        raise BadInput("A pair is two lanes, such as loop,query.", where="pair")
    return base, lane


def report_of(
    trial: Trial, form: ReportForm, pairs: Sequence[tuple[str, str]], point: Point | None
) -> bytes:
    """The report of a trial that has ended; Markdown in an archive with its drawings.

    Args:
        pairs: lanes that are shown in full, each with the one held against first.
        point: where the pairs are of; the first unless given.

    Raises BadInput.
    """
    # Heavy, and wanted only here: a web server should stay small.
    from ivrell.core.report.document.markdown import report_markdown
    from ivrell.core.report.document.page import report_html
    from ivrell.core.trial.reporting import document_of, written_to

    document = document_of(
        trial.results, now(trial), pairs=pairs, point=point, explained=_explained(trial)
    )
    if form == "html":
        return report_html(document).encode()
    if form == "markdown":
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, text in report_markdown(document).items():
                archive.writestr(name, text)
        return packed.getvalue()
    with tempfile.TemporaryDirectory(prefix="ivrell-report-") as folder:
        return written_to(document, Path(folder) / "report.pdf").read_bytes()


class SummaryShape(BaseModel):
    """A trial in one paragraph, for those who decide."""

    text: str


def summary_of(trial: Trial) -> SummaryShape:
    """What a trial that has ended says in one paragraph. Raises BadInput."""
    # Heavy, and wanted only here: a web server should stay small.
    from ivrell.core.trial.reporting import document_of

    return SummaryShape(text=document_of(trial.results, now(trial)).summary)


def opinion_by(here: Trial, there: Trial) -> SecondOpinion:
    """What held of a trial when another was run, by the claims of now. Raises BadInput."""
    # Heavy, and wanted only here: a web server should stay small.
    from ivrell.core.bundles.again import opinion_of

    if here.pk == there.pk:
        raise BadInput("A trial is no second opinion of itself.", where="of")
    return opinion_of(there.results, here.results, now(there))


def now(trial: Trial) -> ComparisonData | None:
    """The comparison as it is now; None where its file cannot be read any more."""
    try:
        return trial.comparison.data
    except BadInput:
        return None


def _explained(trial: Trial) -> dict[str, str]:
    """How engines carry lanes out, where that was asked of the code that the trial ran."""
    found: dict[str, str] = {}
    tries = Try.objects.filter(comparison=trial.comparison_id, kind=Try.Kind.EXPLAINED)
    for one in tries.exclude(found__isnull=True).order_by("pk"):
        try:
            ran = parse(one.text).approach_called(one.lane)
            same = ran == trial.read.approach_called(one.lane)
        except BadInput:
            continue
        outcome = TryOutcome.model_validate(one.found)
        if same and outcome.plans:
            rows = ", ".join(f"{name} {value}" for name, value in outcome.point.items())
            found[one.lane] = "\n".join([f"At {rows}:", *plan_lines(outcome.plans)])
    return found
