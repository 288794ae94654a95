"""A job: a piece of work that waits for its turn on a machine, and how it stands."""

import datetime
import hashlib
from collections.abc import Mapping
from typing import Any, Self, TypeVar

from django.db import models, transaction
from django.utils import timezone
from procrastinate.contrib.django import app

from ivrell.core.records.trouble import Trouble
from ivrell.server.jobs.hours import Hours
from ivrell.server.jobs.states import State

Subject = TypeVar("Subject", bound="Work")


_AWAY = datetime.timedelta(seconds=60)
_SILENT = datetime.timedelta(seconds=15)
"""A machine tells something every few seconds: one that is silent for so long has lost its worker,
for longer it is away."""


class JobQuerySet(models.QuerySet["Job"]):
    """Asking for work, and finding what is there to do."""

    def ask(
        self,
        kind: str,
        asked: Mapping[str, object] | None = None,
        hours: Mapping[str, int] | None = None,
        machine: "JoinedMachine | None" = None,
    ) -> "Job":
        """Record a job that waits for its turn.

        Args:
            kind: one of ``handlers.HANDLERS``.
            asked: what its handler is to know besides its subject.
            hours: see Hours; at any time unless given.
            machine: that is to do it; this one unless given.
        """
        with transaction.atomic():
            job = self.create(kind=kind, asked=dict(asked or {}), hours=hours and dict(hours),
                              machine=machine)  # fmt: skip
            job.queue()
        return job

    def under_way(self) -> Self:
        """Waiting, running or paused, in the order in which they are done."""
        states = (Job.State.RUNNING, Job.State.WAITING, Job.State.PAUSED)
        rank = models.Case(
            *(models.When(state=state, then=place) for place, state in enumerate(states))
        )
        return self.filter(state__in=states).order_by(rank, "-priority", "pk")


class JoinedMachine(models.Model):
    """Another machine whose worker takes trials from here. Of its token only the digest is kept;
    ``told`` is the machine as it said last, ``labels`` are words that trials ask for it by,
    ``worker`` is the start of its worker that was heard of last, at ``seen_at``."""

    name = models.CharField(max_length=40, unique=True)
    labels = models.JSONField(default=list)
    digest = models.CharField(max_length=64, unique=True)
    told = models.JSONField(null=True)
    worker = models.CharField(max_length=64, blank=True, default="")
    seen_at = models.DateTimeField(null=True)
    created_at = models.DateTimeField(default=timezone.now)
    removed_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    @classmethod
    def of_token(cls, token: str) -> "JoinedMachine | None":
        """The one that a token was made for."""
        return cls.objects.filter(digest=digest(token), removed_at=None).first()

    @property
    def is_away(self) -> bool:
        """Whether nobody has heard of it for a while."""
        return self.seen_at is None or timezone.now() - self.seen_at > _AWAY

    def seen(self, worker: str) -> None:
        """Take on that a worker of it was heard of now."""
        self.worker, self.seen_at = worker, timezone.now()
        self.save(update_fields=["worker", "seen_at"])

    def is_worked_by_another(self, worker: str) -> bool:
        """Whether another worker runs a trial as this machine, and was heard of just now."""
        if self.worker in ("", worker) or self.seen_at is None:
            return False
        fresh = timezone.now() - self.seen_at < _SILENT
        return fresh and self.jobs.filter(state=Job.State.RUNNING).exists()

    def next_job(self) -> "Job | None":
        """What it is to do: what it was doing when it went away, else the next that waits for it
        and may begin; it is begun."""
        mine = Job.objects.filter(machine=self, kind="trial")
        going = mine.filter(state=Job.State.RUNNING).first()
        if going:
            return going
        now = timezone.now()
        due = models.Q(not_before=None) | models.Q(not_before__lte=now)
        waiting = mine.filter(due, state=Job.State.WAITING).order_by("-priority", "pk")
        return next((job for job in waiting if job.begin()), None)


def digest(token: str) -> str:
    """What is kept of a token."""
    return hashlib.sha256(token.encode()).hexdigest()


