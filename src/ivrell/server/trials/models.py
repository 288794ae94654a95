"""Trials, their runs, and the events that are shown while they go on."""

import datetime
import shutil
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Self

from django.conf import settings
from django.db import connection, models, transaction
from django.db.models import Q
from django.utils import timezone
from pydantic import BaseModel, ValidationError

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import looking
from ivrell.core.comparison.claims import Claim
from ivrell.core.comparison.model import Comparison as ComparisonData
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.data import MadeTable
from ivrell.core.records.events import LiveEvent, TrialEnded, TrialPaused, live_event
from ivrell.core.records.findings import FINDINGS_EDITION, Findings, TrialFindings
from ivrell.core.records.history import Remarks
from ivrell.core.records.machine import Machine
from ivrell.core.records.pair import PairFindings
from ivrell.core.records.points import Point, expected_name, point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import More, RunSet, Session, Stretch
from ivrell.core.records.sweep import SweepFindings
from ivrell.core.report.claims import with_crossings
from ivrell.core.report.findings import findings
from ivrell.core.trial.plan import Plan, most_runs, ordered_runs, points_of, points_with
from ivrell.server.comparisons.models import Comparison, read, subject
from ivrell.server.jobs.models import Job, JoinedMachine, Work
from ivrell.server.previews import PREVIEWS

if TYPE_CHECKING:
    from ivrell.core.results.folder import ResultFolder

CHANNEL = "ivrell_events"


class TrialQuerySet(models.QuerySet["Trial"]):
    """Launching trials and finding those that matter now."""

    def launch(
        self,
        comparison: Comparison,
        plan: Plan,
        *,
        hours: dict[str, int] | None = None,
        machines: Sequence[JoinedMachine | None] = (None,),
    ) -> "Trial":
        """Record a trial of the comparison as it is now and put it into the queue; with ``hours``
        it runs in those of the day alone. Of several ``machines`` (None is this one) each runs
        it, as a trial of its own; the first of them.

        Raises BadInput when the plan does not fit the comparison.
        """
        comparison.refuse_unread()
        plan = plan.model_copy(update={"own_files": str(settings.IVRELL_DATA / "files")})
        data = comparison.data
        runs = most_runs(data, plan)
        PREVIEWS.ask(looking.check_points, subject(comparison.text), points_of(plan, data))
        with transaction.atomic():
            made = [
                self.create(
                    job=Job.objects.ask("trial", hours=hours, machine=machine),
                    comparison=comparison,
                    text=comparison.text,
                    plan=plan.model_dump(mode="json"),
                    planned_runs=runs,
                )
                for machine in machines
            ]
            if len(made) > 1:
                self.filter(pk__in=[one.pk for one in made]).update(group=made[0].pk)
                made[0].group = made[0].pk
            return made[0]

    def launch_changed(self, earlier: "Trial", *, other_versions: bool = False) -> "Trial":
        """Put a trial into the queue that runs those lanes of an earlier one anew that are others
        now, beside kept runs of the rest. Raises BadInput."""
        # Heavy, and wanted only here: a web server should stay small.
        from ivrell.core.trial.changed import only_changed

        earlier.comparison.refuse_unread()
        earlier.results.refuse_thinned()
        comparison = earlier.comparison
        data = comparison.data
        runs = [run.run_record for run in earlier.runs.order_by("pk")]
        found = only_changed(earlier.read, data, earlier.plan_of, runs)
        points = points_of(found.stretch.plan, data)
        PREVIEWS.ask(looking.check_points, subject(comparison.text), points)
        kept = sum(run.approach in found.kept and not run.memory_run and not run.set_aside
                   for run in runs)  # fmt: skip
        asked = StretchAsked(
            stretch=found.stretch, other_versions=other_versions, takes_over=earlier.pk,
            kept=found.kept,
        )  # fmt: skip
        with transaction.atomic():
            return self.create(
                job=Job.objects.ask("trial", asked.model_dump(mode="json")),
                comparison=comparison,
                text=comparison.text,
                plan=found.plan.model_dump(mode="json"),
                planned_runs=kept + most_runs(data, found.stretch.plan),
            )

    def present(self) -> Self:
        """Those not deleted."""
        return self.filter(deleted_at=None)

    def under_way(self) -> Self:
        """Those of which something is to come yet."""
        return self.filter(job__in=Job.objects.under_way())

    def in_order(self) -> "list[Trial]":
        """Those of which something is to come yet, in the order in which they are done."""
        jobs = Job.objects.under_way().filter(kind="trial").select_related("of_trial__comparison")
        return [job.subject_of(Trial) for job in jobs]


