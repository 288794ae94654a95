"""How long a plan takes, before it is run."""

from typing import Literal, NamedTuple

from pydantic import BaseModel, computed_field

from ivrell.core.records.points import Point

Rest = Literal["measured", "sizes", "another size", "not known"]
"""What an estimate rests on: runs of the lane at these points; runs at several other sizes, by how
it grows; runs at one other size; nothing."""


class Ended(NamedTuple):
    """What of a run that has ended tells what it took; see RunRecord."""

    number: int
    lane: str
    point: Point
    state: str
    spent_s: float | None
    memory_bytes: int | None = None


class Took(BaseModel, frozen=True):
    """What a run took from the end of the one before to its own, seconds, its process and its
    answer included; ``memory_bytes`` is the most that it held, all in all, null where not told."""

    lane: str
    point: Point
    seconds: float
    memory_bytes: int | None = None


class MemoryEstimate(BaseModel, frozen=True):
    """What a lane will hold at the point where it holds most, in bytes, with bounds at 90 %;
    ``breaks`` says how sure it is that this is more than the plan's limit, or is empty."""

    value: float
    low: float
    high: float
    breaks: Literal["", "may", "will"]


class LaneEstimate(BaseModel, frozen=True):
    """What all of a lane's runs will take, in seconds, with bounds at 90 %; ``memory`` is null
    where nothing tells it."""

    lane: str
    seconds: float
    low: float
    high: float
    rests_on: Rest
    memory: MemoryEstimate | None = None


class Estimate(BaseModel, frozen=True):
    """What a plan will take in seconds, with bounds at 90 %, from its launch to its end: ``data_s``
    for making data among it; lanes that nothing is known of are not in it. ``round_s`` is what one
    round at all points takes; ``rounds_in_time`` how many rounds fit into the time that was given,
    null where none was; ``breaking`` are the lanes that will break the limit of memory, and
    ``perhaps`` those that may, at the largest size."""

    seconds: float
    low: float
    high: float
    data_s: float
    round_s: float
    lanes: list[LaneEstimate]
    rounds_in_time: int | None = None

    @computed_field  # type: ignore[prop-decorator]
    @property
    def breaking(self) -> list[str]:
        """Lanes that will break the limit of memory."""
        return [one.lane for one in self.lanes if one.memory and one.memory.breaks == "will"]

    @computed_field  # type: ignore[prop-decorator]
    @property
    def perhaps(self) -> list[str]:
        """Lanes that may."""
        return [one.lane for one in self.lanes if one.memory and one.memory.breaks == "may"]

    @property
    def unknown(self) -> list[str]:
        """Lanes that nothing is known of."""
        return [lane.lane for lane in self.lanes if lane.rests_on == "not known"]
