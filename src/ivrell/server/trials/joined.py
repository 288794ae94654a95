"""Trials that other machines run: what their workers ask for, what they tell, how it ends."""

import hashlib
import logging
from contextlib import suppress
from typing import TYPE_CHECKING

from django.db import transaction
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.base.errors import BadInput
from ivrell.core.records.data import MadeTable
from ivrell.core.records.events import TrialPaused, TrialStarted
from ivrell.core.records.joined import (
    Asking,
    Brought,
    Given,
    JoinedTask,
    MadeBytes,
    Told,
    Wanted,
)
from ivrell.core.records.session import RunSet
from ivrell.core.records.trouble import Trouble
from ivrell.server.asking import asked
from ivrell.server.comparisons.models import read
from ivrell.server.jobs.models import Job, JoinedMachine
from ivrell.server.jobs.troubles import told
from ivrell.server.jobs.workers import IsWorker, WorkerAuthentication
from ivrell.server.replies import reply
from ivrell.server.trials.kept import keep
from ivrell.server.trials.models import Run, StretchAsked, Trial

if TYPE_CHECKING:
    from ivrell.core.records.agreement import Agreement

log = logging.getLogger("ivrell.trials")
HERE, EVERYWHERE = "", "all"
NOBODY = "no-worker-at-all"
_TIMES_PLANNED, _MORE_RUNS = 4, 1000
"""Runs that a trial has at the most: those planned, memory runs, those that were disturbed."""

_KEPT = "; its runs so far are kept"
_LOOKED_AT = 20
"""Trials of a comparison whose data tells what another machine is to make."""


def machines_called(name: str) -> list[JoinedMachine | None]:
    """The machines that a trial asks for: this one (None), all, or those of a name or label.
    Raises BadInput where there is none."""
    if name == HERE:
        return [None]
    joined = list(JoinedMachine.objects.filter(removed_at=None))
    if name == EVERYWHERE:
        return [None, *joined]
    found = [one for one in joined if name == one.name or name in one.labels]
    if not found:
        raise BadInput(
            f"No machine is called {name} or has that label.",
            where="on",
            hint="Look at the page of the machine for those that have joined.",
        )
    return list(found)


def _task(trial: Trial) -> JoinedTask:
    asked_of = StretchAsked.model_validate(trial.job.asked)
    return JoinedTask(
        trial=trial.pk,
        key=hashlib.sha256(f"{trial.comparison.created_at} {trial.pk}".encode()).hexdigest(),
        text=trial.text,
        # Where own files lie is each machine's own business.
        plan=trial.plan_of.model_copy(update={"own_files": None, "sandbox": "auto"}),
        stretch=asked_of.stretch,
        other_versions=asked_of.other_versions,
        expected=_expected(trial),
    )


def _expected(trial: Trial) -> list[MadeBytes]:
    """What was made elsewhere of the same recipe."""
    data = trial.read.data
    found: dict[tuple[str, str], MadeBytes] = {}
    others = Trial.objects.filter(comparison=trial.comparison_id).exclude(pk=trial.pk)
    for other in others[:_LOOKED_AT]:
        try:
            if read(other.text).data != data:
                continue
        except BadInput:
            continue
        for table in other.data:
            made = MadeTable.model_validate(table)
            if made.told_bytes:
                one = MadeBytes(
                    fingerprint=made.fingerprint, form=made.form, bytes_hash=made.bytes_hash
                )
                found.setdefault(made.told_bytes, one)
    return list(found.values())


class _OfWorkers(APIView):
    """What only machines that have joined may ask."""

    authentication_classes = [WorkerAuthentication]
    permission_classes = [IsWorker]

    def machine(self, request: Request) -> JoinedMachine:
        """Whose token came with a request."""
        machine = request.auth
        assert isinstance(machine, JoinedMachine)
        return machine

    def trial(self, request: Request, number: int, worker: str) -> Trial | None:
        """A trial that a worker of the machine is running; None where it is not its any more."""
        machine = self.machine(request)
        if machine.worker != worker:
            return None
        machine.seen(worker)
        found = Trial.objects.select_related("job", "comparison").filter(
            pk=number, job__machine=machine, job__state=Job.State.RUNNING
        )
        return found.first()


class NextView(_OfWorkers):
    """Work for a machine that has joined."""

    @extend_schema(request=Asking, responses=Given, operation_id="next_task")
    def post(self, request: Request) -> Response:
        """The trial that the machine is to run, or to go on with."""
        machine = self.machine(request)
        asking = asked(Asking, request)
        if machine.is_worked_by_another(asking.worker):
            return reply(Given(task=None, why_not=f"another worker is at work as {machine}"))
        machine.told = asking.machine.model_dump(mode="json")
        machine.save(update_fields=["told"])
        machine.seen(asking.worker)
        job = machine.next_job()
        if job is None:
            return reply(Given(task=None))
        trial = job.subject_of(Trial)
        trial.tell(TrialStarted())
        return reply(Given(task=_task(trial)))


