"""Findings that were pinned, each with what it asserts."""

import operator
import re
from collections.abc import Callable
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ivrell.core.comparison.part import Part
from ivrell.core.recipe.kinds import Name
from ivrell.core.records.points import Point, Value

Strength = Literal["direction", "factor", "range", "crossing", "target", "order"]
"""What a claim asserts: that one lane takes less than another; at least so many times; so many
times within a range; that one passes the other between two sizes; that a lane meets a target; that
lanes come in an order."""

Aim = Literal["elapsed", "memory"]
"""What a target is of."""

Factor = Annotated[float, Field(gt=0)]


class CrossingClaimed(Part):
    """Where along a ``knob`` one lane passes another: above the size ``low`` and below ``high``."""

    knob: Name
    low: Annotated[float, Field(gt=0)]
    high: Annotated[float, Field(gt=0)]

    @model_validator(mode="after")
    def _rises(self) -> Self:
        if self.high <= self.low:
            raise ValueError("claim: crossing: low must be below high")
        return self


class Claim(Part):
    """A finding that was pinned, where knobs have the values of ``where``: a value, or a bound as
    "<= 20_000", "< 5", ">= 1_000" or "> 7". ``conditions`` say on what it was seen.

    The lane ``lower`` takes less of a ``measure`` (its key) than the lane ``higher``; with
    ``at_least`` so many times less, with ``between`` a factor within that range; ``factor`` is what
    was seen then. With ``crossing`` that is so above a size and the other way round below. Or the
    lane ``lane`` meets the target that it ``meets``. Or the lanes of ``order`` take more, each than
    the one before.
    """

    text: Annotated[str, Field(min_length=1, max_length=2_000)]
    lower: str | None = None
    higher: str | None = None
    measure: Annotated[str, Field(max_length=200)] = "elapsed"
    at_least: Factor | None = None
    between: Annotated[list[Factor], Field(min_length=2, max_length=2)] | None = None
    crossing: CrossingClaimed | None = None
    lane: str | None = None
    meets: Aim | None = None
    order: Annotated[list[str], Field(min_length=2, max_length=100)] | None = None
    where: dict[Name, Value] = {}
    conditions: Annotated[str, Field(max_length=2_000)] = ""
    factor: Factor | None = None

    @model_validator(mode="after")
    def _one_thing(self) -> Self:
        if self.order is not None:
            self._alone("order", "lower", "higher", "lane", "meets", *_OF_A_PAIR)
            if len(set(self.order)) < len(self.order):
                raise ValueError("claim: order: a lane stands there twice; name each once")
        elif self.lane is not None or self.meets is not None:
            self._alone("meets", "lower", "higher", "order", *_OF_A_PAIR)
            if self.lane is None or self.meets is None:
                raise ValueError("claim: a target needs both: lane and meets")
        elif self.lower is None or self.higher is None:
            raise ValueError(
                "claim: it names no lanes; give lower and higher, or lane and meets, or order"
            )
        else:
            self._of_two(self.lower, self.higher)
        for knob, value in self.where.items():
            if isinstance(value, str) and value[:1] in "<>" and not _BOUND.fullmatch(value):
                raise ValueError(
                    f'claim: where.{knob}: "{value}" is no bound; write one as "<= 20_000"'
                )
        return self

    def _of_two(self, lower: str, higher: str) -> None:
        if lower == higher:
            raise ValueError(f'claim: "{lower}" is held against itself; name two lanes')
        given = [name for name in _OF_A_PAIR if getattr(self, name) is not None]
        if len(given) > 1:
            raise ValueError(f"claim: {' and '.join(given)} are two claims; pin each on its own")
        if self.at_least is not None and self.at_least <= 1:
            raise ValueError("claim: at_least: a factor above 1")
        if self.between is not None and not self.between[0] < self.between[1]:
            raise ValueError("claim: between: the smaller factor first, such as [2, 4]")
        if self.crossing is not None and self.measure != "elapsed":
            raise ValueError("claim: crossing: it is of elapsed time; leave measure out")
        if self.crossing is not None and self.crossing.knob in self.where:
            raise ValueError(f"claim: where.{self.crossing.knob}: the crossing is along that knob")

    def _alone(self, what: str, *others: str) -> None:
        given = [name for name in others if getattr(self, name) is not None]
        if given:
            raise ValueError(f"claim: {what} goes without {given[0]}; pin each on its own")

    @property
    def strength(self) -> Strength:
        """What it asserts."""
        if self.order is not None:
            return "order"
        if self.meets is not None:
            return "target"
        if self.crossing is not None:
            return "crossing"
        if self.between is not None:
            return "range"
        return "direction" if self.at_least is None else "factor"

    @property
    def lanes(self) -> list[str]:
        """Ids of the lanes that it is about."""
        given = (self.lower, self.higher, self.lane, *(self.order or ()))
        return [lane for lane in given if lane is not None]

    @property
    def asserts(self) -> str:
        """What it asserts in words that need no name of a lane: "at least 3 times less"."""
        less = "faster" if self.measure == "elapsed" else "less"
        if self.between is not None:
            low, high = (f"{factor:,.10g}" for factor in self.between)
            return f"{low} to {high} times {less}"
        if self.at_least is not None:
            return f"at least {self.at_least:,.10g} times {less}"
        if self.crossing is not None:
            low, high = (f"{size:,.10g}" for size in (self.crossing.low, self.crossing.high))
            return f"passes between {low} and {high} of {self.crossing.knob}"
        if self.meets is not None:
            return f"meets the target of {_AIMS[self.meets]}"
        return f"{less} in this order" if self.order is not None else f"{less} at all"

    def is_about(self, point: Point) -> bool:
        """Whether it speaks of a point; it says nothing of one that lacks a knob it names."""
        return all(
            knob in point and _holds(condition, point[knob])
            for knob, condition in self.where.items()
        )


_OF_A_PAIR = ("at_least", "between", "crossing")
_AIMS: dict[Aim, str] = {"elapsed": "elapsed time", "memory": "peak memory"}
_BOUND = re.compile(r"(<=|>=|<|>)\s*(-?[0-9][0-9_]*(?:\.[0-9]+)?)")
_COMPARED: dict[str, Callable[[float, float], bool]] = {
    "<=": operator.le, ">=": operator.ge, "<": operator.lt, ">": operator.gt,
}  # fmt: skip


def _holds(condition: Value, value: object) -> bool:
    bound = _BOUND.fullmatch(condition) if isinstance(condition, str) else None
    if bound is None:
        return condition == value
    if not isinstance(value, int | float):
        return False
    return _COMPARED[bound[1]](value, float(bound[2].replace("_", "")))
