"""Several values packed into one text field, and running words."""

from typing import Annotated, Literal, Self

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pydantic import Field, model_validator

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind, PlainText, Variation, Whole, ordered
from ivrell.core.recipe.made_up import vocabulary


class Packed(Kind):
    """Entries of "slot=value" in one text field, such as ``hold1=340;hold2=12``.

    Between ``fewest`` and ``most`` entries, in the order of ``slots``; values are whole
    numbers from ``low`` to ``high``.
    """

    kind: Literal["packed"] = "packed"
    slots: Annotated[list[PlainText], Field(min_length=1, max_length=100)]
    fewest: int = Field(default=1, ge=0)
    most: int | None = Field(default=None, ge=1)
    low: Whole = 0
    high: Whole = 999
    between: PlainText = Field(default=";", min_length=1, max_length=3)
    equals: PlainText = Field(default="=", min_length=1, max_length=3)

    @model_validator(mode="after")
    def _fits(self) -> Self:
        ordered(self.low, self.high)
        most = self.most or len(self.slots)
        if most > len(self.slots) or self.fewest > most:
            raise ValueError(f"{self.fewest} to {most} entries do not fit {len(self.slots)} slots")
        return self

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        slots = len(self.slots)
        wanted = rng.integers(self.fewest, self.most or slots, block.count, endpoint=True)
        # The slots of a row are those whose even draws are its smallest ones.
        draws = rng.random((slots, block.count))
        ranks = draws.argsort(axis=0, kind="stable").argsort(axis=0, kind="stable")
        entries = []
        for position, slot in enumerate(self.slots):
            values = pa.array(rng.integers(self.low, self.high, block.count, endpoint=True))
            entry = pc.binary_join_element_wise(
                pa.scalar(slot + self.equals), values.cast(pa.string()), ""
            )
            there = pa.array(ranks[position] < wanted)
            entries.append(pc.if_else(there, entry, pa.scalar(None, pa.string())))
        if self.fewest == 0:
            # A row without entries would be left out by the join below.
            entries[0] = pc.if_else(pa.array(wanted == 0), pa.scalar(""), entries[0])
        return pc.binary_join_element_wise(*entries, self.between, null_handling="skip")

    def longest(self, total: int) -> int:
        value = max(len(str(self.low)), len(str(self.high)))
        entries = sum(len(slot) + len(self.equals) + value for slot in self.slots)
        return entries + len(self.between) * (len(self.slots) - 1)


_MOST_WORDS = 1000


class Words(Kind):
    """Running text of ``fewest`` to ``most`` made-up words with spaces between."""

    kind: Literal["words"] = "words"
    fewest: int = Field(default=3, ge=1)
    most: int = Field(default=12, ge=1, le=_MOST_WORDS)

    @model_validator(mode="after")
    def _fits(self) -> Self:
        ordered(self.fewest, self.most)
        return self

    def variations(self) -> list[Variation]:
        """Besides what every kind has: text ten times as long."""
        most = min(_MOST_WORDS, 10 * self.most)
        found = super().variations()
        if most > self.most:
            found.append(Variation("most", self.most, most, f"up to {most} words"))
        return found

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        counts = rng.integers(self.fewest, self.most, block.count, endpoint=True)
        ends = np.concatenate([[0], np.cumsum(counts)])
        known = vocabulary()
        words = known.take(pa.array(rng.integers(0, len(known), int(ends[-1]))))
        lists = pa.ListArray.from_arrays(pa.array(ends.astype(np.int32)), words)
        return pc.binary_join(lists, " ")

    def longest(self, total: int) -> int:
        return self.most * (int(pc.max(pc.utf8_length(vocabulary())).as_py()) + 1) - 1