class ToldView(_OfWorkers):
    """What happens in a trial on another machine."""

    @extend_schema(request=Told, responses=Wanted, operation_id="tell")
    def post(self, request: Request, trial: int) -> Response:
        """Keep runs and events; what people ask for meanwhile."""
        given = asked(Told, request)
        record = self.trial(request, trial, given.worker)
        if record is None:
            return reply(Wanted(stop=True, pause=False, stop_run=None, dropped=[]))
        lanes = {approach.id for approach in record.read.approach}
        for run in given.runs:
            if run.approach not in lanes:
                raise BadInput("A run of a lane that is not there.", where=run.approach)
            if not 0 < run.run <= _TIMES_PLANNED * record.planned_runs + _MORE_RUNS:
                raise BadInput("More runs than a trial has.", where=f"run {run.run}")
            Run.objects.update_or_create(
                trial=record,
                number=run.run,
                defaults={
                    "approach": run.approach,
                    "state": run.state,
                    "record": run.model_dump(mode="json"),
                    "curve": given.curves.get(run.run, []),
                },
            )
        for event in given.events:
            if event.kind not in ("ended", "started", "paused", "judged"):
                record.tell(event)
        job = record.job
        return reply(
            Wanted(
                stop=job.stop_asked,
                pause=job.pause_asked or not job.is_allowed,
                stop_run=record.stop_run_asked,
                dropped=record.dropped,
            )
        )


class BroughtView(_OfWorkers):
    """The end of a trial on another machine."""

    @extend_schema(request=Brought, responses={200: None}, operation_id="bring")
    def post(self, request: Request, trial: int) -> Response:
        """Take over how it ended; findings are made here, of its runs."""
        brought = asked(Brought, request)
        record = self.trial(request, trial, brought.worker)
        if record is not None:
            end(record, brought)
        return Response()


def end(trial: Trial, brought: Brought) -> None:
    """Bring a trial of another machine to its end, or let it wait."""
    trial.sessions = [one.model_dump(mode="json") for one in brought.sessions] or trial.sessions
    trial.data = [one.model_dump(mode="json") for one in brought.data] or trial.data
    trial.save(update_fields=["sessions", "data"])
    if brought.ended == "paused":
        trial.job.make_room()
        trial.tell(TrialPaused())
        return
    if brought.ended == "failed":
        trial.job.finish(Job.State.FAILED, brought.trouble)
        return

    def failed(trouble: Trouble) -> None:
        trial.job.finish(Job.State.FAILED, trouble)

    # What it told may be anything, and would be brought again and again.
    with suppress(Exception), told(log, str(trial), "Putting the trial together", failed, _KEPT):
        if trial.runs.exists():
            _write(trial, brought)
        trial.job.finish(brought.ended)
    if trial.job.has_ended_well:
        keep(trial)


def _write(trial: Trial, brought: Brought) -> None:
    """Write the result folder, as one of this machine's own trials has it."""
    # Heavy, and wanted only here: a web server should stay small.
    from ivrell.core.results.folder import COMPARISON, DATA, PLAN, SESSIONS
    from ivrell.core.trial.judging import told_of

    results = trial.results
    results.make()
    results.write(COMPARISON, trial.text)
    results.keep(PLAN, trial.plan_of)
    results.keep(SESSIONS, trial.sessions_of)
    made = [MadeTable.model_validate(table) for table in trial.data]
    results.keep(DATA, made)
    kept = list(trial.runs.order_by("number"))
    for run in kept:
        results.keep_curve(run.number, run.curve)
    runs = [run.run_record for run in kept]
    results.write_runs(runs)
    agreement: dict[str, dict[str, Agreement]] = {
        point: {lane: one for lane, one in lanes.items() if one is not None}
        for point, lanes in brought.agreement.items()
    }
    found = told_of(
        trial.read, results, RunSet(runs, trial.sessions_of), agreement, made=made,
        ended="done" if brought.ended == "done" else "stopped", plan=trial.plan_of,
    )  # fmt: skip
    trial.keep_agreement(found)
    trial.save(update_fields=["agreement"])


def elsewhere(trial: Trial, machine: JoinedMachine | None) -> None:
    """Run a trial from the start on another machine. Raises BadInput for one that has ended, or
    that this machine is running."""
    with transaction.atomic():
        job = Job.objects.select_for_update().get(pk=trial.job_id)
        if not job.is_under_way or (job.machine_id is None and job.started_at is not None):
            raise BadInput("Only a trial of a machine that is away can be run elsewhere.")
        trial.runs.all().delete()
        trial.events.all().delete()
        trial.sessions, trial.data = [], []
        trial.save(update_fields=["sessions", "data"])
        job.machine, job.started_at, job.state = machine, None, Job.State.WAITING
        job.save(update_fields=["machine", "started_at", "state"])
        job.queue()


def stop_one_that_is_away(trial: Trial) -> bool:
    """End a trial of a machine that nobody has heard of for a while, with the runs that there are;
    whether that was so."""
    job = trial.job
    begun = job.is_under_way and job.started_at is not None
    if job.machine is None or not job.machine.is_away or not begun:
        return False
    end(trial, Brought(worker=job.machine.worker or NOBODY, ended="stopped"))
    return True
