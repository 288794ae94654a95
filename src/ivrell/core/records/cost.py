"""What lanes cost: prices that the user keeps, what is assumed, and what follows of it."""

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ivrell.core.records.points import Point

DAYS_A_MONTH = 365.25 / 12
PriceName = Annotated[str, Field(min_length=1, max_length=60, pattern=r"^\S(.*\S)?$")]
Price = Annotated[float, Field(gt=0, allow_inf_nan=False)]


class _Kept(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class MachinePrice(_Kept):
    """What a machine costs: an hour of it or, where CPU time is what is billed, an hour of that;
    ``memory_bytes`` is what it holds."""

    per_hour: Price | None = None
    per_cpu_hour: Price | None = None
    memory_bytes: Annotated[int, Field(gt=0)] | None = None

    @model_validator(mode="after")
    def _priced(self) -> Self:
        if self.per_hour is None and self.per_cpu_hour is None:
            raise ValueError("a machine needs a price: of an hour, or of an hour of CPU time")
        return self

    @property
    def billed(self) -> Literal["machine time", "CPU time"]:
        """What is paid for."""
        return "CPU time" if self.per_hour is None else "machine time"


class StoragePrice(_Kept):
    """What 10^9 bytes cost for a month."""

    per_gb_month: Price


class Prices(_Kept):
    """The price tables of the user; ``currency`` is the word behind every amount."""

    currency: Annotated[str, Field(max_length=12)] = ""
    machines: dict[PriceName, MachinePrice] = {}
    storages: dict[PriceName, StoragePrice] = {}


class Assumed(_Kept):
    """What costs rest on: how often a day, on which machine and storage of the price tables;
    ``work`` are hours that a lane takes more to write and keep than the baseline, ``per_work_hour``
    what one costs."""

    per_day: Annotated[float, Field(gt=0, allow_inf_nan=False)]
    machine: PriceName
    storage: PriceName | None = None
    work: dict[str, Annotated[float, Field(gt=0, allow_inf_nan=False)]] = {}
    per_work_hour: Price | None = None


class Amount(BaseModel, frozen=True):
    """An amount with its bounds; null where they are not known."""

    value: float
    low: float | None = None
    high: float | None = None


class LaneCost(BaseModel, frozen=True):
    """What a lane costs a month: its ``running`` (by the median of what is billed, with its
    interval), the ``storage`` of the form that it reads with its indexes (null where the sizes are
    not known, or no storage is priced), both together. ``holds`` names the cheapest machine that
    has the memory it takes, "" where none is known to. ``pays_back_days`` are those after which its
    extra work is paid by what it saves on the baseline; null where none was said, or it saves
    nothing."""

    lane: str
    name: str
    running: Amount
    storage: float | None
    total: Amount
    stored_bytes: int | None
    peak_bytes: float | None
    holds: str
    pays_back_days: Amount | None = None


class CostAtSize(BaseModel, frozen=True):
    """What lanes cost a month at a size, by id; ``predicted`` where it was not run: of their growth
    at 90 %."""

    size: float
    predicted: bool
    lanes: dict[str, Amount]


class CostCrossing(BaseModel, frozen=True):
    """Between which two sizes another lane becomes the cheapest, and about where."""

    before: str
    after: str
    at: float
    low: float
    high: float


class CostAlong(BaseModel, frozen=True):
    """What lanes cost along a knob, the sizes that were run first."""

    knob: str
    at: Point
    sizes: list[CostAtSize]
    crossings: list[CostCrossing]


class CostFindings(BaseModel, frozen=True):
    """What the lanes of a trial cost a month at a point, the cheapest first, and along its knobs;
    ``words`` say it in sentences."""

    point: Point
    assumed: Assumed
    prices: Prices
    lanes: list[LaneCost]
    along: list[CostAlong]
    words: list[str]
