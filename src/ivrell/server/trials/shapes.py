"""What the API takes and gives of trials."""

import datetime
from collections.abc import Iterable
from typing import Literal, TypeVar

from pydantic import BaseModel, Field, ValidationError

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from ivrell.core.hot.found import found_of
from ivrell.core.records.bundle import Origin
from ivrell.core.records.data import MadeTable
from ivrell.core.records.events import LiveEvent
from ivrell.core.records.findings import (
    Dot,
    Findings,
    LaneFindings,
    LaneState,
    PairRatio,
    Ratio,
    Summary,
)
from ivrell.core.records.history import Remarks
from ivrell.core.records.hot import HotFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point
from ivrell.core.records.run import RunRecord, RunState
from ivrell.core.records.session import More, Stretch
from ivrell.core.records.sweep import SweepFindings
from ivrell.core.records.tries import (
    AllTried,
    AnswerColumn,
    InterruptionOutcome,
    InterruptionVerdict,
    TryKind,
    TryOutcome,
)
from ivrell.core.records.trouble import Trouble
from ivrell.core.records.view import Board
from ivrell.core.records.wire import Failure, StageTime, StatementPlan
from ivrell.core.report.view.board import board
from ivrell.core.report.words import limit_told
from ivrell.core.trial.plan import Plan
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.states import JobState
from ivrell.server.trials.models import Run, StretchAsked, Trial, Try, TryAll


class TrialLine(BaseModel):
    """A trial in a list; ``on`` is the machine that has joined and runs it, "" for this one; those
    of one ``group`` were launched together, on several machines."""

    id: int
    comparison: int
    comparison_name: str
    state: JobState
    conclusion: str
    planned_runs: int
    done_runs: int
    created_at: datetime.datetime
    started_at: datetime.datetime | None
    finished_at: datetime.datetime | None
    stop_asked: bool
    pause_asked: bool
    said: Remarks
    on: str
    group: int | None
    origin: Origin | None

    @classmethod
    def of(cls, trial: Trial) -> "TrialLine":
        """A record as a line."""
        return cls.model_validate(_fields(trial))


def _fields(trial: Trial) -> dict[str, object]:
    return {
        "id": trial.pk,
        "comparison": trial.comparison_id,
        "comparison_name": trial.comparison.name,
        "state": trial.state,
        "conclusion": trial.conclusion,
        "planned_runs": trial.planned_runs,
        "done_runs": trial.done_runs,
        "origin": trial.origin,
        "created_at": trial.job.created_at,
        "started_at": trial.job.started_at,
        "finished_at": trial.job.finished_at,
        "stop_asked": trial.job.stop_asked,
        "pause_asked": trial.job.pause_asked,
        "on": trial.job.machine.name if trial.job.machine else "",
        "group": trial.group,
        "said": trial.said,
    }


class TrialShape(TrialLine):
    """A trial in full, without its runs: ``ahead`` are the trials that go before it, ``dropped``
    the lanes that somebody took out, ``lanes`` the exact code that each lane ran, by its id;
    ``away_since`` is when a machine was heard of last that is away while it runs it; with
    ``until_told`` rounds go on until it is told who is the quickest. ``added_from`` is the first
    round of what is being added to it, null where it is all of a plan."""

    plan: Plan
    machine: Machine
    data: list[MadeTable]
    message: Trouble | None
    points: list[Point]
    ahead: int
    lanes: dict[str, str]
    dropped: list[str]
    away_since: datetime.datetime | None
    not_before: datetime.datetime | None
    until_told: bool
    added_from: int | None

    @classmethod
    def of(cls, trial: Trial) -> "TrialShape":
        """A record in full."""
        return cls.model_validate(
            {
                **_fields(trial),
                "plan": trial.plan_of,
                "machine": trial.machine_of,
                "data": trial.data,
                "message": trial.trouble,
                "points": trial.points,
                "ahead": trial.ahead,
                "lanes": {approach.id: approach.text() for approach in trial.read.approach},
                "dropped": trial.dropped,
                "away_since": _away_since(trial),
                "not_before": trial.job.not_before,
                "until_told": trial.job.is_under_way and _until_told(trial),
                "added_from": stretch.first_round if (stretch := _stretch(trial)) else None,
            }
        )


