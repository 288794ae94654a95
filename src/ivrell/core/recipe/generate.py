"""Seeded generation, a block of rows at a time.

Every (table, column, block) has a generator of its own, keyed by name, so a block can be
drawn by any process, in any order, and adding a column changes no other.
"""

import zlib
from collections.abc import Iterator
from functools import lru_cache
from typing import cast

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ivrell.core.errors import BadInput
from ivrell.core.recipe.kinds import Block, Kind
from ivrell.core.recipe.kinds.reference import absent_values
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe


def _generator(seed: int, table: str, column: str, block: int) -> np.random.Generator:
    key = (zlib.crc32(table.encode()), zlib.crc32(column.encode()), block)
    return np.random.Generator(np.random.Philox(np.random.SeedSequence(seed, spawn_key=key)))


class Generator:
    """Draws the blocks of the tables of one resolved recipe.

    Columns that others refer to are drawn once and kept, so memory grows with the
    referred tables but not with the referring ones.
    """

    def __init__(self, recipe: Recipe) -> None:
        self.recipe = recipe
        self._keys = lru_cache(maxsize=None)(self._draw_keys)

    def blocks(self, table: str) -> int:
        """Number of blocks in a table."""
        return -(-self.recipe.rows_of(table) // BLOCK_ROWS)

    def block(self, table: str, index: int) -> pa.RecordBatch:
        """Rows ``index * BLOCK_ROWS`` and on of a table, up to a whole block."""
        total = self.recipe.rows_of(table)
        first = index * BLOCK_ROWS
        return self._draw(table, index, Block(first, min(BLOCK_ROWS, total - first), total))

    def sample(self, table: str, most: int) -> pa.RecordBatch:
        """At most ``most`` rows spread over the whole table, of the same shape as its own.

        They are its very rows only where the whole table is not larger.
        """
        total = self.recipe.rows_of(table)
        stride = max(1, -(-total // min(most, BLOCK_ROWS)))
        return self._draw(table, 0, Block(0, total // stride, total, stride))

    def _draw(self, table: str, index: int, block: Block) -> pa.RecordBatch:
        columns = self.recipe.tables[table].columns
        return pa.RecordBatch.from_arrays(
            [self._column(table, column, index, block) for column in columns],
            names=[column.name for column in columns],
        )

    def read(self, table: str) -> Iterator[pa.RecordBatch]:
        """All blocks of a table in order."""
        for index in range(self.blocks(table)):
            yield self.block(table, index)

    def _column(self, table: str, column: Kind, index: int, block: Block) -> pa.Array:
        rng = _generator(self.recipe.seed, table, column.name, index)
        values = column.draw(rng, block, self._keys)
        if column.null_share:
            missing = rng.random(block.count) < column.null_share
            values = pc.if_else(pa.array(missing), pa.scalar(None, values.type), values)
        return values

    def _draw_keys(self, target: str, absent_share: float) -> tuple[pa.Array, pa.Array]:
        table, name = target.split(".")
        column = cast(Kind, self.recipe.column(table, name))
        total = self.recipe.rows_of(table)
        present = pa.concat_arrays(
            self._column(
                table,
                column,
                index,
                Block(index * BLOCK_ROWS, min(BLOCK_ROWS, total - index * BLOCK_ROWS), total),
            )
            for index in range(self.blocks(table))
        )
        try:
            absent = column.absent(absent_values(absent_share), total) if absent_share else None
        except ValueError as reason:
            raise BadInput(
                f"No values can be named that {target} does not hold: {reason}.",
                where=f"data.tables.{table} ({name})",
                cure="Set absent_share to 0, or refer to a sequence or a unique text column.",
            ) from None
        return present, absent if absent is not None else present.slice(0, 0)
