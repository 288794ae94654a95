"""Numbers: whole ones in a range, and real ones with a spread."""

from typing import Literal, Self

import numpy as np
import pyarrow as pa
from pydantic import Field, model_validator

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind


class Integer(Kind):
    """Whole numbers from ``low`` to ``high``, both included, evenly; int64."""

    kind: Literal["integer"] = "integer"
    low: int
    high: int

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.low > self.high:
            raise ValueError(f"low ({self.low}) must not be above high ({self.high})")
        return self

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        return pa.array(rng.integers(self.low, self.high, block.count, endpoint=True))


class Number(Kind):
    """Real numbers; float64, rounded to ``decimals`` places where given.

    ``spread = "uniform"`` takes ``low`` and ``high`` (high excluded before rounding);
    ``"normal"`` takes ``mean`` and ``sd``.
    """

    kind: Literal["number"] = "number"
    spread: Literal["uniform", "normal"] = "uniform"
    low: float | None = None
    high: float | None = None
    mean: float | None = None
    sd: float | None = Field(default=None, ge=0)
    decimals: int | None = Field(default=None, ge=0, le=12)

    @model_validator(mode="after")
    def _complete(self) -> Self:
        wanted = {"uniform": ("low", "high"), "normal": ("mean", "sd")}[self.spread]
        for field in ("low", "high", "mean", "sd"):
            given = getattr(self, field) is not None
            if given != (field in wanted):
                verb = "does not take" if given else "needs"
                raise ValueError(f'spread "{self.spread}" {verb} {field}')
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError(f"low ({self.low}) must not be above high ({self.high})")
        return self

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        if self.spread == "uniform":
            assert self.low is not None and self.high is not None
            values = self.low + rng.random(block.count) * (self.high - self.low)
        else:
            assert self.mean is not None and self.sd is not None
            values = rng.standard_normal(block.count) * self.sd + self.mean
        return pa.array(values if self.decimals is None else np.round(values, self.decimals))