def _stretch(trial: Trial) -> Stretch | None:
    return StretchAsked.model_validate(trial.job.asked).stretch


def _until_told(trial: Trial) -> bool:
    stretch = _stretch(trial)
    return stretch is not None and stretch.told_within_minutes is not None


def _away_since(trial: Trial) -> datetime.datetime | None:
    machine = trial.job.machine
    if machine is None or not trial.job.is_under_way or not machine.is_away:
        return None
    return machine.seen_at or machine.created_at


class RemarksAsked(BaseModel):
    """What is to be said of a trial; what is null stays."""

    name: str | None = Field(default=None, max_length=80)
    note: str | None = Field(default=None, max_length=20_000)
    kept: bool | None = None


class Events(BaseModel):
    """What happened in a trial so far, in order; the live view hears the same as it comes."""

    events: list[LiveEvent]


class CurveSample(BaseModel):
    """CPU used and memory held at a time since the start of the timed part."""

    t_s: float
    cpu_s: float
    memory_bytes: int


class RunShape(RunRecord):
    """One run in full, with its curve and the exact code."""

    curve: list[CurveSample]
    code: str

    @classmethod
    def of(cls, run: Run) -> "RunShape":
        """A record in full."""
        curve = [CurveSample(t_s=t, cpu_s=cpu, memory_bytes=memory) for t, cpu, memory in run.curve]
        code = run.trial.read.approach_called(run.approach).text()
        return cls(curve=curve, code=code, **dict(run.run_record))


class PointFindings(Findings):
    """Findings at a point with the trial they come from, and the board that they are shown on.
    Pairs have an answer of their own."""

    trial: int
    state: JobState
    board: Board
    pairs: list[PairRatio] = Field(default=[], exclude=True)

    @classmethod
    def of(cls, trial: Trial, found: Findings) -> "PointFindings":
        """Findings of a trial."""
        shown = board(found, trial.read.targets)
        return cls.model_validate(
            {**dict(found), "trial": trial.pk, "state": trial.state, "board": shown}
        )


class Pairs(BaseModel):
    """Every ordered pair of lanes that can be held against each other at a point."""

    point: Point
    pairs: list[PairRatio]


class SweepDot(BaseModel):
    """One counted run, by its measures."""

    elapsed: float | None
    cpu_total: float | None
    peak_memory: float | None

    @classmethod
    def of(cls, dot: Dot) -> "SweepDot":
        """From a run as it is drawn."""
        cpu = (dot.cpu_user_s, dot.cpu_system_s)
        return cls(
            elapsed=dot.elapsed_s,
            cpu_total=None if cpu[0] is None or cpu[1] is None else cpu[0] + cpu[1],
            peak_memory=dot.peak_above_start_bytes,
        )


class SweepLane(BaseModel):
    """A lane at one point: its median, quartiles and interval of each measure; ``trusted`` where
    it came to its end and its answer is the right one."""

    id: str
    state: LaneState
    trusted: bool
    trouble: str
    elapsed: Summary | None
    cpu_total: Summary | None
    peak_memory: Summary | None
    answer_bytes: float | None
    dots: list[SweepDot]

    @classmethod
    def of(cls, lane: LaneFindings) -> "SweepLane":
        """From a lane's findings."""
        return cls(
            id=lane.id,
            state=lane.state,
            trusted=lane.trusted,
            trouble=lane.trouble,
            elapsed=lane.elapsed,
            cpu_total=lane.cpu_total,
            peak_memory=lane.peak_memory,
            answer_bytes=lane.answer_bytes,
            dots=[SweepDot.of(dot) for dot in lane.runs if dot.counted],
        )


class Margin(BaseModel):
    """The lane that leads at a point, and by how much over the one behind it, null where it stands
    alone."""

    lane: str
    behind: str | None
    ratio: Ratio | None

    @classmethod
    def at(cls, found: Findings) -> "Margin | None":
        """By elapsed time; None where no lane has a right answer."""
        ranked = [lane.id for lane in found.ranked if lane.trusted]
        if not ranked:
            return None
        behind = ranked[1] if len(ranked) > 1 else None
        pairs = {(pair.base, pair.lane): pair.ratio for pair in found.pairs}
        ratio = pairs.get((behind, ranked[0])) if behind else None
        return cls(lane=ranked[0], behind=behind, ratio=ratio)


