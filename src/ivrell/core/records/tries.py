"""What came of trying a lane on a small size."""

from typing import Literal

from pydantic import BaseModel

from ivrell.core.records.agreement import Agreement
from ivrell.core.records.estimate import Took
from ivrell.core.records.findings import LaneState
from ivrell.core.records.points import Point
from ivrell.core.records.run import RunRecord
from ivrell.core.records.wire import HotProfile, StatementPlan

TryKind = Literal["try", "explained", "interrupted", "hot"]


class AnswerColumn(BaseModel):
    """A column of an answer and its Arrow type."""

    name: str
    type: str


class TryOutcome(BaseModel):
    """One run of a lane (None where it was stopped before), the first rows of its answer as text,
    and how its statements were carried out or where its time went, where that was asked."""

    run: RunRecord | None
    point: Point
    columns: list[AnswerColumn] = []
    rows: list[list[str | None]] = []
    plans: list[StatementPlan] = []
    hot: HotProfile | None = None


class LaneTried(BaseModel):
    """What came of a lane on small sizes: its ``state`` at the largest of them with what kept it
    from its end, whether its answer is the right one (null where there was none) and why not, and
    its seconds there."""

    lane: str
    name: str
    state: LaneState
    trouble: str
    agrees: bool | None
    reasons: list[str]
    elapsed_s: float | None


class AllTried(BaseModel):
    """Every lane run once at small sizes; ``took`` tells what a plan will take, ``words`` how it
    went, in a sentence."""

    rows: list[int]
    lanes: list[LaneTried]
    took: list[Took] = []
    words: str


InterruptionVerdict = Literal[
    "can be started again", "cannot be started again", "was not killed"
]  # fmt: skip


class InterruptionRuns(BaseModel):
    """The runs of an interruption: the one left alone, the one killed, the one begun anew."""

    usual: RunRecord
    killed: RunRecord
    again: RunRecord | None = None


class InterruptionOutcome(BaseModel):
    """What a kill left of a lane, and what came of starting it again on that.

    ``share`` is the part of its usual time after which it was killed, ``words`` a sentence with
    figures; ``left`` and ``whole`` are rows by bucket, "" where the answer has none;
    ``left_bytes`` the files in its folder; ``agreement`` that of the second start's answer with
    the usual one.
    """

    verdict: InterruptionVerdict
    words: str
    share: float
    runs: InterruptionRuns
    left: dict[str, int]
    whole: dict[str, int]
    left_bytes: int | None
    agreement: Agreement | None = None
