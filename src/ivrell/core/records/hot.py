"""Where the time and the memory of a lane went, told to lines of its code."""

from typing import Literal

from pydantic import BaseModel

from ivrell.core.records.points import Point

HotWay = Literal["sampled", "plan", "stages"]
"""Sampled: the lane's threads were looked at while it ran. Plan: the engine timed the steps of its
statements. Stages: only the parts that the lane names itself are known."""


class HotLine(BaseModel, frozen=True):
    """A line of a lane, or several that cannot be told apart.

    Attributes:
        first, line: of the lane's code, both included.
        text: of the line that is told.
        elapsed_s: seconds that went by in it or in what it called outside the lane's code.
        share: that of the lane's time.
        whole_s: with what it called inside the lane's code too.
        cpu_s: CPU seconds of all threads and child processes; null where that is not known.
        grown_bytes: by how much resident memory rose there above what it had ever been.
    """

    first: int
    line: int
    text: str
    elapsed_s: float
    share: float
    whole_s: float
    cpu_s: float | None = None
    grown_bytes: float = 0.0


class HotNode(BaseModel, frozen=True):
    """A call, a step of a plan, or a stage: the number of what it is part of (null for none), what
    it is, the line of the lane (null where it has none), seconds in itself and with all of its
    parts."""

    above: int | None
    what: str
    line: int | None
    own_s: float
    whole_s: float


class HotFindings(BaseModel, frozen=True):
    """Where a lane's time went in one run of its own, which counts for nothing.

    Attributes:
        lane, name: which.
        way: how it was found.
        point: that it ran at.
        elapsed_s: what the call took while it was looked at; ``cpu_s`` the CPU time of it.
        lines: those with time or memory, as they stand in the code.
        nodes: the tree of calls, of steps, or of stages; each behind what it is part of.
        words: the whole in sentences.
        unseen: what such a look cannot tell here.
        trouble: what kept the lane from its end, "" for nothing.
    """

    lane: str
    name: str
    way: HotWay
    point: Point
    elapsed_s: float | None
    cpu_s: float | None
    lines: list[HotLine] = []
    nodes: list[HotNode] = []
    words: list[str] = []
    unseen: list[str] = []
    trouble: str = ""
