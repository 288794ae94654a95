"""Putting a sought value where it is asked for, and nowhere else."""

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from ivrell.core.recipe.kinds.base import Block, Needle


def place(values: pa.Array, needle: Needle, block: Block, rng: np.random.Generator) -> pa.Array:
    """The values with the needle in its rows; where it stood by chance, a neighbour's value.

    Raises ValueError when the needle is of another type than the column.
    """
    try:
        sought = pa.scalar(needle.value).cast(values.type)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError, OverflowError):
        raise ValueError(
            f"the needle {needle.value!r} does not fit a column of {values.type}"
        ) from None
    by_chance = pc.fill_null(pc.equal(values, sought), False)
    if pc.any(by_chance).as_py():
        free = np.flatnonzero(~by_chance.to_numpy(zero_copy_only=False))
        if not len(free):
            raise ValueError(f"every value of the column is the needle {needle.value!r}")
        # The next value that is not the needle, round the end to the first.
        rows = np.arange(len(values))
        nearest = free[np.searchsorted(free, rows) % len(free)]
        values = pc.if_else(by_chance, values.take(pa.array(nearest)), values)
    return pc.if_else(pa.array(_rows(needle, block, rng)), sought, values)


def _rows(needle: Needle, block: Block, rng: np.random.Generator) -> NDArray[np.bool_]:
    """Which rows of the block hold the needle."""
    places = block.places
    if isinstance(needle.at, float):
        holds = np.zeros(block.count, dtype=bool)
        holds[rng.permutation(block.count)[: round(needle.at * block.count)]] = True
        return holds
    wanted = {"first": 0, "middle": block.total // 2, "last": block.total - 1, "absent": -1}
    return np.asarray(places == wanted[needle.at])
