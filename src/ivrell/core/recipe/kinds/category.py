"""A few values that repeat, evenly or with some more popular than others."""

from typing import Literal

import numpy as np
import pyarrow as pa
from pydantic import Field

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind
from ivrell.core.recipe.skew import skewed_ranks


class Category(Kind):
    """One of ``values``, the first the most popular when ``skew`` is above 0; text."""

    kind: Literal["category"] = "category"
    values: list[str] = Field(min_length=1)
    skew: float = Field(default=0.0, ge=0, le=5)

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        ranks = skewed_ranks(rng, len(self.values), self.skew, block.count)
        return pa.array(self.values, type=pa.string()).take(pa.array(ranks))