class Trial(Work):
    """One launch of a plan, with the exact text that it ran. ``name`` and ``note`` are what people
    said of it; one that is ``kept`` is never thinned. Trials of one ``group`` were launched
    together, on several machines. ``origin`` says where one came from that was run elsewhere."""

    comparison = models.ForeignKey(Comparison, on_delete=models.CASCADE, related_name="trials")
    text = models.TextField()
    plan = models.JSONField()
    planned_runs = models.IntegerField()
    conclusion = models.TextField(blank=True, default="")
    sessions = models.JSONField(default=list)
    data = models.JSONField(default=list)
    agreement = models.JSONField(default=dict)
    stop_run_asked = models.IntegerField(null=True)
    dropped = models.JSONField(default=list)
    name = models.CharField(max_length=80, blank=True, default="")
    note = models.TextField(blank=True, default="")
    kept = models.BooleanField(default=False)
    deleted_at = models.DateTimeField(null=True)
    group = models.IntegerField(null=True)
    origin = models.JSONField(null=True)

    objects = TrialQuerySet.as_manager()

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"trial {self.pk} of {self.comparison}"

    def add(self, more: More, *, other_versions: bool = False) -> None:
        """Put it into the queue again, with something added. Raises BadInput."""
        # Heavy, and wanted only here: a web server should stay small.
        from ivrell.core.trial.more import extended, text_with

        self.comparison.refuse_unread()
        if not self.results.is_one:
            raise BadInput(
                "The result folder of this trial is not there any more.",
                where=str(self.folder),
                hint="Run a trial anew.",
            )
        self.results.refuse_thinned()
        runs = [run.run_record for run in self.runs.order_by("pk")]
        text = text_with(self.text, self.comparison.text, runs, more.lanes)
        data = read(text)
        plan, stretch = extended(data, self.plan_of, runs, more)
        points = stretch.points or points_of(stretch.plan, data)
        PREVIEWS.ask(looking.check_points, subject(text), points)
        planned = sum(1 for _ in ordered_runs(data, stretch.plan, stretch.first_round, points))
        asked = StretchAsked(stretch=stretch, other_versions=other_versions)
        with transaction.atomic():
            # Who asks twice at once adds it once.
            self.job = Job.objects.select_for_update().get(pk=self.job_id)
            if self.job.is_under_way:
                raise BadInput("This trial has not ended.", hint="Wait for its end, or stop it.")
            self.text, self.plan = text, plan.model_dump(mode="json")
            self.planned_runs = self.done_runs + planned
            self.save(update_fields=["text", "plan", "planned_runs"])
            self.replies.all().delete()
            self.events.filter(kind="ended").delete()
            self.job.again(asked.model_dump(mode="json"))

    def launch_again(self) -> "Trial":
        """Put the same into the queue once more: its text, its plan, its seed."""
        self.comparison.refuse_unread()
        with transaction.atomic():
            return Trial.objects.create(
                job=Job.objects.ask("trial"),
                comparison=self.comparison,
                text=self.text,
                plan=self.plan,
                planned_runs=most_runs(self.read, self.plan_of),
            )

    def resume(self, *, other_versions: bool) -> None:
        """Let one that failed go on where it was, with other versions too where asked for. Raises
        BadInput."""
        with transaction.atomic():
            self.job = Job.objects.select_for_update().get(pk=self.job_id)
            if self.job.state != Job.State.FAILED:
                raise BadInput("Only a trial that failed can go on so.", where="state")
            asked = StretchAsked.model_validate(self.job.asked)
            asked = asked.model_copy(
                update={"other_versions": other_versions or asked.other_versions}
            )
            self.events.filter(kind="ended").delete()
            self.job.again(asked.model_dump(mode="json"))

    @property
    def folder(self) -> Path:
        """The result folder."""
        return settings.IVRELL_DATA / "trials" / str(self.pk)

    @property
    def results(self) -> "ResultFolder":
        """What is kept of it there."""
        # Heavy, and wanted only here: a web server should stay small.
        from ivrell.core.results.folder import ResultFolder

        return ResultFolder(self.folder)

    @property
    def read(self) -> ComparisonData:
        """The comparison as it was when the trial was launched."""
        return read(self.text)

    @property
    def plan_of(self) -> Plan:
        """What it is to do."""
        return Plan.model_validate(self.plan)

    @property
    def points(self) -> list[Point]:
        """The choices of knob values that it runs at."""
        plan = self.plan_of
        ran = self.runs.values_list("record__point", flat=True) if plan.search else ()
        return points_with(plan, self.read, ran)

    @property
    def ahead(self) -> int:
        """How many trials go before it."""
        machine = self.job.machine_id
        there = [one for one in Trial.objects.in_order() if one.job.machine_id == machine]
        order = [trial.pk for trial in there]
        return order.index(self.pk) if self.pk in order else 0

    @property
    def sessions_of(self) -> list[Session]:
        """Its sessions so far, the oldest first."""
        return [Session.model_validate(session) for session in self.sessions]

    @property
    def machine_of(self) -> Machine:
        """The machine as it was in the latest session."""
        return RunSet([], self.sessions_of[-1:]).machine

    def agreement_at(self, point: Point) -> dict[str, Agreement]:
        """Agreement of each lane at a point, by lane id; none until the trial has ended."""
        kept = self.agreement.get(point_name(point), {})
        return {lane: Agreement.model_validate(one) for lane, one in kept.items() if one}

    def keep_agreement(self, found: TrialFindings) -> None:
        """Take over the agreement of each lane by point, as findings hold it."""
        self.agreement = {
            point_name(point.point): {
                lane.id: lane.agreement.model_dump(mode="json")
                for lane in point.lanes
                if lane.agreement
            }
            for point in found.points
        }

    def runs_at(self, point: Point) -> list[RunRecord]:
        """The runs there are so far at a point."""
        return [run.run_record for run in self.runs.filter(record__point=point).order_by("pk")]

    @property
    def has_claims_of_now(self) -> bool:
        """Whether the claims that are pinned now are those that it was judged by."""
        return self._claims_of_now() == self.read.claim

    def findings(self, point: Point | None = None) -> Findings:
        """Findings at a point (the first when absent), from the runs there are so far. Claims are
        the comparison's of now."""
        point, claims = self.points[0] if point is None else point, self._claims_of_now()
        found = self._made_anew(point, claims)
        if not any(claim.crossing for claim in claims):
            return found
        others = [one for one in self.all_findings() if one.point != point]
        every = [found, *(one.model_copy(update={"claims": found.claims}) for one in others)]
        return with_crossings(claims, every)[0]

    def _made_anew(self, point: Point, claims: list[Claim]) -> Findings:
        """Findings at a point from the runs there are so far, with some claims."""
        return findings(
            self.read.model_copy(update={"claim": claims}),
            RunSet(self.runs_at(point), self.sessions_of),
            self.agreement_at(point),
            point,
            [MadeTable.model_validate(table) for table in self.data],
        )

    def _kept(self) -> TrialFindings | None:
        """Findings that were kept when it ended; None where they were made in another way."""
        if not self.job.has_ended_well or not self.results.has_ended:
            return None
        from ivrell.core.results.folder import FINDINGS

        kept = self.results.read(FINDINGS)
        return kept if kept.edition == FINDINGS_EDITION else None

    def _claims_of_now(self) -> list[Claim]:
        """The claims that are pinned in the comparison now; the trial's own where its file cannot
        be read any more."""
        try:
            return self.comparison.data.claim
        except BadInput:
            return self.read.claim

    def all_findings(self) -> list[Findings]:
        """Findings at every point, from the result folder where the trial has ended; claims are
        those that it was launched with."""
        kept = self._kept()
        if kept:
            return kept.points
        return [self._made_anew(point, self.read.claim) for point in self.points]

    def along_knobs(self) -> list[SweepFindings]:
        """Growth and crossings along each knob of numbers that has several values; none until it
        has ended, for that takes seconds of a core, which are the runs'."""
        if not self.job.has_ended_well:
            return []
        if self._kept():
            from ivrell.core.results.folder import SWEEP

            return self.results.read(SWEEP) if self.results.has(SWEEP) else []
        # Heavy, and wanted only here: a web server should stay small.
        from ivrell.core.report.sweep.findings import sweeps

        runs = [run.run_record for run in self.runs.order_by("pk")]
        plan = self.plan_of
        return sweeps(
            self.read,
            RunSet(runs, self.sessions_of),
            self.all_findings(),
            plan.limits.memory_bytes,
            named=points_of(plan, self.read),
            stepped=plan.step_up and self.state == Job.State.DONE,
            search=plan.search,
        )

    def pair(self, point: Point, base: str, lane: str) -> PairFindings:
        """Two lanes held against each other at a point. Raises BadInput where one did not run."""
        # Heavy, and wanted only here: a web server should stay small.
        from ivrell.core.trial.reporting import pair_of

        taken = RunSet(self.runs_at(point), self.sessions_of)
        asked = (base, lane)
        return pair_of(self.read, taken, self.results.answers, self.findings(point), asked)

    def keep_expected(self, lane: str, point: Point) -> str:
        """Keep a lane's answer at a point among the own files; its name with knobs in braces.

        Raises BadInput where the lane has no answer there.
        """
        # Heavy, and wanted only here: a web server should stay small.
        from pyarrow import parquet

        from ivrell.core.agreement.record import Answers

        judged = self.agreement_at(point).get(lane)
        prints = judged.fingerprints if judged else {}
        if not prints:
            raise BadInput(f"{lane} gave no answer here.", where="lane")
        usual = max(prints, key=lambda print_: prints[print_])
        knobs = "".join(f"-{{{knob}}}" for knob in self.read.knobs)
        pattern = f"expected-{self.comparison_id}{knobs}.parquet"
        folder = settings.IVRELL_DATA / "files"
        folder.mkdir(parents=True, exist_ok=True)
        answers = Answers(self.read, self.results.answers)
        parquet.write_table(answers.table(lane, usual), folder / expected_name(pattern, point))
        return pattern

    @property
    def said(self) -> Remarks:
        """What people said of it."""
        return Remarks(name=self.name, note=self.note, kept=self.kept)

    def say(self, said: Remarks) -> None:
        """Say something else of it, in its folder too, which records are made anew of."""
        from ivrell.core.results.folder import REMARKS

        self.name, self.note, self.kept = said.name, said.note, said.kept
        self.save(update_fields=["name", "note", "kept"])
        if self.results.is_one:
            self.results.keep(REMARKS, said)

    def delete_for_now(self) -> None:
        """Take it out of all lists; it can be brought back. Raises BadInput."""
        if self.job.is_under_way:
            raise BadInput("This trial has not ended.", hint="Stop it first.")
        self.deleted_at = timezone.now()
        self.save(update_fields=["deleted_at"])

    def remove(self) -> None:
        """Delete it for good, with its folder."""
        # First: a folder without a record would come back where records are made anew.
        if self.folder.exists():
            shutil.rmtree(self.folder)
        self.job.delete()

    def tell(self, event: LiveEvent) -> None:
        """Keep an event and wake those who watch."""
        fields = event.model_dump(mode="json", exclude={"kind"})
        with transaction.atomic():
            Event.objects.create(trial=self, kind=event.kind, fields=fields)
            with connection.cursor() as cursor:
                cursor.execute("SELECT pg_notify(%s, %s)", [CHANNEL, str(self.pk)])

    def keep_conclusion(self) -> None:
        """Put the conclusion of the first point into words anew, from runs and agreement."""
        if self.runs.exists():
            self.conclusion = self.findings().conclusion
            self.save(update_fields=["conclusion"])

    @property
    def done_runs(self) -> int:
        """Runs that there are, but for those that nobody planned: memory runs, and runs that were
        set aside to be done again."""
        unplanned = Q(record__memory_run=True) | Q(record__set_aside=True)
        return self.runs.count() - self.runs.filter(unplanned).count()

    def withdrawn(self) -> str:
        """As it was, where something was to be added to it."""
        if not self.results.has_ended:
            return Job.State.STOPPED
        from ivrell.core.results.folder import FINDINGS, PLAN

        self.text, self.planned_runs = self.results.comparison_text, self.done_runs
        self.plan = self.results.read(PLAN).model_dump(mode="json")
        self.save(update_fields=["text", "plan", "planned_runs"])
        return self.results.read(FINDINGS).ended

    def ended(self) -> None:
        """Keep the conclusion, and drop events nobody needs any more."""
        self.keep_conclusion()
        self.events.filter(kind__in=["progress", "data", "standing"]).delete()
        self.tell(TrialEnded(state=self.state))

    def paused(self) -> None:
        """Tell those who watch."""
        self.tell(TrialPaused())


