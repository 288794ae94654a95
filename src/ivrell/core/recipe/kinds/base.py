"""What every kind of column shares: its settings and how it draws a block."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

Name = Annotated[str, Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]{0,62}$")]
"""Names of tables, columns, knobs and approaches: letters, digits and underscores."""

Share = Annotated[float, Field(ge=0.0, lt=1.0)]
"""A part of all rows, from 0 up to but without 1."""


@dataclass(frozen=True)
class Block:
    """Rows of one table that are drawn in one go.

    Attributes:
        first: number of the first row, from 0.
        count: rows in the block.
        total: rows in the whole table.
        stride: how far one row is from the next: 1 but in samples of a whole table.
    """

    first: int
    count: int
    total: int
    stride: int = 1

    @property
    def rows(self) -> NDArray[np.int64]:
        """Numbers of the rows."""
        return np.arange(self.count, dtype=np.int64) * self.stride + self.first


KeysOf = Callable[[str, float], tuple[pa.Array, pa.Array]]
"""Given ``"table.column"`` and the share wanted absent, the values that stand there
and as many that do not (empty when the share is 0)."""


class Kind(BaseModel):
    """Settings of one column; subclasses say how its values are drawn."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: Name
    null_share: Share = 0.0

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        """Values of this column for a block: an Arrow array of ``block.count`` values.

        The same generator state, block and settings must give the same values on any
        machine, so subclasses avoid numpy's exp, log and power in values: their last
        digit depends on the processor.
        """
        raise NotImplementedError

    def absent(self, count: int, total: int) -> pa.Array:
        """``count`` values shaped like this column's that none of its ``total`` rows holds.

        Raises ValueError where the kind cannot promise that.
        """
        raise ValueError(f"a {self.kind_name()} column cannot name values that it does not hold")

    def problem(self, total: int) -> str:
        """Why the settings cannot hold for a table of ``total`` rows, or an empty text."""
        return ""

    def references(self) -> str | None:
        """The ``"table.column"`` this column takes its values from, if any."""
        return None

    @classmethod
    def kind_name(cls) -> str:
        """The word that stands for this kind in a comparison file."""
        return str(cls.model_fields["kind"].default)

    def described(self) -> dict[str, Any]:
        """Settings as plain data, without the name: what the screen shows in one line."""
        return self.model_dump(exclude={"name"}, exclude_defaults=True)
