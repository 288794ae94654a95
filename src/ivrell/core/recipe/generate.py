"""Seeded generation, a block of rows at a time.

Every (table, column, block) has a generator of its own, keyed by name, so a block can be
drawn by any process, in any order, and adding a column changes no other.
"""

import zlib
from collections.abc import Iterable, Iterator
from dataclasses import replace
from functools import lru_cache
from typing import cast

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from ivrell.core.base.errors import BadInput
from ivrell.core.recipe.kinds import Block, Kind
from ivrell.core.recipe.kinds.reference import absent_values
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe
from ivrell.core.recipe.needles import place


def seeded(seed: int, table: str, column: str, block: int) -> np.random.Generator:
    """The generator of one column's block; ``column`` may also name a part of the table
    that is no column, with a name that no column can have."""
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
        self._schema = lru_cache(maxsize=None)(lambda table: self.sample(table, 1).schema)

    def blocks(self, table: str) -> int:
        """Number of blocks in a table; a table without rows is one empty block."""
        return max(1, -(-self.recipe.rows_of(table) // BLOCK_ROWS))

    def block(self, table: str, index: int) -> pa.RecordBatch:
        """Rows ``index * BLOCK_ROWS`` and on of a table, up to a whole block."""
        if own := self.recipe.own_file(table):
            return own.block(index)
        return self._draw(table, index, self._place(table, index))

    def sample(self, table: str, most: int) -> pa.RecordBatch:
        """At most ``most`` rows spread over the whole table, of the same shape as its own.

        They are its very rows only where the whole table is not larger.
        """
        if self.recipe.own_file(table):
            return self._sample_of_own(table, most)
        total = self.recipe.rows_of(table)
        stride = max(1, -(-total // min(most, BLOCK_ROWS)))
        whole = self._place(table, 0)
        return self._draw(table, 0, replace(whole, count=total // stride, stride=stride))

    def _sample_of_own(self, table: str, most: int) -> pa.RecordBatch:
        """Rows of some blocks of an own file, spread over each."""
        blocks = self.blocks(table)
        chosen = sorted({i * (blocks - 1) // 7 for i in range(8)})
        found = []
        for index in chosen:
            block = self.block(table, index)
            stride = max(1, -(-block.num_rows * len(chosen) // most))
            found.append(block.take(pa.array(np.arange(0, block.num_rows, stride))))
        return pa.concat_batches(found)

    def read(self, table: str) -> Iterator[pa.RecordBatch]:
        """All blocks of a table in order."""
        for index in range(self.blocks(table)):
            yield self.block(table, index)

    def schema(self, table: str) -> pa.Schema:
        """Names and Arrow types of a table's columns."""
        return self._schema(table)

    def widths(self, table: str) -> dict[str, int]:
        """For each column the characters of the longest text that a value of it can have."""
        if own := self.recipe.own_file(table):
            return {name: _longest(own.column(name)) for name in own.schema.names}
        return {
            column.name: self._width(column, self.recipe.rows_of(table))
            for column in self.recipe.tables[table].columns
        }

    def _width(self, column: Kind, total: int) -> int:
        target = column.references()
        if target is None:
            width = column.longest(total)
        else:
            name, _, referred = target.partition(".")
            if own := self.recipe.own_file(name):
                return _longest(own.column(referred))
            rows = self.recipe.rows_of(name) + absent_values(1.0)
            width = self._width(cast(Kind, self.recipe.column(name, referred)), rows)
        return max(width, len(str(column.needle.value)) if column.needle else 0, 1)

    def duplicates(self, table: str) -> int:
        """How many rows of a table repeat another one whole."""
        share = self.recipe.tables[table].repeated_share
        whole, rest = divmod(self.recipe.rows_of(table), BLOCK_ROWS)
        return whole * _repeats(BLOCK_ROWS, share) + _repeats(rest, share)

    def _place(self, table: str, index: int) -> Block:
        total = self.recipe.rows_of(table)
        first = index * BLOCK_ROWS
        shuffled = self.recipe.tables[table].order == "shuffled"
        salt = zlib.crc32(f"{self.recipe.seed}/{table}".encode()) if shuffled else None
        return Block(first, min(BLOCK_ROWS, total - first), total, salt=salt)

    def _draw(self, table: str, index: int, block: Block) -> pa.RecordBatch:
        drawn = self._drawn(table, index, block, self.recipe.tables[table].drawing_order())
        names = [column.name for column in self.recipe.tables[table].columns]
        batch = pa.RecordBatch.from_arrays([drawn[name] for name in names], names=names)
        if share := self.recipe.tables[table].repeated_share:
            batch = batch.take(pa.array(self._repeated(table, index, block, share)))
        return batch

    def _drawn(
        self, table: str, index: int, block: Block, columns: Iterable[Kind]
    ) -> dict[str, pa.Array]:
        """Columns by name, each given behind those that it needs."""
        drawn: dict[str, pa.Array] = {}
        for column in columns:
            needed = {name: drawn[name] for name in column.needs()}
            drawn[column.name] = self._column(table, column, index, replace(block, others=needed))
        return drawn

    def _column(self, table: str, column: Kind, index: int, block: Block) -> pa.Array:
        rng = seeded(self.recipe.seed, table, column.name, index)
        in_order = self.recipe.tables[table].sorted_by == column.name
        try:
            draw = column.draw_sorted if in_order else column.draw
            values = draw(rng, block, self._keys)
        except ValueError as error:
            text = str(error)
            raise BadInput(
                f"{text[:1].upper()}{text[1:]}.",
                where=f"data.tables.{table} ({column.name})",
                hint="Change the column's settings, or sort by another one.",
            ) from None
        if column.null_share:
            missing = rng.random(block.count) < column.null_share
            values = pc.if_else(pa.array(missing), pa.scalar(None, values.type), values)
        if column.needle:
            try:
                values = place(values, column.needle, block, rng)
            except ValueError as error:
                raise BadInput(
                    f"{str(error).capitalize()}.",
                    where=f"data.tables.{table} ({column.name}.needle)",
                    hint="Give a value of the column's own type.",
                ) from None
        return values

    def _repeated(self, table: str, index: int, block: Block, share: float) -> NDArray[np.int64]:
        """Which row of the block stands at each place when some repeat another.

        In a sorted table a row repeats the one before it, so that the order holds; else any
        of the block that is no repeat itself.
        """
        rng = seeded(self.recipe.seed, table, "/duplicates", index)
        rows = np.arange(block.count)
        if block.count < 2:
            return rows
        again = 1 + np.sort(rng.permutation(block.count - 1)[: _repeats(block.count, share)])
        own = np.setdiff1d(rows, again)
        if any(column.needle for column in self.recipe.tables[table].columns):
            # A needle stands once: its row neither repeats another nor is repeated.
            kept = np.array([0, block.total // 2, block.total - 1]) - block.first
            again = np.setdiff1d(again, kept)
            own = np.setdiff1d(own, kept)
            if not len(own):
                return rows
        if self.recipe.tables[table].sorted_by:
            rows[again] = own[np.searchsorted(own, again) - 1]
        else:
            rows[again] = own[rng.integers(0, len(own), len(again))]
        return rows

    def _own_keys(
        self, values: pa.Array, target: str, absent_share: float
    ) -> tuple[pa.Array, pa.Array]:
        if absent_share:
            raise BadInput(
                f"No values can be named that {target} does not hold: it is a file of your own.",
                where=target,
                hint="Set absent_share to 0.",
            )
        present = values.drop_null()
        return present, present.slice(0, 0)

    def _draw_keys(self, target: str, absent_share: float) -> tuple[pa.Array, pa.Array]:
        table, name = target.split(".")
        if own := self.recipe.own_file(table):
            return self._own_keys(own.column(name), target, absent_share)
        column = cast(Kind, self.recipe.column(table, name))
        total = self.recipe.rows_of(table)
        wanted = self.recipe.tables[table].needed_by(name)
        present = pa.concat_arrays(
            self._drawn(table, index, self._place(table, index), wanted)[name]
            for index in range(self.blocks(table))
        )
        try:
            absent = column.absent(absent_values(absent_share), total) if absent_share else None
        except ValueError as reason:
            raise BadInput(
                f"No values can be named that {target} does not hold: {reason}.",
                where=f"data.tables.{table} ({name})",
                hint="Set absent_share to 0, or refer to a sequence or a unique column.",
            ) from None
        return present, absent if absent is not None else present.slice(0, 0)


def shapes(recipe: Recipe) -> dict[str, tuple[list[str], int]]:
    """Names of the columns, and rows, of each table of a resolved recipe."""
    generator = Generator(recipe)
    return {
        table: (generator.schema(table).names, recipe.rows_of(table)) for table in recipe.tables
    }


def _longest(values: pa.Array) -> int:
    """Characters of the longest value as text."""
    return pc.max(pc.utf8_length(values.cast(pa.string()))).as_py() or 1


def _repeats(count: int, share: float) -> int:
    """Rows of a block of ``count`` that repeat another one."""
    return max(0, min(round(count * share), count - 1))
