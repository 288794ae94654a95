"""Whole numbers that each stand once."""

from typing import Literal

import numpy as np
import pyarrow as pa

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind, Whole


class Sequence(Kind):
    """``start``, ``start + step``, ``start + 2 step``...; int64. In row order, or each
    once in shuffled order where the table is shuffled."""

    kind: Literal["sequence"] = "sequence"
    start: Whole = 1
    step: Whole = 1

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        return pa.array(block.rows * self.step + self.start)

    def draw_sorted(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        rising = block.places if self.step > 0 else block.total - 1 - block.places
        return pa.array(rising * self.step + self.start)

    def absent(self, count: int, total: int) -> pa.Array:
        if not -(2**63) <= self.start + self.step * (total + count) < 2**63:
            raise ValueError("no whole numbers of 64 bits are left behind its last one")
        rows = np.arange(total, total + count, dtype=np.int64)
        return pa.array(rows * self.step + self.start)

    def longest(self, total: int) -> int:
        return max(len(str(self.start)), len(str(self.start + self.step * (total - 1))))

    def problem(self, total: int) -> str:
        if self.step == 0:
            return "step must not be 0: every row would hold the same number."
        if not -(2**63) <= self.start + self.step * max(0, total - 1) < 2**63:
            return (
                f"{self.start} and {total:,} steps of {self.step} leave what 64 bits can hold. "
                "Take a smaller step or fewer rows."
            )
        return ""
