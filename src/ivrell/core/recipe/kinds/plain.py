"""The simplest kinds: true or false, and the same value in every row."""

from typing import Literal

import numpy as np
import pyarrow as pa
from pydantic import Field

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind, Variation
from ivrell.core.records.points import Value

_RARE = 0.01


class Boolean(Kind):
    """True for ``true_share`` of the rows."""

    kind: Literal["boolean"] = "boolean"
    true_share: float = Field(default=0.5, ge=0, le=1)

    def variations(self) -> list[Variation]:
        """Besides what every kind has: true hardly ever, and nearly always."""
        return [
            *super().variations(),
            Variation("true_share", self.true_share, _RARE, "true in one of a hundred rows"),
            Variation("true_share", self.true_share, 1 - _RARE, "false in one of a hundred rows"),
        ]

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        return pa.array(rng.random(block.count) < self.true_share)

    def longest(self, total: int) -> int:
        return len("false")

    def draw_sorted(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        return pa.array(block.quantiles(rng) >= 1 - self.true_share)


class Constant(Kind):
    """``value`` in every row: text, a number, or true or false."""

    kind: Literal["constant"] = "constant"
    value: Value

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        return pa.repeat(pa.scalar(self.value), block.count)

    def longest(self, total: int) -> int:
        return len(str(self.value))
