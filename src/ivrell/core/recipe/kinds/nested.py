"""Records and lists within a row."""

from typing import Annotated, Literal, Self, Union

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pydantic import Field, model_validator

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind
from ivrell.core.recipe.kinds.category import Category
from ivrell.core.recipe.kinds.code import Code
from ivrell.core.recipe.kinds.numbers import Integer, Number
from ivrell.core.recipe.kinds.packed import Words
from ivrell.core.recipe.kinds.plain import Boolean, Constant
from ivrell.core.recipe.kinds.text import Text
from ivrell.core.recipe.kinds.timestamp import Date, Timestamp

Inner = Annotated[
    Union[  # noqa: UP007 - one of a list that may grow
        Integer, Number, Boolean, Category, Text, Words, Code, Date, Timestamp, Constant
    ],
    Field(discriminator="kind"),
]
_AROUND = 8
"""Characters that JSON has round a name and its value."""


class Nested(Kind):
    """A record in each row, of ``fields`` that are columns in small; with ``most`` a list of
    ``fewest`` to so many. ``bare`` lists hold the values of their only field instead.

    Forms and databases that know no such values hold them as JSON text.
    """

    kind: Literal["nested"] = "nested"
    fields: Annotated[list[Inner], Field(min_length=1, max_length=50)]
    fewest: int = Field(default=0, ge=0)
    most: int | None = Field(default=None, ge=1, le=1000)
    bare: bool = False

    @model_validator(mode="after")
    def _fits(self) -> Self:
        names = [field.name for field in self.fields]
        if len(set(names)) < len(names):
            raise ValueError("two of its fields have one name; give one another")
        if self.most is not None and self.fewest > self.most:
            raise ValueError(f"fewest ({self.fewest}) must not be above most ({self.most})")
        if self.bare and (self.most is None or len(self.fields) > 1):
            raise ValueError("bare is for lists (with most) of one field")
        for field in self.fields:
            if field.needle or field.repeat > 1 or getattr(field, "unique", False):
                raise ValueError(f"{field.name}: fields take no needle, repeat or unique")
        if self.needle:
            raise ValueError("a needle is one value; give a field's column of its own one")
        return self

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        ends = np.arange(block.count + 1)
        if self.most is not None:
            counts = rng.integers(self.fewest, self.most, block.count, endpoint=True)
            ends = np.concatenate([[0], np.cumsum(counts)])
        inner = Block(0, int(ends[-1]), max(1, int(ends[-1])))
        values = [self._values(field, rng, inner, keys_of) for field in self.fields]
        names = [field.name for field in self.fields]
        held = values[0] if self.bare else pa.StructArray.from_arrays(values, names)
        if self.most is None:
            return held
        return pa.ListArray.from_arrays(pa.array(ends.astype(np.int32)), held)

    @staticmethod
    def _values(field: Kind, rng: np.random.Generator, inner: Block, keys_of: KeysOf) -> pa.Array:
        values = field.draw(rng, inner, keys_of)
        if field.null_share:
            missing = pa.array(rng.random(inner.count) < field.null_share)
            values = pc.if_else(missing, pa.scalar(None, values.type), values)
        return values

    def longest(self, total: int) -> int:
        # A quote in a text has a mark before it.
        one = sum(len(f.name) + 2 * f.longest(total) + _AROUND for f in self.fields) + 2
        return 2 + (self.most or 1) * (one + 2)