class SweepPoint(BaseModel):
    """All lanes at one point, and who leads there."""

    point: Point
    lanes: list[SweepLane]
    margin: Margin | None


class Sweep(BaseModel):
    """How lanes do over all points of a trial, and what is found along each knob of numbers."""

    points: list[SweepPoint]
    found: list[SweepFindings]

    @classmethod
    def of(cls, points: Iterable[Findings], found: list[SweepFindings]) -> "Sweep":
        """From the findings of each point, and along each knob."""
        return cls(
            found=found,
            points=[
                SweepPoint(
                    point=found.point,
                    lanes=[SweepLane.of(lane) for lane in found.lanes],
                    margin=Margin.at(found),
                )
                for found in points
            ],
        )


class TryRequest(BaseModel):
    """On how many rows to try a lane, and whether it is to tell how it is carried out, or to be
    killed after a share of its usual time and started again."""

    rows: int = 1000
    kind: TryKind = "try"
    share: float = Field(default=0.5, gt=0, lt=1)


class TryNow(BaseModel):
    """Which kind of try is not to wait for its turn."""

    kind: TryKind = "try"


class AgainAsked(BaseModel):
    """How a trial is gone on with: ``other_versions`` also where engines, libraries or the system
    are others than before."""

    other_versions: bool = False


class MoreAsked(More, AgainAsked):
    """What is to be added to a trial."""


class EstimateAsked(BaseModel):
    """A plan that is thought of, and the minutes that it is to fill, if any."""

    plan: Plan
    minutes: float | None = Field(default=None, gt=0, le=100_000)


class LaneAsked(BaseModel):
    """A lane that is asked for by its id."""

    lane: str


class AnswerAsked(BaseModel):
    """A lane's answer at a point."""

    lane: str
    point: Point


Outcome = TypeVar("Outcome", TryOutcome, InterruptionOutcome)


def _kept(attempt: Try, shape: type[Outcome]) -> tuple[Outcome | None, Trouble | None]:
    """What came of a try, and the message that goes with it."""
    message = attempt.trouble
    if not attempt.found:
        return None, message
    try:
        return shape.model_validate(attempt.found), message
    except ValidationError:
        what = "What an earlier version kept of this cannot be read."
        return None, Trouble(what=what, where=attempt.lane, hint="Try it again.")


class Asked(BaseModel):
    """What was asked of a lane on a small size, and how that stands: ``behind`` which trial it
    waits, if it does; ``now`` that it is done between two of that one's runs."""

    id: int
    rows_asked: int
    state: JobState
    message: Trouble | None
    behind: int | None
    now: bool
    stop_asked: bool


def _asked(attempt: Try, message: Trouble | None) -> dict[str, object]:
    return {
        "id": attempt.pk,
        "rows_asked": attempt.rows,
        "state": attempt.state,
        "message": message,
        "behind": _in_the_way() if attempt.state == Job.State.WAITING else None,
        "now": attempt.job.now,
        "stop_asked": attempt.job.stop_asked,
    }


def _in_the_way() -> int | None:
    """The trial that runs now."""
    running = Trial.objects.filter(job__state=Job.State.RUNNING)
    return running.values_list("pk", flat=True).first()


class ExplainedShape(Asked):
    """How a lane was carried out on a small size."""

    error: Failure | None
    plans: list[StatementPlan]

    @classmethod
    def of(cls, attempt: Try) -> "ExplainedShape":
        """A record of that kind."""
        outcome, message = _kept(attempt, TryOutcome)
        told = {
            "error": outcome.run.error if outcome and outcome.run else None,
            "plans": outcome.plans if outcome else [],
        }
        return cls.model_validate(_asked(attempt, message) | told)


