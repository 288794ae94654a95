"""A few values that repeat, evenly or with some more popular than others."""

from functools import lru_cache
from typing import Annotated, Literal, Self

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray
from pydantic import Field, model_validator

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind, PlainText, Variation, skewed
from ivrell.core.recipe.made_up import made_up_names
from ivrell.core.recipe.skew import skewed_ranks, weights


class Category(Kind):
    """One of ``values``, or of ``count`` made-up names; the first the most popular when
    ``skew`` is above 0, or as popular as ``weights`` say, one for each; text."""

    kind: Literal["category"] = "category"
    values: Annotated[list[PlainText], Field(min_length=1, max_length=100_000)] | None = None
    count: int | None = Field(default=None, ge=1, le=1_000_000)
    skew: float = Field(default=0.0, ge=0, le=5)
    weights: (
        Annotated[
            list[Annotated[float, Field(ge=0, le=1e12)]], Field(min_length=1, max_length=10_000)
        ]
        | None
    ) = None

    @model_validator(mode="after")
    def _one_of_two(self) -> Self:
        if (self.values is None) == (self.count is None):
            raise ValueError("give either values or a count of made-up ones")
        if self.weights is not None:
            how_many = len(self.values) if self.values else self.count
            if self.skew or len(self.weights) != how_many or not sum(self.weights):
                raise ValueError(
                    f"weights are one number for each of the {how_many} values, not all 0, and "
                    "stand without skew"
                )
        return self

    def _ends(self, order: NDArray[np.int64] | slice = slice(None)) -> NDArray[np.float64]:
        """Summed weights of the values in an order."""
        known = np.array(self.weights) if self.weights else weights(len(self.names()), self.skew)
        return np.cumsum(known[order])

    def names(self) -> pa.Array:
        """All values, the most popular first."""
        return _names(tuple(self.values) if self.values else None, self.count)

    def variations(self) -> list[Variation]:
        """Besides what every kind has: how unevenly values come, and how many there are."""
        found = super().variations()
        if self.weights is None:
            found += skewed(self.skew)
        if self.count is not None:
            many, few = 10 * self.count, max(1, self.count // 10)
            found.append(Variation("count", self.count, many, f"{many:,} different values"))
            found.append(Variation("count", self.count, few, f"{few:,} different values"))
        return found

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        names = self.names()
        if self.weights:
            ends = self._ends()
            chosen = np.searchsorted(ends, rng.random(block.count) * ends[-1], side="right")
            return names.take(pa.array(np.minimum(chosen, len(names) - 1)))
        return names.take(pa.array(skewed_ranks(rng, len(names), self.skew, block.count)))

    def longest(self, total: int) -> int:
        return int(pc.max(pc.utf8_length(self.names())).as_py())

    def draw_sorted(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        names = self.names()
        order = np.argsort(np.array(names.to_pylist(), dtype=object), kind="stable")
        ends = self._ends(order)
        chosen = np.searchsorted(ends, block.quantiles(rng) * ends[-1], side="right")
        return names.take(pa.array(order[np.minimum(chosen, len(names) - 1)]))


@lru_cache(maxsize=64)
def _names(values: tuple[str, ...] | None, count: int | None) -> pa.Array:
    return pa.array(values, pa.string()) if values else made_up_names(count or 1)
