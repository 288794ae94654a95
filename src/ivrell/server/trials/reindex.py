"""Making the records of trials anew from their result folders, which hold everything."""

import datetime
import logging
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.core.management.color import no_style
from django.db import connection, transaction

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from ivrell.core.records.events import LiveEvent, RunEnded, TrialEnded
from ivrell.core.records.run import RunRecord
from ivrell.core.results.folder import DATA, FINDINGS, ORIGIN, REMARKS, ResultFolder
from ivrell.core.trial.plan import PLAN, most_runs
from ivrell.server.comparisons.models import Comparison
from ivrell.server.jobs.models import Job
from ivrell.server.trials import kept as kept_replies
from ivrell.server.trials.models import Event, Run, Trial

log = logging.getLogger("ivrell.trials")


@dataclass(frozen=True)
class Reindexed:
    """What was done: trials whose records are new or made anew, and folders that could not be
    read, with the reason."""

    trials: int
    runs: int
    refused: dict[str, str]


def reindex() -> Reindexed:
    """Bring the records of all trials that have ended into line with their result folders.

    A trial without a record comes to the comparison of the same name, or to a new one made of
    the text that it ran; one that came as a bundle always to a new one, as when it came. Trials
    under way are left alone.
    """
    trials = runs = 0
    refused: dict[str, str] = {}
    folders = [path for path in (settings.IVRELL_DATA / "trials").glob("*") if path.name.isdigit()]
    for path in sorted(folders, key=lambda path: int(path.name)):
        if Trial.objects.under_way().filter(pk=int(path.name)).exists():
            continue
        try:
            runs += take_up(int(path.name), ResultFolder(path))
            trials += 1
        except (BadInput, KeyError, TypeError, ValueError) as error:
            refused[str(path)] = str(error)
            log.warning("%s is not taken up: %s", path, error)
    for sql in connection.ops.sequence_reset_sql(no_style(), [Trial]):
        with connection.cursor() as cursor:
            cursor.execute(sql)
    return Reindexed(trials, runs, refused)


@transaction.atomic
def take_up(number: int, kept: ResultFolder) -> int:
    """Make one trial's record from its folder; how many runs it has."""
    text = kept.comparison_text
    plan = kept.read(PLAN)
    data = parse(text)
    found = kept.read(FINDINGS) if kept.has_ended else None
    began, ended = _times(kept.path)
    trial = Trial.objects.filter(pk=number).first() or Trial(
        pk=number,
        comparison=_comparison(data.name, text, foreign=kept.has(ORIGIN)),
        job=Job.objects.create(kind="trial", started_at=began, finished_at=ended),
    )
    trial.text, trial.plan = text, plan.model_dump(mode="json")
    trial.planned_runs = most_runs(data, plan)
    trial.job.state = found.ended if found else Job.State.STOPPED
    trial.job.save(update_fields=["state"])
    tables = kept.read(DATA) if kept.has(DATA) else []
    if kept.has(REMARKS):
        said = kept.read(REMARKS)
        trial.name, trial.note, trial.kept = said.name, said.note, said.kept
    trial.origin = kept.read(ORIGIN).model_dump(mode="json") if kept.has(ORIGIN) else None
    trial.sessions = [session.model_dump(mode="json") for session in kept.sessions()]
    trial.data = [table.model_dump(mode="json") for table in tables]
    if found:
        trial.keep_agreement(found)
    trial.save()
    trial.runs.all().delete()
    runs = kept.runs()
    Run.objects.bulk_create(
        Run(
            trial=trial,
            number=run.run,
            approach=run.approach,
            state=run.state,
            record=run.model_dump(mode="json"),
            curve=kept.curve(run.run),
        )
        for run in runs
    )
    trial.keep_conclusion()
    kept_replies.keep(trial)
    _tell_again(trial, runs)
    return len(runs)


def _tell_again(trial: Trial, runs: Sequence[RunRecord]) -> None:
    """Keep the events that a page draws an ended trial from, where none are kept."""
    if trial.events.exists():
        return
    told: list[LiveEvent] = [RunEnded(record=run).short for run in runs]
    told.append(TrialEnded(state=trial.state))
    Event.objects.bulk_create(
        Event(trial=trial, kind=event.kind, fields=event.model_dump(mode="json", exclude={"kind"}))
        for event in told
    )


def _comparison(name: str, text: str, *, foreign: bool) -> Comparison:
    """The comparison that a trial without a record comes to. What came from somebody else has one
    of its own, whose code nobody has read as far as anyone can tell."""
    if foreign:
        made = Comparison.objects.from_text(text)
        made.unread = True
        made.save(update_fields=["unread"])
        return made
    present = Comparison.objects.present().filter(name=name)
    return present.first() or Comparison.objects.from_text(text)


def _times(folder: Path) -> tuple[datetime.datetime, datetime.datetime]:
    """When the first and the last of a folder's files were written."""
    written = [path.stat().st_mtime for path in folder.iterdir()]
    first, last = (
        datetime.datetime.fromtimestamp(when, datetime.UTC) for when in (min(written), max(written))
    )
    return first, last
