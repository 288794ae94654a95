"""Codes: digits kept as text, which careless readers turn into numbers."""

import zlib
from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray
from pydantic import Field

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind, PlainText, Share
from ivrell.core.recipe.scatter import scatter


class Code(Kind):
    """``width`` digits as text, such as 004711.

    ``zeros_share`` of the rows begin with at least one zero (by chance a tenth would);
    ``suffix_share`` of them end in ``suffix``. ``unique`` gives every row another code; it
    goes with a ``zeros_share`` left to chance.
    """

    kind: Literal["code"] = "code"
    width: int = Field(default=6, ge=1, le=18)
    zeros_share: Share | None = None
    suffix: PlainText = Field(default="A", min_length=1, max_length=10)
    suffix_share: Share = 0.0
    unique: bool = False

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        if self.unique:
            return self._finished(self._scattered(block.rows), rng)
        numbers = rng.integers(0, 10**self.width, block.count)
        if self.zeros_share is not None:
            leading = 10 ** (self.width - 1)
            low = rng.random(block.count) < self.zeros_share
            numbers = np.where(
                low, rng.integers(0, leading, block.count),
                rng.integers(leading, 10**self.width, block.count),
            )  # fmt: skip
        return self._finished(numbers, rng)

    def absent(self, count: int, total: int) -> pa.Array:
        if not self.unique or self.suffix_share:
            return super().absent(count, total)
        if 10**self.width < total + count:
            raise ValueError(f"{self.width} digits make too few codes")
        rows = np.arange(total, total + count, dtype=np.int64)
        return self._digits(self._scattered(rows))

    def longest(self, total: int) -> int:
        return self.width + (len(self.suffix) if self.suffix_share else 0)

    def problem(self, total: int) -> str:
        if self.unique and 10**self.width < total:
            return (
                f"{self.width} digits make {10**self.width:,} codes, fewer than the {total:,} rows "
                "that must differ. Give them more digits."
            )
        if self.unique and self.zeros_share is not None:
            return "unique codes cannot have a zeros_share: leave one of the two out."
        return ""

    def _scattered(self, rows: NDArray[np.int64]) -> NDArray[np.int64]:
        return scatter(rows, 10**self.width, zlib.crc32(self.name.encode()))

    def _digits(self, numbers: NDArray[np.int64]) -> pa.Array:
        return pc.utf8_lpad(pa.array(numbers).cast(pa.string()), self.width, "0")

    def _finished(self, numbers: NDArray[np.int64], rng: np.random.Generator) -> pa.Array:
        digits = self._digits(numbers)
        if not self.suffix_share:
            return digits
        with_suffix = pa.array(rng.random(len(digits)) < self.suffix_share)
        longer = pc.binary_join_element_wise(digits, pa.scalar(self.suffix), "")
        return pc.if_else(with_suffix, longer, digits)
