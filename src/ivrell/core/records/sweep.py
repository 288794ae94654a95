"""How lanes grow with a knob, and where the lead changes hands."""

from typing import Literal

from pydantic import BaseModel

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
    ``prediction`` is at ten times the largest size, null where the sizes span no decade."""

    lane: str
    measure: str
    laws: list[Law]
    bend: float | None
    words: str
    prediction: Prediction | None = None


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


class Regime(BaseModel, frozen=True):
    """A stretch of a knob in which a lane leads; null bounds are as far as it was measured.
    ``level`` are lanes that cannot be told from it at every size there."""

    lane: str
    from_size: float | None
    until_size: float | None
    level: list[str]


class SweepFindings(BaseModel):
    """How lanes do over one knob: how each grows, where the lead changes, and in ``words`` what to
    do with that. Other knobs are as at the first point."""

    knob: str
    measure: str
    growths: list[Growth] = []
    crossings: list[Crossing] = []
    regimes: list[Regime] = []
    walls: list[Wall] = []
    left_behind: list[LeftBehind] = []
    words: str = ""
