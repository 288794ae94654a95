"""What does the work of trials: conducting, judging again, trying a lane."""

import logging
import time
from pathlib import Path
from shutil import rmtree
from typing import TYPE_CHECKING

from django.conf import settings
from django.utils import timezone

from ivrell.core.base.errors import BadInput, Stopped, room_on_disk
from ivrell.core.base.temp_dirs import own_folder
from ivrell.core.records.events import (
    DataMade,
    DataProgress,
    Judged,
    RunEnded,
    SessionSeen,
    TrialEnded,
    TrialEvent,
    TrialStarted,
)
from ivrell.core.records.run import RunRecord
from ivrell.core.records.tries import InterruptionOutcome, TryOutcome
from ivrell.core.trial.control import Control
from ivrell.server.jobs.handlers import (
    DUE,
    HANDLERS,
    Handler,
    Hold,
    HoldControl,
    ask_for_those_due,
)
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.runner import do_those_wanted_now
from ivrell.server.trials.kept import keep
from ivrell.server.trials.models import (
    Challenge,
    JudgingAsked,
    Run,
    Schedule,
    StretchAsked,
    Trial,
    Try,
    TryAll,
)

if TYPE_CHECKING:
    from ivrell.core.recipe.store import DataStore
    from ivrell.core.trial.conduct import Trial as CoreTrial

log = logging.getLogger("ivrell.trials")
_ASK_EVERY_S = 0.5
_CHALLENGES = 3
"""Of a comparison whose trials are kept; what older ones found stays."""

_TELL_DATA_EVERY_S = 0.3
_LOOK_FOR_DUE_EVERY_S = 60.0


class Conductor:
    """Brings what the core tells into records and events, and asks them for stops."""

    def __init__(self, trial: Trial, hold: Hold) -> None:
        self.trial = trial
        self._hold = hold
        self._asked_at = 0.0
        self._told_data_at = 0.0
        self._looked_for_due_at = time.monotonic()

    def listen(self, event: TrialEvent) -> None:
        if isinstance(event, SessionSeen):
            self.trial.sessions = [one.model_dump(mode="json") for one in event.sessions]
            self.trial.save(update_fields=["sessions"])
        elif isinstance(event, DataMade):
            self.trial.data = [table.model_dump(mode="json") for table in event.tables]
            self.trial.save(update_fields=["data"])
            self.trial.tell(DataMade())
        elif isinstance(event, DataProgress):
            if event.rows >= event.total or self._due():
                self.trial.tell(event)
        elif isinstance(event, RunEnded):
            self.keep_run(event.record)
            self.trial.tell(event.short)
        elif not isinstance(event, TrialEnded):
            self.trial.tell(event)

    def _due(self) -> bool:
        if time.monotonic() - self._told_data_at < _TELL_DATA_EVERY_S:
            return False
        self._told_data_at = time.monotonic()
        return True

    def keep_run(self, run: RunRecord) -> None:
        """Bring a run into the records."""
        Run.objects.update_or_create(
            trial=self.trial,
            number=run.run,
            defaults={
                "approach": run.approach,
                "state": run.state,
                "record": run.model_dump(mode="json"),
                "curve": self.trial.results.curve(run.run),
            },
        )

    def stop_all(self) -> bool:
        return self._hold.stopped()

    def _ask(self) -> None:
        if time.monotonic() - self._asked_at >= _ASK_EVERY_S:
            self._asked_at = time.monotonic()
            self.trial.refresh_from_db(fields=["stop_run_asked", "dropped"])

    def stop_run(self, number: int) -> bool:
        self._ask()
        return self.trial.stop_run_asked == number

    def dropped(self) -> set[str]:
        self._ask()
        return set(self.trial.dropped)

    def between_runs(self) -> None:
        self._hold.pause_here()
        if time.monotonic() - self._looked_for_due_at > _LOOK_FOR_DUE_EVERY_S:
            self._looked_for_due_at = time.monotonic()
            ask_for_those_due()
        do_those_wanted_now(self.stop_all)


def _conduct(job: Job, hold: Hold) -> None:
    """Conduct a trial; one that was cut off or paused goes on where it was."""
    from ivrell.core.trial.conduct import Trial as CoreTrial

    trial = job.subject_of(Trial)
    trial.comparison.refuse_unread()
    trial.tell(TrialStarted())
    conductor = Conductor(trial, hold)
    asked = StretchAsked.model_validate(job.asked)
    with room_on_disk(trial.folder):
        _take_over(trial, asked, conductor)
        core = CoreTrial(
            trial.text,
            trial.plan_of,
            trial.folder,
            _store(),
            listen=conductor.listen,
            control=conductor,
            # One that is to end is put in order whatever is here now.
            other_versions=asked.other_versions or job.stop_asked,
            stretch=asked.stretch,
        )
        found = core.conduct()
        for run in core.runs:
            if not trial.runs.filter(number=run.run).exists():
                conductor.listen(RunEnded(record=run))
        trial.keep_agreement(found)
        trial.save(update_fields=["agreement"])
        _trim(core)
    if found.ended == "stopped":
        raise Stopped


def _take_over(trial: Trial, asked: StretchAsked, conductor: Conductor) -> None:
    """Bring in the runs that are kept of another trial, unless they are there."""
    from ivrell.core.results.folder import ResultFolder
    from ivrell.core.trial.changed import take_over

    if asked.takes_over is None or trial.results.runs():
        return
    other = ResultFolder(settings.IVRELL_DATA / "trials" / str(asked.takes_over))
    for run in take_over(other, trial.results, asked.kept):
        conductor.listen(RunEnded(record=run))