class HotShape(Asked):
    """Which lines of a lane its time goes to; ``of_now`` where its code has not changed since."""

    of_now: bool
    found: HotFindings | None

    @classmethod
    def of(cls, attempt: Try) -> "HotShape":
        """A record of that kind."""
        outcome, message = _kept(attempt, TryOutcome)
        known = outcome is not None and _code(attempt.text, attempt.lane) is not None
        found = found_of(attempt.text, attempt.lane, outcome) if outcome and known else None
        then, now = (_code(text, attempt.lane) for text in (attempt.text, attempt.comparison.text))
        return cls.model_validate(
            _asked(attempt, message) | {"found": found, "of_now": now is not None and then == now}
        )


def _code(text: str, lane: str) -> str | None:
    """A lane's code; None where the text has no such lane, or cannot be read."""
    try:
        return parse(text).approach_called(lane).text()
    except BadInput:
        return None


class InterruptionShape(Asked):
    """What a kill left of a lane, and what came of starting it again on that.

    ``left`` and ``whole`` are rows by bucket, "" where the answer has none; ``left_bytes`` the
    files in its folder.
    """

    share: float
    verdict: InterruptionVerdict | Literal[""] = ""
    words: str = ""
    left: dict[str, int] = {}
    whole: dict[str, int] = {}
    left_bytes: int | None = None
    usual_s: float | None = None
    reasons: list[str] = []

    @classmethod
    def of(cls, attempt: Try) -> "InterruptionShape":
        """A record of that kind."""
        outcome, message = _kept(attempt, InterruptionOutcome)
        told: dict[str, object] = {"share": attempt.share}
        if outcome:
            told |= {
                "verdict": outcome.verdict,
                "words": outcome.words,
                "left": outcome.left,
                "whole": outcome.whole,
                "left_bytes": outcome.left_bytes,
                "usual_s": outcome.runs.usual.elapsed_s,
                "reasons": outcome.agreement.reasons if outcome.agreement else [],
            }
        return cls.model_validate(_asked(attempt, message) | told)


class TryShape(Asked):
    """A try of a lane: what its run did, and the first rows of its answer."""

    lane: str
    point: Point = {}
    run_state: RunState | None = None
    elapsed_s: float | None = None
    cpu_s: float | None = None
    peak_memory_bytes: int | None = None
    stages: list[StageTime] = []
    error: Failure | None = None
    trouble: str = ""
    output: str = ""
    answer_rows: int | None = None
    counters: dict[str, float] = {}
    columns: list[AnswerColumn] = []
    rows: list[list[str | None]] = []

    @classmethod
    def of(cls, attempt: Try) -> "TryShape":
        """A record of that kind."""
        outcome, message = _kept(attempt, TryOutcome)
        shape = cls.model_validate(_asked(attempt, message) | {"lane": attempt.lane})
        if outcome is None:
            return shape
        shape.point, shape.columns, shape.rows = outcome.point, outcome.columns, outcome.rows
        if run := outcome.run:
            shape.run_state = run.state
            shape.elapsed_s, shape.cpu_s = run.elapsed_s, run.cpu_s
            shape.peak_memory_bytes = run.peak_above_start_bytes
            shape.stages, shape.counters = run.stages, run.counters
            shape.error, shape.output = run.error, run.output
            shape.trouble = limit_told(run.limit) if run.limit else ""
            shape.answer_rows = run.answer_rows
        return shape


class TryAllShape(BaseModel):
    """The newest time that all lanes of a comparison were tried; ``of_now`` where the comparison
    has not changed since, ``runs`` how many have been done."""

    id: int
    state: JobState
    of_now: bool
    runs: int
    message: Trouble | None
    found: AllTried | None
    created_at: datetime.datetime

    @classmethod
    def of(cls, attempt: TryAll) -> "TryAllShape":
        """A record in full."""
        return cls(
            id=attempt.pk,
            state=attempt.state,
            of_now=attempt.text == attempt.comparison.text,
            runs=(attempt.job.progress or {}).get("runs", 0),
            message=attempt.trouble,
            found=attempt.found and AllTried.model_validate(attempt.found),
            created_at=attempt.job.created_at,
        )


class TriedAll(BaseModel):
    """The newest time that all lanes were tried, if ever."""

    newest: TryAllShape | None


class Tries(BaseModel):
    """The newest try of a lane of each kind, if any."""

    newest: TryShape | None = None
    explained: ExplainedShape | None = None
    interrupted: InterruptionShape | None = None
    hot: HotShape | None = None
