"""One of two answers that are held against each other, and rows of it by their numbers."""

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from ivrell.core.agreement.canonical import row_hash
from ivrell.core.agreement.distance import Floats

Rows = NDArray[np.int64]
Hashes = NDArray[np.uint64]


class Stretch(NamedTuple):
    """Rows that lie side by side: from these numbers on, so many."""

    ours: int
    theirs: int
    rows: int


@dataclass
class Side:
    """One answer in common types, its floats to hand as numbers."""

    table: pa.Table
    floats: list[str]
    _numbers: dict[str, Floats] = field(default_factory=dict)

    def hashed(self, names: list[str], rows: Rows | None = None) -> Hashes:
        """Hash of each row over some columns, of all rows or of those."""
        count = self.table.num_rows if rows is None else len(rows)
        some = None if rows is None or count == self.table.num_rows else pa.array(rows)
        columns = (self.table.column(name) for name in names)
        # Column by column: of some rows no more than one column is copied at a time.
        return row_hash((c if some is None else c.take(some) for c in columns), count)

    def numbers(self, name: str, rows: Rows) -> Floats:
        """Numbers of a column in some rows, nulls as not-a-number."""
        column = self.table.column(name)
        if len(rows) < self.table.num_rows:
            column = column.take(pa.array(rows))
            return _as_numbers(column)
        if name not in self._numbers:
            self._numbers[name] = _as_numbers(column)
        return self._numbers[name][rows]

    def nulls(self, name: str, rows: Rows) -> NDArray[np.bool_]:
        """Where a column is null in some rows."""
        column = self.table.column(name).take(pa.array(rows))
        found: NDArray[np.bool_] = pc.is_null(column).to_numpy()
        return found


def _as_numbers(column: pa.ChunkedArray) -> Floats:
    found: Floats = np.asarray(column.to_numpy(), dtype=np.float64)
    return found