def _store() -> "DataStore":
    from ivrell.core.recipe.store import DataStore

    return DataStore(settings.IVRELL_DATA / "made")


def _trim(core: "CoreTrial") -> None:
    """Keep made data within its limit; what somebody uses now is left to the next time."""
    try:
        core.store.trim(settings.MADE_LIMIT_BYTES)
        core.databases.trim(settings.MADE_LIMIT_BYTES)
    except BadInput as error:
        log.info("made data was not trimmed: %s", error)
    finally:
        core.preparation.stop()


def _judge(job: Job, hold: Hold) -> None:
    """Hold a trial's kept answers against another lane's; not while something is measured."""
    from ivrell.core.trial.conduct import Trial as CoreTrial

    asked = JudgingAsked.model_validate(job.asked)
    trial = Trial.objects.get(pk=asked.trial)
    core = CoreTrial(trial.text, trial.plan_of, trial.folder, _store())
    trial.keep_agreement(core.judge_again(asked.reference))
    trial.save(update_fields=["agreement"])
    trial.keep_conclusion()
    keep(trial)
    trial.tell(Judged(reference=asked.reference))


def _try(job: Job, hold: Hold) -> None:
    """Run a lane once on a small size."""
    attempt = job.subject_of(Try)
    attempt.comparison.refuse_unread()
    with own_folder() as folder:
        found = _tried(attempt, folder, _store(), HoldControl(hold))
    if hold.stopped():
        raise Stopped
    attempt.found = found.model_dump(mode="json")
    attempt.save(update_fields=["found"])


def _tried(
    attempt: Try, folder: Path, store: "DataStore", control: Control
) -> TryOutcome | InterruptionOutcome:
    from ivrell.core.comparison.file import parse
    from ivrell.core.hot.found import mode_of
    from ivrell.core.records.wire import EXPLAINED, RUN
    from ivrell.core.trial.interrupted import interrupted
    from ivrell.core.trial.once import HOT_SECONDS, TRY_SECONDS, try_once

    what = (attempt.text, attempt.lane, attempt.rows)
    files = str(settings.IVRELL_DATA / "files")
    if attempt.kind == Try.Kind.INTERRUPTED:
        return interrupted(*what, attempt.share, folder, store, own_files=files, control=control)
    mode, seconds = RUN, TRY_SECONDS
    if attempt.kind == Try.Kind.EXPLAINED:
        mode = EXPLAINED
    elif attempt.kind == Try.Kind.HOT:
        mode = mode_of(parse(attempt.text).approach_called(attempt.lane))
        seconds = HOT_SECONDS
    return try_once(
        *what, folder, store, own_files=files, mode=mode, seconds=seconds, control=control
    )


def _try_all(job: Job, hold: Hold) -> None:
    """Run every lane once at small sizes; how far it is is its progress."""
    from ivrell.core.trial.try_all import try_all

    attempt = job.subject_of(TryAll)
    attempt.comparison.refuse_unread()
    done = 0

    def listen(event: TrialEvent) -> None:
        nonlocal done
        if isinstance(event, RunEnded):
            done += 1
            job.progress = {"runs": done}
            job.save(update_fields=["progress"])

    with own_folder() as folder:
        found = try_all(
            attempt.text, folder, _store(), own_files=str(settings.IVRELL_DATA / "files"),
            listen=listen, control=HoldControl(hold),
        )  # fmt: skip
    if hold.stopped():
        raise Stopped
    attempt.found = found.model_dump(mode="json")
    attempt.save(update_fields=["found"])


def _challenge(job: Job, hold: Hold) -> None:
    """Put a conclusion to the test; how far it is is its progress. What was found until it was
    stopped is kept."""
    from ivrell.api import Comparison
    from ivrell.challenging import challenge

    asked = job.subject_of(Challenge)
    asked.comparison.refuse_unread()
    done = 0

    def listen(event: TrialEvent) -> None:
        nonlocal done
        if isinstance(event, RunEnded):
            done += 1
            job.progress = {"runs": done}
            job.save(update_fields=["progress"])

    # What a worker that died left is begun again.
    rmtree(asked.folder, ignore_errors=True)
    asked.folder.mkdir(parents=True)
    found = challenge(
        Comparison(asked.text, settings.IVRELL_DATA / "files"), minutes=asked.minutes,
        knobs=asked.knobs, folder=asked.folder, progress=listen, control=HoldControl(hold),
    )  # fmt: skip
    asked.found = found.model_dump(mode="json")
    asked.save(update_fields=["found"])
    for older in Challenge.objects.filter(comparison=asked.comparison)[_CHALLENGES:]:
        rmtree(older.folder, ignore_errors=True)
    if hold.stopped():
        raise Stopped


def _keep(job: Job) -> None:
    keep(job.subject_of(Trial))


def launch_due() -> None:
    """Ask for the trials that are due by their schedules."""
    present = Schedule.objects.filter(comparison__deleted_at=None)
    for schedule in present.filter(next_at__lte=timezone.now()).select_related("comparison"):
        schedule.launch()


DUE.append(launch_due)
HANDLERS |= {
    "trial": Handler("The trial", _conduct, "; its runs so far are kept", afterwards=_keep),
    "judging": Handler("Judging anew", _judge),
    "try": Handler("The try", _try),
    "tryall": Handler("Trying all", _try_all),
    "challenge": Handler("The challenge", _challenge),
}
