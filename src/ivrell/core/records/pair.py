"""Two lanes of a trial held against each other."""

from typing import Literal

from pydantic import BaseModel

from ivrell.core.records.agreement import Agreement
from ivrell.core.records.findings import Better, Measured, Ratio
from ivrell.core.records.points import Point


class DiffLine(BaseModel, frozen=True):
    """A line of two texts held against each other; its number in each, from 1, null where it is
    not there."""

    kind: Literal["same", "removed", "added"]
    text: str
    base_line: int | None
    lane_line: int | None


class MeasurePair(BaseModel, frozen=True):
    """A measure of two lanes; ``ratio`` is how many times less the lane takes than the base, null
    where one of them is zero."""

    key: str
    label: str
    unit: str
    better: Better
    base: Measured
    lane: Measured
    ratio: Ratio | None


class StagePair(BaseModel, frozen=True):
    """A stage in two lanes, matched by its name; seconds, medians, null where a lane has no stage
    of that name. No name is the part that no stage covers."""

    name: str | None
    base_s: float | None
    lane_s: float | None

    @property
    def matched(self) -> bool:
        """Whether both have it."""
        return self.base_s is not None and self.lane_s is not None


class PairFindings(BaseModel):
    """Two lanes at a point: ``base`` what the other is held against, by id. ``agreement`` is that
    of their answers alone, null where one gave none; ``words`` explain what was measured;
    ``base_run`` and ``lane_run`` are the numbers of each one's run nearest to its median."""

    base: str
    lane: str
    base_name: str
    lane_name: str
    point: Point
    ratio: Ratio | None
    words: list[str]
    measures: list[MeasurePair]
    stages: list[StagePair]
    code: list[DiffLine]
    lines_changed: int
    agreement: Agreement | None
    base_run: int | None
    lane_run: int | None
