"""How lanes grow with a knob, and where the lead changes hands."""

from typing import Literal

from pydantic import BaseModel

from ivrell.core.records.points import Point

LawName = Literal["constant", "logarithmic", "linear", "n log n", "quadratic", "power"]


class Law(BaseModel, frozen=True):
    """A value that grows with the size n: ``fixed + factor * f(n)``, f by the ``name`` (of a power
    ``n ** exponent``). ``exponent`` is of the part that grows, with its bounds at 95 % whatever
    the law; ``fixed`` with its bounds is in the measure's unit; ``doubling`` is by how much the
    value grows when n doubles at the largest size; ``residual`` the spread of single values about
    the law, as a share. ``from_size`` and ``until_size`` bound what it was fitted to."""

    name: LawName
    fixed: float
    fixed_low: float
    fixed_high: float
    factor: float
    exponent: float
    exponent_low: float
    exponent_high: float
    doubling: float
    residual: float
    from_size: float
    until_size: float


class Prediction(BaseModel, frozen=True):
    """A value at a size that was not run, with its bounds at 90 %."""

    size: float
    value: float
    low: float
    high: float


class Growth(BaseModel, frozen=True):
    """How a lane's measure grows: one law, or two with a bend at ``bend``; ``words`` say it. No law
    where there were too few sizes, or too near to each other, for one: ``words`` say that.
    ``ahead`` are predictions from the largest size to ten times it, the farthest last; none where
    the sizes span no decade."""

    lane: str
    measure: str
    laws: list[Law]
    bend: float | None
    words: str
    ahead: list[Prediction] = []


class Crossing(BaseModel, frozen=True):
    """Where the lead changes from a lane to another as a knob grows: at ``at``, surely between
    ``low`` and ``high`` (null: as far as it was measured)."""

    before: str
    after: str
    at: float
    low: float | None
    high: float | None


class Wall(BaseModel, frozen=True):
    """The size at which a lane would reach the memory that a run may take, with bounds at 90 %."""

    lane: str
    limit_bytes: float
    size: float
    low: float
    high: float


class LeftBehind(BaseModel, frozen=True):
    """A lane that was not run from a size on: it reached a limit at a smaller one, or was expected
    to. ``last_size`` is the largest that it ran at, ``expected`` what it would have taken at the
    next by its growth, in the measure's unit."""

    lane: str
    from_size: float
    last_size: float
    expected: float | None


class Undecided(BaseModel, frozen=True):
    """A size at which the lane that leads is not told apart from others, by id."""

    size: float
    lanes: list[str]


class Regime(BaseModel, frozen=True):
    """A stretch of a knob in which a lane leads; null bounds are as far as it was measured.
    ``level`` are lanes that are not told apart from it at every size there; ``undecided`` the
    sizes there at which it is not told to lead, as the findings at that size say too."""

    lane: str
    from_size: float | None
    until_size: float | None
    level: list[str]
    undecided: list[Undecided] = []


class Rule(BaseModel, frozen=True):
    """How well the regimes name the lane to take: of ``held_out`` sizes, each left out in its turn,
    those from the others name the lane that leads there, or one as good as it but for what does
    not matter, at ``named_right``."""

    held_out: int
    named_right: int


class Lead(BaseModel, frozen=True):
    """Who leads by a measure along a knob, where that changes, and in ``words`` what to do with it.
    ``rule`` is null where there are too few sizes to leave one out."""

    measure: str
    crossings: list[Crossing]
    regimes: list[Regime]
    words: str
    rule: Rule | None


class Spent(BaseModel, frozen=True):
    """What a trial spent at a size: runs, warm-ups among them, and seconds from the end of the run
    before to the end of each. ``searched``: the plan did not name it, a search did."""

    size: float
    runs: int
    seconds: float
    searched: bool


class SweepFindings(BaseModel):
    """How lanes do over one knob: how each grows, who leads where, and in ``words`` what to do with
    that. ``at`` are the other knobs and conditions, ``together`` names those whose values go
    together with the knob's, each with its own; ``searched`` says, where a search for crossings was
    asked for, whether what was asked is reached, or what is not and why."""

    knob: str
    together: list[str] = []
    at: Point = {}
    growths: list[Growth] = []
    leads: list[Lead] = []
    searched: str = ""
    walls: list[Wall] = []
    left_behind: list[LeftBehind] = []
    spent: list[Spent] = []
    words: str = ""

    def holds(self, point: Point) -> bool:
        """Whether a point lies along it."""
        return all(point.get(name) == value for name, value in self.at.items())

    def lead(self, measure: str) -> Lead | None:
        """Who leads by a measure."""
        return next((lead for lead in self.leads if lead.measure == measure), None)
