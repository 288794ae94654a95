"""What to look at next, told of a trial's own figures."""

from typing import Literal

from pydantic import BaseModel

from ivrell.core.records.plan import Plan

StepKind = Literal["reading", "spilling", "threads", "sizes", "cold", "unnamed"]


class NextStep(BaseModel, frozen=True):
    """Something worth a look.

    Attributes:
        kind: its sort.
        words: what was measured, and what that leaves open.
        evidence: the figures that it rests on.
        lane: the lane that it is about; null for all.
        plan: of the trial that would tell; null where a lane is to be changed, or looked at alone.
        label: what running it is called; "" without a plan.
        arguments: the same on the command line, behind the file's name.
    """

    kind: StepKind
    words: str
    evidence: list[str]
    lane: str | None = None
    plan: Plan | None = None
    label: str = ""
    arguments: str = ""


class NextSteps(BaseModel, frozen=True):
    """What to look at next, that first which may change most; none where nothing measured asks for
    more."""

    steps: list[NextStep]
