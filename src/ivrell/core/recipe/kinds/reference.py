"""Values that stand in a column of another table."""

import zlib
from functools import lru_cache
from typing import Annotated, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray
from pydantic import Field

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind, Share, Variation, skewed
from ivrell.core.recipe.scatter import scatter
from ivrell.core.recipe.skew import skewed_ranks, weights

_ABSENT_VALUES = 1024


class Reference(Kind):
    """A value of the column ``to`` ("table.column"), some more popular when skewed.

    ``absent_share`` of the rows hold a value of the same shape that the other table does
    not have. Which of its rows are popular is scattered over that table.
    """

    kind: Literal["reference"] = "reference"
    to: Annotated[str, Field(pattern=r"^[A-Za-z_]\w*\.[A-Za-z_]\w*$")]
    skew: float = Field(default=0.0, ge=0, le=5)
    absent_share: Share = 0.0

    def references(self) -> str | None:
        return self.to

    def variations(self) -> list[Variation]:
        """Besides what every kind has: how unevenly rows are referred to, how many match."""
        return [
            *super().variations(),
            *skewed(self.skew),
            Variation("absent_share", self.absent_share, 0.0, "every row matched")
            if self.absent_share
            else Variation("absent_share", 0.0, 0.5, "half of the rows without a match"),
        ]

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        present, absent = keys_of(self.to, self.absent_share)
        if not block.count:
            return present.slice(0, 0)
        rows = skewed_ranks(rng, len(present), self.skew, block.count)
        # By popularity: which rows of the other table are popular is scattered over it.
        values = present.take(pa.array(_by_popularity(len(present), self.name)))
        if self.absent_share:
            missing = rng.random(block.count) < self.absent_share
            elsewhere = rng.integers(0, len(absent), block.count)
            rows = np.where(missing, len(present) + elsewhere, rows)
            values = pa.concat_arrays([values, absent])
        return values.take(pa.array(rows))

    def draw_sorted(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        if self.absent_share:
            raise ValueError("a table cannot be sorted by a reference with an absent_share")
        present, _ = keys_of(self.to, 0.0)
        if not block.count:
            return present.slice(0, 0)
        n = len(present)
        popular = np.empty(n)
        popular[_by_popularity(n, self.name)] = weights(n, self.skew)
        order = pc.sort_indices(present).to_numpy()
        ends = np.cumsum(popular[order])
        chosen = np.searchsorted(ends, block.quantiles(rng) * ends[-1], side="right")
        return present.take(pa.array(order[np.minimum(chosen, n - 1)]))


@lru_cache(maxsize=16)
def _by_popularity(n: int, name: str) -> NDArray[np.int64]:
    """Rows of a referred table of n rows, the most popular first."""
    return scatter(np.arange(n, dtype=np.int64), n, zlib.crc32(name.encode()))


def absent_values(share: float) -> int:
    """How many different values that find nothing are kept for a share of them."""
    return _ABSENT_VALUES if share else 0
