"""The queue: trials wait here and run one at a time on a machine.

The web server loads this to put work into the queue; what does the work is loaded by the worker
when there is some.
"""

import logging
import os
import platform
import time
from pathlib import Path
from typing import TYPE_CHECKING

from django.conf import settings
from django.db import InterfaceError, OperationalError
from django.utils import timezone
from procrastinate.contrib.django import app

from ivrell.core.base.errors import BadInput, room_on_disk
from ivrell.core.base.scratch import own_folder
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
from ivrell.core.records.trouble import Trouble
from ivrell.core.trial.control import Control, NoControl
from ivrell.server.parts import FOR_NOW
from ivrell.server.queue import MACHINE_LOCK, QUEUE
from ivrell.server.trials.kept import keep
from ivrell.server.trials.models import Run, Trial, Try
from ivrell.server.troubles import told

if TYPE_CHECKING:
    from ivrell.core.recipe.store import DataStore
    from ivrell.core.trial.conduct import Trial as CoreTrial

log = logging.getLogger("ivrell.trials")
_ASK_EVERY_S = 0.5
_TELL_DATA_EVERY_S = 0.3


class Conductor:
    """Brings what the core tells into records and events, and asks them for stops."""

    def __init__(self, trial: Trial) -> None:
        self.trial = trial
        self._asked_at = 0.0
        self._told_data_at = 0.0

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

    def _ask(self) -> None:
        if time.monotonic() - self._asked_at >= _ASK_EVERY_S:
            self._asked_at = time.monotonic()
            fields = ["stop_asked", "stop_run_asked", "dropped"]
            self.trial.refresh_from_db(fields=fields)

    def stop_all(self) -> bool:
        self._ask()
        return self.trial.stop_asked

    def stop_run(self, number: int) -> bool:
        return self.trial.stop_run_asked == number

    def dropped(self) -> set[str]:
        self._ask()
        return set(self.trial.dropped)

    def between_runs(self) -> None:
        """Do the tries that somebody wants now; no error of theirs is the trial's."""
        for attempt in Try.objects.filter(state=Try.State.WAITING, now=True).order_by("pk"):
            if self.stop_all():
                return
            # First: one that brings the worker down waits its turn the next time.
            attempt.now = False
            attempt.save(update_fields=["now"])
            try:
                _do_try(attempt, _Beside(self))
            except (OperationalError, InterfaceError):
                raise
            except Exception:
                log.warning("%s goes on after %s", self.trial, attempt)


class _Beside(NoControl):
    """Ends a try when the trial that it is done in is to end."""

    def __init__(self, conductor: Conductor) -> None:
        self._conductor = conductor

    def stop_all(self) -> bool:
        return self._conductor.stop_all()


@app.task(queue=QUEUE, lock=f"{MACHINE_LOCK}:{platform.node()}", name="conduct_trial")
def conduct_trial(trial_id: int) -> None:
    """Conduct a trial from its record; one that was cut off goes on where it was."""
    trial = Trial.objects.get(pk=trial_id)
    if trial.state not in (Trial.State.WAITING, Trial.State.RUNNING):
        return
    if trial.stop_asked:
        trial.finish(Trial.State.STOPPED)
        return
    trial.state = Trial.State.RUNNING
    trial.started_at = trial.started_at or timezone.now()
    trial.save(update_fields=["state", "started_at"])
    trial.tell(TrialStarted())
    conductor = Conductor(trial)

    def failed(trouble: Trouble) -> None:
        trial.finish(Trial.State.FAILED, trouble)

    with told(log, str(trial), "The trial", failed, "; its runs so far are kept"):
        try:
            _conducted(trial, conductor)
        except (OperationalError, InterfaceError):
            # The records are away. Another worker goes on from the folder once they are back.
            log.exception("trial %s cannot be recorded for now", trial_id)
            logging.shutdown()
            os._exit(FOR_NOW)
    if trial.state != Trial.State.FAILED:
        # Not above: what was measured stands, whatever comes of that.
        keep(trial)


def _conducted(trial: Trial, conductor: Conductor) -> None:
    from ivrell.core.trial.conduct import Trial as CoreTrial

    with room_on_disk(trial.folder):
        core = CoreTrial(
            trial.text,
            trial.plan_of,
            trial.folder,
            _store(),
            listen=conductor.listen,
            control=conductor,
        )
        found = core.conduct()
        for run in core.runs:
            if not trial.runs.filter(number=run.run).exists():
                conductor.listen(RunEnded(record=run))
        trial.keep_agreement(found)
        trial.finish(found.ended)
        _trim(core)


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


@app.task(queue=QUEUE, lock=f"{MACHINE_LOCK}:{platform.node()}", name="judge_trial")
def judge_trial(trial_id: int, reference: str) -> None:
    """Hold a trial's kept answers against another lane's; not while something is measured."""
    from ivrell.core.trial.conduct import Trial as CoreTrial

    trial = Trial.objects.get(pk=trial_id)
    core = CoreTrial(trial.text, trial.plan_of, trial.folder, _store())
    trial.keep_agreement(core.judge_again(reference))
    trial.save(update_fields=["agreement"])
    trial.keep_conclusion()
    keep(trial)
    trial.tell(Judged(reference=reference))


def _tried(
    attempt: Try, folder: Path, store: "DataStore", control: Control
) -> TryOutcome | InterruptionOutcome:
    from ivrell.core.trial.interrupted import interrupted
    from ivrell.core.trial.once import try_once

    what = (attempt.text, attempt.lane, attempt.rows)
    files = str(settings.IVRELL_DATA / "files")
    if attempt.kind == Try.Kind.INTERRUPTED:
        return interrupted(*what, attempt.share, folder, store, own_files=files, control=control)
    explained = attempt.kind == Try.Kind.EXPLAINED
    return try_once(*what, folder, store, own_files=files, explained=explained, control=control)


@app.task(queue=QUEUE, lock=f"{MACHINE_LOCK}:{platform.node()}", name="try_lane")
def try_lane(try_id: int) -> None:
    """Run a lane once on a small size, unless that was done between two runs of a trial."""
    attempt = Try.objects.get(pk=try_id)
    if attempt.state == Try.State.WAITING:
        _do_try(attempt, NoControl())


def _do_try(attempt: Try, control: Control) -> None:
    try:
        with told(log, str(attempt), "The try", attempt.fail), own_folder() as folder:
            found = _tried(attempt, folder, _store(), control).model_dump(mode="json")
            if not control.stop_all():
                # Else it still waits for its turn.
                attempt.found, attempt.state = found, Try.State.DONE
    finally:
        attempt.save()
