"""What a challenge finds: which changes turn a conclusion over, and which lanes are wrong then."""

import datetime
from typing import Literal, get_args

from pydantic import BaseModel

from ivrell.core.records.findings import Ratio
from ivrell.core.records.points import Point, Value
from ivrell.core.records.sweep import Crossing

ChallengeVerdict = Literal["turned over", "leader wrong", "unsure", "held", "not run"]
"""Held: the leader surely stays the quickest of those that are right. Unsure: it is not told apart
from another one. Leader wrong: it fails, or answers otherwise than the lane that answers are held
against, where it did not before."""

CHALLENGE_VERDICTS: tuple[ChallengeVerdict, ...] = get_args(ChallengeVerdict)


class ChangedLane(BaseModel, frozen=True):
    """A lane where something was changed: its median in seconds then and as things are (null where
    there is none), its ratio to the leader, and what is wrong with it ("" for nothing new)."""

    lane: str
    name: str
    usual_s: float | None
    changed_s: float | None
    of_leader: Ratio | None
    wrong: str = ""


class ChangeOutcome(BaseModel, frozen=True):
    """What became of the lead under one change.

    Attributes:
        words: the change, such as "a tenth of passages.toll missing".
        what: its sort.
        knob, usual, value: the knob or condition that was another one, and its values.
        point: at which it ran, in the trial of ``folder``.
        verdict: see ChallengeVerdict.
        leader: who is the quickest there of those that are right; null where nobody ended.
        lead: how many times less the leader of before takes than the best other one, with its
            interval; below 1 it takes more. Null where one of the two has no time.
        low, high: of that.
        rounds: that were had.
        lanes: each of them.
        crossing: where between the two values it turns over; null where that was not looked for.
        reason: why it was not run, "" where it was.
    """

    words: str
    what: str
    knob: str
    usual: Value
    value: Value
    point: Point = {}
    folder: str = ""
    verdict: ChallengeVerdict
    leader: str | None = None
    lead: float | None = None
    low: float | None = None
    high: float | None = None
    rounds: int = 0
    lanes: list[ChangedLane] = []
    crossing: Crossing | None = None
    reason: str = ""

    @property
    def newly_wrong(self) -> list[ChangedLane]:
        """Lanes that are wrong or fail here and were not before."""
        return [lane for lane in self.lanes if lane.wrong]


class ChallengeFindings(BaseModel):
    """What a challenge found.

    Attributes:
        name: of the comparison.
        made_at: when.
        minutes: that it might take; ``took_s`` that it took.
        point: as things are.
        leader, leader_name: who is the quickest there; ``sure`` whether that is told.
        usual: how many times less it takes there than the best other one.
        outcomes: every change, those that matter first.
        runs: that were made; ``grid`` those that all values of all changes with each other, in as
            many rounds, would have taken.
        words: the whole in sentences.
        folder: where its trials are.
        stopped: whether it was stopped before it was through.
    """

    name: str
    made_at: datetime.datetime
    minutes: float
    took_s: float
    point: Point
    leader: str
    leader_name: str
    sure: bool
    usual: float | None
    outcomes: list[ChangeOutcome]
    runs: int
    grid: float
    words: list[str]
    folder: str
    stopped: bool = False
