"""Trials as rows of one table."""

import datetime

from pydantic import BaseModel

from ivrell.core.records.findings import Ratio
from ivrell.core.records.history import Difference
from ivrell.core.records.points import Point


class ComparedLane(BaseModel, frozen=True):
    """A lane in a trial: its median in seconds, and how many times faster it is than in the first
    trial, with and without what the machine did to all (null in the first, and where it did not run
    in both)."""

    lane: str
    median: float | None
    plain: Ratio | None = None
    change: Ratio | None = None


class ComparedTrial(BaseModel, frozen=True):
    """A row: the trial's number, what it is called, when it began, on what, its lanes, and what is
    not as in the first. ``quickest`` is the lane, by id, with the lowest median; ``words`` say what
    changed."""

    trial: int
    name: str
    at: datetime.datetime
    machine: str
    lanes: list[ComparedLane]
    quickest: str | None
    differences: list[Difference] = []
    words: str = ""


class Compared(BaseModel, frozen=True):
    """Trials of one comparison at a point that all ran; ``lanes`` are names by id, in order."""

    point: Point
    lanes: dict[str, str]
    trials: list[ComparedTrial]
