"""Trials held against each other over time: two of them, and all of a comparison."""

import datetime
from typing import Literal

from pydantic import BaseModel, computed_field

from ivrell.core.records.findings import Ratio
from ivrell.core.records.points import Point

About = Literal["code", "settings", "lanes", "data", "knobs", "answer", "plan", "machine"]
"""What of a trial is another: a lane's code or its settings, which lanes there are, and so on;
``machine`` with the versions of all that is on it."""


class Difference(BaseModel, frozen=True):
    """Something that is not the same in two trials; ``name`` is the lane's, the field's, the
    package's; ``before`` and ``after`` are empty where they are long."""

    about: About
    name: str
    before: str = ""
    after: str = ""

    @computed_field  # type: ignore[prop-decorator]
    @property
    def words(self) -> str:
        """In words: "pandas 2.3.3, then 3.0.1"; "code of Query"."""
        if self.before and self.after:
            return f"{self.name} {self.before}, then {self.after}"
        if self.before or self.after:
            return f"{self.name} {'gone' if self.before else 'new'}"
        return f"{self.about} of {self.name}" if self.about in ("code", "settings") else self.name


class LaneChange(BaseModel, frozen=True):
    """A measure of a lane in two trials: medians, and how many times less the later takes. What
    lanes that are the same in both show of the machine is taken out of ``ratio``; as it was
    measured it is ``plain``. ``same`` where nothing of the lane is another."""

    lane: str
    name: str
    same: bool
    before: float
    after: float
    plain: Ratio
    ratio: Ratio


class MeasureChange(BaseModel, frozen=True):
    """A measure in two trials, lane by lane. ``machine`` is how many times less lanes that are the
    same in both take, together; null where there is none, or only one that changed itself."""

    key: str
    label: str
    unit: str
    lanes: list[LaneChange]
    machine: Ratio | None = None


class Overlay(BaseModel, frozen=True):
    """Two trials laid over each other at a point: ``words`` say what changed in a sentence or two,
    ``anchors`` are the lanes, by id, that tell the machine's part."""

    point: Point
    words: str
    differences: list[Difference]
    anchors: list[str]
    measures: list[MeasureChange]


class OnMachine(BaseModel, frozen=True):
    """A machine of several that ran the same: what it is, and the order of its lanes, the quickest
    first."""

    name: str
    trial: int
    words: str
    ranking: list[str]


class LaneAcross(BaseModel, frozen=True):
    """A lane on several machines, in their order: medians, and how many times faster than the
    baseline it is there; null where it did not run. ``gain`` is how many times more it gains on the
    machine where it gains most than on the one where it gains least (by their places), null where
    that is not told."""

    lane: str
    name: str
    medians: list[float | None]
    ratios: list[Ratio | None]
    gain: Ratio | None = None
    most: int | None = None
    least: int | None = None


class Across(BaseModel, frozen=True):
    """The same trial on several machines, at a point; ``words`` say what held on all of them, and
    what did not."""

    point: Point
    baseline: str | None
    machines: list[OnMachine]
    lanes: list[LaneAcross]
    words: list[str]


class Remarks(BaseModel, frozen=True):
    """What people said of a trial: a name, a note; one that is ``kept`` is never thinned."""

    name: str = ""
    note: str = ""
    kept: bool = False


class PastTrial(BaseModel, frozen=True):
    """A trial in a history; ``differences`` are those to the one before, ``rounds`` counted runs of
    the lane that has most."""

    trial: int
    at: datetime.datetime
    rounds: int
    host: str
    said: Remarks
    differences: list[Difference]


class PastValue(BaseModel, frozen=True):
    """A lane's median in a trial with what bounds it, and as a part of the anchor's within the same
    rounds (null for the anchor, and where the two have no round in common)."""

    trial: int
    median: float
    low: float | None
    high: float | None
    of_anchor: float | None


class Since(BaseModel, frozen=True):
    """From trial ``trial`` on a lane takes ``factor`` times what it took, beside the anchor."""

    trial: int
    before: int
    factor: float
    low: float
    high: float
    words: str


class PastLane(BaseModel, frozen=True):
    """A lane over the trials that it ran in, the oldest first; ``turns`` are where it took another
    level."""

    lane: str
    name: str
    values: list[PastValue]
    turns: list[Since]


class History(BaseModel, frozen=True):
    """A measure of a comparison's trials at a point, the oldest first. ``anchor`` is the lane that
    the others are held against, null where only one ran twice; ``points`` and ``measures`` are
    those that there are, ``words`` what is told of it all."""

    point: Point
    points: list[Point]
    measure: str
    label: str
    unit: str
    measures: dict[str, str]
    anchor: str | None
    trials: list[PastTrial]
    lanes: list[PastLane]
    words: str
