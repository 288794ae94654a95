"""Values that stand in a column of another table."""

import zlib
from typing import Annotated, Literal

import numpy as np
import pyarrow as pa
from pydantic import Field

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind, Share
from ivrell.core.recipe.scatter import scatter
from ivrell.core.recipe.skew import skewed_ranks

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

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        present, absent = keys_of(self.to, self.absent_share)
        ranks = skewed_ranks(rng, len(present), self.skew, block.count)
        rows = scatter(ranks, len(present), zlib.crc32(self.name.encode()))
        if self.absent_share:
            missing = rng.random(block.count) < self.absent_share
            elsewhere = rng.integers(0, len(absent), block.count)
            rows = np.where(missing, len(present) + elsewhere, rows)
            present = pa.concat_arrays([present, absent])
        return present.take(pa.array(rows))


def absent_values(share: float) -> int:
    """How many different values that find nothing are kept for a share of them."""
    return _ABSENT_VALUES if share else 0
