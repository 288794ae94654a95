"""Columns worked out from others of the same row."""

from typing import Annotated, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pydantic import AfterValidator, Field

from ivrell.core.recipe.expression import evaluate, names_in
from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind


def _readable(text: str) -> str:
    if not names_in(text):
        raise ValueError(f'"{text}" uses no column; for one value in every row use "constant"')
    return text


class Derived(Kind):
    """``formula`` on number columns of the same row, such as ``toll * 1.2 + 3``; rounded to
    ``decimals`` places where given."""

    kind: Literal["derived"] = "derived"
    formula: Annotated[str, AfterValidator(_readable)]
    decimals: int | None = Field(default=None, ge=0, le=12)

    def needs(self) -> set[str]:
        return names_in(self.formula)

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        values = evaluate(self.formula, block.others)
        return values if self.decimals is None else pc.round(values, self.decimals)