class Job(models.Model):
    """A piece of work of a machine. One that is wanted ``now`` is done between two runs of the
    trial that is under way, if there is one; one that has ``hours`` is done in them alone; one
    of another ``machine`` is taken by that."""

    State = State

    kind = models.CharField(max_length=20)
    asked = models.JSONField(default=dict)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    priority = models.IntegerField(default=0)
    not_before = models.DateTimeField(null=True)
    hours = models.JSONField(null=True)
    machine = models.ForeignKey(
        JoinedMachine, on_delete=models.PROTECT, null=True, related_name="jobs"
    )
    now = models.BooleanField(default=False)
    stop_asked = models.BooleanField(default=False)
    pause_asked = models.BooleanField(default=False)
    progress = models.JSONField(null=True)
    message = models.JSONField(null=True)
    queued = models.BigIntegerField(null=True)
    created_at = models.DateTimeField(default=timezone.now)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)

    objects = JobQuerySet.as_manager()

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return str(self.subject or f"{self.kind} {self.pk}")

    @property
    def subject(self) -> "Work | None":
        """The record that it is for, where there is one."""
        found = getattr(self, f"of_{self.kind}", None)
        return found if isinstance(found, Work) else None

    def subject_of(self, record: type[Subject]) -> Subject:
        """The record that it is for, of a class."""
        assert isinstance(self.subject, record), self
        return self.subject

    @property
    def is_under_way(self) -> bool:
        """Whether something is to come of it yet."""
        return self.state in (self.State.WAITING, self.State.RUNNING, self.State.PAUSED)

    @property
    def is_due(self) -> bool:
        """Whether it would begin now, did nothing go before it."""
        due = self.not_before is None or self.not_before <= timezone.now()
        return self.state == self.State.WAITING and due

    @property
    def has_ended_well(self) -> bool:
        """Whether what it left is whole as far as it went."""
        return self.state in (self.State.DONE, self.State.STOPPED)

    def queue(self) -> None:
        """Put it into the queue, in the place of where it stood there."""
        from ivrell.server.jobs.tasks import do_job

        self._leave_queue()
        if self.machine_id is not None:
            return
        waiting = do_job.configure(priority=self.priority, schedule_at=self.not_before)
        self.queued = waiting.defer(job_id=self.pk)
        self.save(update_fields=["queued"])

    def _leave_queue(self) -> None:
        if self.queued is not None:
            app.job_manager.cancel_job_by_id(self.queued, delete_job=True)
            self.queued = None

    def begin(self) -> bool:
        """Take on that it is being done; whether there is anything to do: it was not stopped or
        paused meanwhile."""
        with transaction.atomic():
            job = Job.objects.select_for_update().get(pk=self.pk)
            if job.state not in (self.State.WAITING, self.State.RUNNING):
                return False
            if job.pause_asked and not job.stop_asked:
                job.paused()
                return False
            if not job.is_allowed and not job.stop_asked:
                job.wait_for_its_hours()
                return False
            job.state = self.State.RUNNING
            job.started_at = job.started_at or timezone.now()
            job.now = False
            job.save(update_fields=["state", "started_at", "now"])
        self.refresh_from_db()
        return True

    def make_room(self) -> None:
        """Take on that it came to a place where it can wait, unless somebody has thought better of
        it meanwhile: then it waits for its turn at once."""
        with transaction.atomic():
            job = Job.objects.select_for_update().get(pk=self.pk)
            if job.pause_asked and not job.stop_asked:
                job.paused()
            elif not job.is_allowed and not job.stop_asked:
                job.wait_for_its_hours()
            else:
                job.put_back()
                job.queue()
        self.refresh_from_db()

    @property
    def is_allowed(self) -> bool:
        """Whether this is an hour in which it may be done."""
        return self.hours is None or Hours.model_validate(self.hours).allow()

    def wait_for_its_hours(self) -> None:
        """Take on that it may be done no more today."""
        self.state = self.State.WAITING
        self.not_before = Hours.model_validate(self.hours).next_opening()
        self.save(update_fields=["state", "not_before"])
        if self.subject:
            self.subject.paused()
        self.queue()

    def put_back(self) -> None:
        """Take on that it was left for later."""
        self.state = self.State.WAITING
        self.save(update_fields=["state"])

    def finish(self, state: str, message: Trouble | None = None) -> None:
        """Set the end state; its subject hears of it first, and nobody sees one without the
        other."""
        self.message = message and message.model_dump()
        self.state, self.finished_at = state, timezone.now()
        with transaction.atomic():
            # Not what the page may be changing meanwhile.
            self.save(update_fields=["state", "message", "finished_at"])
            if self.subject:
                self.subject.ended()

    def stop(self) -> None:
        """Ask it to end: at once where it never began, else with what it has, which its handler
        puts in order."""
        with transaction.atomic():
            job = Job.objects.select_for_update().get(pk=self.pk)
            job.stop_asked = True
            job.save(update_fields=["stop_asked"])
            if job.is_under_way and job.started_at is None:
                job._leave_queue()
                job.finish(job.subject.withdrawn() if job.subject else self.State.STOPPED)
            elif job.state == self.State.PAUSED:
                job.put_back()
                job.queue()
        self.refresh_from_db()

    def pause(self) -> None:
        """Ask it to make room for others as soon as it can, and to wait until it is told to go
        on; one that waits for its turn lets it pass."""
        with transaction.atomic():
            job = Job.objects.select_for_update().get(pk=self.pk)
            if job.state == self.State.WAITING:
                job._leave_queue()
                job.paused()
            elif job.state == self.State.RUNNING:
                job.pause_asked = True
                job.save(update_fields=["pause_asked"])
        self.refresh_from_db()

    def paused(self) -> None:
        """Take on that it waits to be told to go on."""
        self.state, self.pause_asked = self.State.PAUSED, False
        self.save(update_fields=["state", "pause_asked"])
        if self.subject:
            self.subject.paused()

    def go_on(self) -> None:
        """Let one that is paused, or is to be, wait for its turn again."""
        with transaction.atomic():
            job = Job.objects.select_for_update().get(pk=self.pk)
            if job.state == self.State.PAUSED:
                job.put_back()
                job.queue()
            elif job.pause_asked:
                job.pause_asked = False
                job.save(update_fields=["pause_asked"])
        self.refresh_from_db()

    def again(self, asked: Mapping[str, object]) -> None:
        """Let one that has ended wait for its turn once more, with something else to know."""
        self.asked, self.state = dict(asked), self.State.WAITING
        self.stop_asked = self.pause_asked = False
        self.message = self.started_at = self.finished_at = None
        self.created_at = timezone.now()
        self.save()
        self.queue()

    def place(
        self,
        priority: int,
        not_before: datetime.datetime | None,
        hours: Mapping[str, int] | None = None,
    ) -> None:
        """Give one that waits another place in the queue."""
        with transaction.atomic():
            job = Job.objects.select_for_update().get(pk=self.pk)
            told = priority, not_before, hours and dict(hours)
            if (job.priority, job.not_before, job.hours) == told:
                return
            job.priority, job.not_before, job.hours = told
            job.save(update_fields=["priority", "not_before", "hours"])
            if job.state == self.State.WAITING:
                job.queue()
        self.refresh_from_db()


class Work(models.Model):
    """A record that a job is for; the job's kind is the name of its class in small letters."""

    job = models.OneToOneField(Job, on_delete=models.CASCADE, related_name="of_%(class)s")

    class Meta:
        abstract = True

    @property
    def state(self) -> str:
        """How its job stands."""
        return self.job.state

    @property
    def trouble(self) -> Trouble | None:
        """What kept its job from its end."""
        message: dict[str, Any] | None = self.job.message
        return Trouble.model_validate(message) if message else None

    def withdrawn(self) -> str:
        """The state that it is in where its job is not wanted any more before it began."""
        return State.STOPPED

    def ended(self) -> None:
        """Hear that its job has ended, in the transaction that says so."""

    def paused(self) -> None:
        """Hear that its job waits to be told to go on."""