class Schedule(models.Model):
    """When trials of a comparison, as it is then, are asked for: every so many hours, the next at
    ``next_at``; ``hours`` are those of the day in which they may run. ``last`` is what came of it
    the last time, in words."""

    comparison = models.OneToOneField(
        Comparison, on_delete=models.CASCADE, related_name="schedule", primary_key=True
    )
    plan = models.JSONField()
    every_hours = models.IntegerField()
    next_at = models.DateTimeField()
    hours = models.JSONField(null=True)
    last = models.TextField(blank=True, default="")

    def __str__(self) -> str:
        return f"schedule of {self.comparison}"

    def launch(self) -> None:
        """Ask for a trial, unless the one before has not ended; the next time is later than now."""
        now = timezone.now()
        step = datetime.timedelta(hours=self.every_hours)
        missed = max(0, (now - self.next_at) // step)
        self.next_at += step * (missed + 1)
        if self.comparison.trials.filter(job__in=Job.objects.under_way()).exists():
            self.last = "The trial before had not ended: left out."
        else:
            try:
                plan = Plan.model_validate(self.plan)
                trial = Trial.objects.launch(self.comparison, plan, hours=self.hours)
                self.last = f"Trial {trial.pk} was asked for."
            except (BadInput, ValidationError) as error:
                self.last = f"No trial could be asked for: {error}"
        self.save()


class StretchAsked(BaseModel):
    """What a trial's job is to know where something is added to it, or where it takes over the runs
    of ``kept`` lanes from another trial."""

    stretch: Stretch | None = None
    other_versions: bool = False
    takes_over: int | None = None
    kept: list[str] = []


class JudgingAsked(BaseModel):
    """What a job of judging again is to know: the trial, and the lane that is the reference."""

    trial: int
    reference: str


class Run(models.Model):
    """One run as runs.jsonl holds it, with its curve."""

    trial = models.ForeignKey(Trial, on_delete=models.CASCADE, related_name="runs")
    number = models.IntegerField()
    approach = models.CharField(max_length=63)
    state = models.CharField(max_length=10)
    record = models.JSONField()
    curve = models.JSONField(default=list)

    class Meta:
        ordering = ["number"]
        constraints = [
            models.UniqueConstraint(fields=["trial", "number"], name="run_number_once_a_trial")
        ]

    def __str__(self) -> str:
        return f"run {self.number} of trial {self.trial_id}"

    @property
    def run_record(self) -> RunRecord:
        """The run as its folder holds it."""
        return RunRecord.model_validate(self.record)


class Reply(models.Model):
    """What the API says of a trial that has ended, as it is sent; the folder holds the truth.

    ``what`` is the sweep, or a point by its place; ``edition`` tells of which shape it is.
    """

    trial = models.ForeignKey(Trial, on_delete=models.CASCADE, related_name="replies")
    what = models.CharField(max_length=20)
    edition = models.CharField(max_length=64)
    text = models.TextField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["trial", "what"], name="one_reply_of_a_kind_a_trial")
        ]

    def __str__(self) -> str:
        return f"{self.what} of trial {self.trial_id}"


