"""What a trial tells while it goes on."""

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field, TypeAdapter, model_validator

from ivrell.core.base.migrated_keys import migrate_keys
from ivrell.core.records.data import MadeTable
from ivrell.core.records.points import Point
from ivrell.core.records.run import RunRecord, RunState
from ivrell.core.records.session import Session
from ivrell.core.records.wire import ClusterProgress, Failure, LimitReached


class SessionSeen(BaseModel):
    """A session began, or more is known of its machine; ``sessions`` are all of the trial's."""

    kind: Literal["session"] = "session"
    sessions: list[Session]


class DataProgress(BaseModel):
    """Rows of a table that are made so far, of how many."""

    kind: Literal["data"] = "data"
    table: str
    form: str
    rows: int
    total: int


class DataMade(BaseModel):
    """All data is there."""

    kind: Literal["data made"] = "data made"
    tables: list[MadeTable] = []


class RunStarted(BaseModel):
    """A run begins; ``memory_run`` is one that is watched for its memory."""

    kind: Literal["run started"] = "run started"
    run: int
    approach: str
    point: Point
    round: int
    warm_up: bool
    memory_run: bool

    @model_validator(mode="before")
    @classmethod
    def _former_words(cls, given: Any) -> Any:
        return migrate_keys(given, {"number": "run", "memory_alone": "memory_run"})


class RunProgress(BaseModel):
    """A run as it goes on: seconds, CPU seconds, bytes above its start, its stage, how busy
    each core of the machine is, from 0 to 1, and how its session of Spark stands, if it has one."""

    kind: Literal["progress"] = "progress"
    run: int
    approach: str
    elapsed_s: float
    cpu_s: float
    memory_bytes: int
    stage: str
    cores: list[float]
    cluster: ClusterProgress | None = None


class RunEnded(BaseModel):
    """A run has ended, with its whole record."""

    kind: Literal["run ended"] = "run ended"
    record: RunRecord

    @property
    def short(self) -> "RunLine":
        """What a live view shows of it."""
        return RunLine.model_validate(self.record, from_attributes=True)


class RunLine(BaseModel):
    """What a live view shows of a run that has ended."""

    kind: Literal["run ended"] = "run ended"
    run: int
    approach: str
    point: Point
    round: int
    warm_up: bool
    memory_run: bool
    state: RunState
    set_aside: bool = False
    disturbed_by: str = ""
    elapsed_s: float | None
    limit: LimitReached | None
    error: Failure | None


class LaneOut(BaseModel):
    """An approach runs no more at a point: it reached a limit, or failed twice in a row."""

    kind: Literal["lane out"] = "lane out"
    approach: str
    point: Point


class StandingTold(BaseModel):
    """Who leads after so many whole rounds, by the rules of findings, at a point; answers have not
    been judged yet."""

    kind: Literal["standing"] = "standing"
    rounds: int
    point: Point
    words: str


class TrialEnded(BaseModel):
    """The trial has ended."""

    kind: Literal["ended"] = "ended"
    state: str


TrialEvent = (
    SessionSeen
    | DataProgress
    | DataMade
    | RunStarted
    | RunProgress
    | RunEnded
    | LaneOut
    | StandingTold
    | TrialEnded
)
"""What a trial's listener hears."""


class TrialStarted(BaseModel):
    """The trial's turn has come."""

    kind: Literal["started"] = "started"


class TrialPaused(BaseModel):
    """The trial waits, between two runs, to be told to go on."""

    kind: Literal["paused"] = "paused"


class Judged(BaseModel):
    """The answers were held against another reference."""

    kind: Literal["judged"] = "judged"
    reference: str


LiveEvent = Annotated[
    TrialStarted
    | DataProgress
    | DataMade
    | RunStarted
    | RunProgress
    | RunLine
    | LaneOut
    | StandingTold
    | TrialPaused
    | TrialEnded
    | Judged,
    Field(discriminator="kind"),
]
"""What the live view of a trial hears."""

_LIVE: TypeAdapter[LiveEvent] = TypeAdapter(LiveEvent)


def live_event(kind: str, fields: Mapping[str, Any]) -> LiveEvent:
    """An event of a kind from its fields, of an earlier version too. Raises ValueError."""
    return _LIVE.validate_python({"kind": kind, **fields})
