"""What a gate finds: lanes of two versions of a comparison, held against each other in one job."""

from typing import Literal, get_args

from pydantic import BaseModel, computed_field

from ivrell.core.records.points import Point

GateVerdict = Literal["no slower", "slower", "wrong", "failed", "cannot tell"]
"""The worst stand behind: wrong is another answer than the old version gave, failed a lane that
does not do its work any more. Of other measures than times "slower" is said for more."""

GATE_VERDICTS: tuple[GateVerdict, ...] = get_args(GateVerdict)
FAILING: frozenset[GateVerdict] = frozenset({"slower", "wrong", "failed"})


class GatedLane(BaseModel, frozen=True):
    """A lane at a point by a measure: medians of the old and of the new version in the measure's
    unit, how many times more the new one takes with its interval (null where it cannot be formed),
    the rounds that both ran, and the line of the file that it begins at."""

    lane: str
    name: str
    point: Point
    measure: str
    label: str
    unit: str
    verdict: GateVerdict
    then: float | None
    now: float | None
    times: float | None
    low: float | None
    high: float | None
    rounds: int
    line: int
    reason: str


class Held(BaseModel, frozen=True):
    """A claim or a target that was asked for, and what became of it."""

    text: str
    verdict: Literal["holds", "fails", "cannot tell"]
    reason: str


class GateFindings(BaseModel, frozen=True):
    """What a gate found: ``margin`` is the share that is let pass, ``unchanged`` lanes were not
    run, ``added`` and ``removed`` ones have nothing to be held against; ``differences`` are what is
    another in both versions besides lanes. ``anchors`` are lanes that carried the level of kept
    figures over, where the old version was not run. ``folder`` holds the trial, "" where none was
    run."""

    against: str
    margin: float
    minutes: float
    lanes: list[GatedLane]
    held: list[Held] = []
    unchanged: list[str] = []
    added: list[str] = []
    removed: list[str] = []
    differences: list[str] = []
    anchors: list[str] = []
    rounds: int = 0
    stopped: bool = False
    folder: str = ""

    @computed_field  # type: ignore[prop-decorator]
    @property
    def verdict(self) -> Literal["passes", "fails", "cannot tell"]:
        """Of all together."""
        if any(one.verdict in FAILING for one in self.lanes):
            return "fails"
        if any(one.verdict == "fails" for one in self.held):
            return "fails"
        open_ = [one.verdict == "cannot tell" for one in self.lanes]
        open_ += [one.verdict == "cannot tell" for one in self.held]
        return "cannot tell" if any(open_) or self.stopped else "passes"