class Event(models.Model):
    """Something that happened in a trial, for the page that watches it."""

    trial = models.ForeignKey(Trial, on_delete=models.CASCADE, related_name="events")
    kind = models.CharField(max_length=20)
    fields = models.JSONField()

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return f"{self.kind} of trial {self.trial_id}"

    @property
    def live(self) -> LiveEvent:
        """The event as those who watch hear it."""
        return live_event(self.kind, self.fields)


class TryAll(Work):
    """Every lane of a comparison, as it was, run once at small sizes; ``found`` is AllTried."""

    comparison = models.ForeignKey(Comparison, on_delete=models.CASCADE, related_name="tried")
    text = models.TextField()
    found = models.JSONField(null=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"trying all of {self.comparison}"


class Challenge(Work):
    """A comparison, as it was, whose conclusion is put to the test for some minutes at one choice
    of its knobs; ``found`` is ChallengeFindings."""

    comparison = models.ForeignKey(Comparison, on_delete=models.CASCADE, related_name="challenges")
    text = models.TextField()
    minutes = models.FloatField()
    knobs = models.JSONField(default=dict)
    found = models.JSONField(null=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"challenge of {self.comparison}"

    @property
    def folder(self) -> Path:
        """Where its trials are."""
        return Path(settings.IVRELL_DATA) / "challenges" / str(self.pk)


class Try(Work):
    """One run of a lane on a small size, asked for while it is written.

    A kind of its own tells how the engine carries the lane out, another kills the run after
    ``share`` of its usual time and starts it again.
    """

    class Kind(models.TextChoices):
        TRY = "try"
        EXPLAINED = "explained"
        INTERRUPTED = "interrupted"
        HOT = "hot"

    comparison = models.ForeignKey(Comparison, on_delete=models.CASCADE, related_name="tries")
    lane = models.CharField(max_length=63)
    text = models.TextField()
    rows = models.IntegerField()
    kind = models.CharField(max_length=12, choices=Kind.choices, default=Kind.TRY)
    share = models.FloatField(default=0.5)
    found = models.JSONField(null=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"try {self.pk} of {self.lane} in {self.comparison}"
