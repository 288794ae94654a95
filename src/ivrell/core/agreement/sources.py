"""What an answer made of the rows that went in: broken ones, repeated ones, copies of a key."""

from collections import Counter
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from ivrell.core.agreement.canonical import canonical, row_hash
from ivrell.core.recipe import malformed
from ivrell.core.recipe.forms import FORMS
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.kinds.sequence import Sequence
from ivrell.core.recipe.model import Recipe
from ivrell.core.records.agreement import REPEATED, TracedRows

_MOST_ROWS = 5_000_000


class Sources:
    """The rows that went into a trial at one point, drawn again where they are asked for.

    Tables of more than five million rows are left alone: to draw them would take longer than
    what it tells is worth.
    """

    def __init__(self, recipe: Recipe) -> None:
        self._generator = Generator(recipe)
        self._recipe = recipe
        self._hashes: dict[tuple[str, tuple[str, ...]], NDArray[np.uint64]] = {}

    def traced(self, answer: pa.Table, form: str) -> list[TracedRows]:
        """What became of broken and repeated rows of tables read in a form.

        Only answers with a column that tells the rows of such a table apart can be traced.
        """
        found: list[TracedRows] = []
        for name, table in self._recipe.tables.items():
            if table.file or not (table.broken_share or table.repeated_share):
                continue
            own = self._telling_column(name, answer)
            if own is None or self._recipe.rows_of(name) > _MOST_ROWS:
                continue
            present = answer.column(own)
            if table.broken_share and form in FORMS and FORMS[form].text:
                found += self._broken(name, own, present, answer)
            if table.repeated_share:
                found.append(self._repeated(name, present))
        return found

    def broken_lines(self, form: str) -> int:
        """Lines that are broken on purpose in what a lane reads that takes its tables in a form."""
        if form not in FORMS or not FORMS[form].text:
            return 0
        tables = self._recipe.tables
        return sum(
            malformed.broken_rows(self._recipe, name)
            for name, table in tables.items()
            if not table.file and table.broken_share
        )

    def _telling_column(self, table: str, answer: pa.Table) -> str | None:
        """A column of the answer by which rows of a table can be told apart."""
        for column in self._recipe.tables[table].columns:
            unique = isinstance(column, Sequence) or getattr(column, "unique", False)
            if unique and column.name in answer.column_names:
                return column.name
        return None

    def _broken(
        self, table: str, own: str, present: pa.ChunkedArray, answer: pa.Table
    ) -> list[TracedRows]:
        rows_of: Counter[str] = Counter()
        kept: Counter[str] = Counter()
        nulls: Counter[str] = Counter()
        shown = _as_text(present)
        known = self._generator.schema(table).names
        shared = [name for name in answer.column_names if name in known and name != own]
        for index in range(self._generator.blocks(table)):
            picks = malformed.chosen(self._recipe, table, index)
            if not picks:
                continue
            block = self._generator.block(table, index)
            picks = _without_copies(picks, block.column(own))
            rows = pa.array([row for row, _ in picks], pa.int64())
            at = pc.index_in(_as_text(block.column(own).take(rows)), value_set=shown)
            for (row, way), place in zip(picks, at.to_pylist(), strict=True):
                rows_of[way] += 1
                if place is None:
                    continue
                kept[way] += 1
                nulls[way] += any(
                    answer.column(name)[place].as_py() is None
                    and block.column(name)[row].as_py() is not None
                    for name in shared
                )
        return [
            _traced(table, way, count, kept[way], nulls[way])
            for way, count in sorted(rows_of.items())
        ]

    def _repeated(self, table: str, present: pa.ChunkedArray) -> TracedRows:
        rows = self._generator.duplicates(table)
        again = len(present) - present.null_count - len(pc.unique(present.drop_null()))
        kept = min(again, rows)
        return _traced(table, REPEATED, rows, kept, 0)

    def holder_of(self, answer: pa.Table) -> str | None:
        """A table that has every column of the answer, if there is one small enough."""
        for name, table in self._recipe.tables.items():
            if table.file:
                continue
            names = {column.name for column in table.columns}
            if names >= set(answer.column_names) and self._recipe.rows_of(name) <= _MOST_ROWS:
                return name
        return None

    def are_rows(self, rows: pa.Table) -> str:
        """The table of which all of these are rows, or ""; ``rows`` in plain types."""
        table = self.holder_of(rows)
        if table is None or not rows.num_rows:
            return ""
        names = rows.column_names
        key = (table, tuple(names))
        if key not in self._hashes:
            drawn = [
                _hashed(pa.Table.from_batches([block]).select(names))
                for block in self._generator.read(table)
            ]
            self._hashes[key] = np.concatenate(drawn)
        return table if np.isin(_hashed(rows), self._hashes[key]).all() else ""


def _without_copies(picks: list[tuple[int, str]], own: pa.Array) -> list[tuple[int, str]]:
    """The broken rows that stand nowhere else: of one that is repeated whole elsewhere in its
    block nobody can tell which of the two an answer holds."""
    counted = pc.value_counts(own)
    often = counted.field("values").filter(pc.greater(counted.field("counts"), 1))
    again = pc.is_in(own, value_set=often).to_numpy(zero_copy_only=False)
    return [(row, way) for row, way in picks if not again[row]]


def _traced(table: str, what: str, rows: int, kept: int, with_nulls: int) -> TracedRows:
    return TracedRows(
        table=table, what=what, rows=rows, kept=kept, with_nulls=with_nulls, dropped=rows - kept
    )


def _hashed(table: pa.Table) -> NDArray[np.uint64]:
    plain = canonical(table)
    return row_hash(plain.columns, plain.num_rows)


def _as_text(column: Any) -> pa.Array:
    """Values as text, a whole number the same whether it came as one or as a float."""
    if pa.types.is_floating(column.type):
        column = column.cast(pa.int64(), safe=False)
    text = column.cast(pa.large_string())
    return text.combine_chunks() if isinstance(text, pa.ChunkedArray) else text
