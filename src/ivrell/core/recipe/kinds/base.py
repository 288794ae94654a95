"""What every kind of column shares: its settings and how it draws a block."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal, Self

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ivrell.core.recipe.scatter import scatter
from ivrell.core.records.points import LONGEST_TEXT, Value

NAME = r"^[A-Za-z_][A-Za-z0-9_]{0,62}$"
Name = Annotated[str, Field(pattern=NAME)]
"""Names of tables, columns, knobs and approaches: letters, digits and underscores."""

Share = Annotated[float, Field(ge=0.0, lt=1.0)]
"""A part of all rows, from 0 up to but without 1."""

Whole = Annotated[int, Field(ge=-(2**63), lt=2**63)]
"""A whole number that a column of int64 can hold."""

FURTHEST = 1e200
Finite = Annotated[float, Field(ge=-FURTHEST, le=FURTHEST)]
"""A real number far enough from the end of float64 that what is drawn around it is one too."""

PlainText = Annotated[str, Field(pattern=r"^[^\x00]*$", max_length=LONGEST_TEXT)]
"""Text that every form and database can hold."""

MOST_REPEATED = 1_000
LONGEST_NUMBER = 24
"""Characters of the longest float64 as text, such as -2.2250738585072014e-308."""

KeysOf = Callable[[str, float], tuple[pa.Array, pa.Array]]
"""Given ``"table.column"`` and the share wanted absent, the values that stand there
and some that do not (none when the share is 0)."""


@dataclass(frozen=True)
class Block:
    """Rows of one table that are drawn in one go.

    Attributes:
        first: place of the first row in the table, from 0.
        count: rows in the block.
        total: rows in the whole table.
        stride: how far one row is from the next: 1 but in samples of a whole table.
        salt: what shuffles the numbers of the rows, or None where they go up.
        others: columns of these rows that are drawn already, by name.
    """

    first: int
    count: int
    total: int
    stride: int = 1
    salt: int | None = None
    others: Mapping[str, pa.Array] = field(default_factory=dict)

    @property
    def places(self) -> NDArray[np.int64]:
        """Places of the rows in the table, from 0."""
        return np.arange(self.count, dtype=np.int64) * self.stride + self.first

    @property
    def rows(self) -> NDArray[np.int64]:
        """Numbers of the rows: each from 0 to total-1 stands once in the whole table."""
        return self.places if self.salt is None else scatter(self.places, self.total, self.salt)

    def quantiles(self, rng: np.random.Generator) -> NDArray[np.float64]:
        """Where each row stands in a sorted table, from 0 to 1, rising over the table.

        One even draw within each row's own slot, so that blocks need not know each other.
        """
        return (self.places + rng.random(self.count)) / max(1, self.total)


Place = Literal["first", "middle", "last", "absent"]
KnobPlace = Annotated[str, Field(pattern=r"^\{[A-Za-z_]\w*\}$")]


class Needle(BaseModel):
    """A sought value and where it stands: in one row, in a share of the rows, or nowhere.

    No other row of the column holds it. ``at`` may be a knob in braces.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    value: Value
    at: Place | Share | KnobPlace = "absent"


@dataclass(frozen=True)
class Variation:
    """Another value of a setting, for who asks whether a result hangs on it.

    Attributes:
        setting: its name; one that a knob may stand for.
        usual: its value as the column is.
        value: the other one.
        words: what the column then is, with its name left out: "a tenth missing".
    """

    setting: str
    usual: Value
    value: Value
    words: str


_MISSING = 0.1


_UNEVEN = 1.5


def skewed(skew: float) -> list[Variation]:
    """A skew the other way round: a few values most of the time, or all alike often."""
    if skew:
        return [Variation("skew", skew, 0.0, "all values alike often")]
    return [Variation("skew", 0.0, _UNEVEN, "a few values most of the time")]


class Kind(BaseModel):
    """Settings of one column; subclasses say how its values are drawn.

    With ``repeat`` it stands for so many columns of these settings, each with values of its own,
    called by its name with a number behind: ``reading_1``, ``reading_2`` and on.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    name: Name
    null_share: Share = 0.0
    needle: Needle | None = None
    repeat: int = Field(default=1, ge=1, le=MOST_REPEATED)

    def repeated(self) -> list[Self]:
        """The columns that it stands for: itself, or so many with numbered names."""
        if self.repeat == 1:
            return [self]
        return [
            self.model_copy(update={"name": f"{self.name}_{number}", "repeat": 1})
            for number in range(1, self.repeat + 1)
        ]

    def variations(self) -> list[Variation]:
        """Other values of its settings that a result may hang on, and how far they go.

        Those of every kind are here; subclasses add theirs. What then cannot hold (a key with
        nulls) is left out by who tries it.
        """
        if self.null_share:
            return [Variation("null_share", self.null_share, 0.0, "nothing missing")]
        return [Variation("null_share", 0.0, _MISSING, "a tenth missing")]

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        """Values of this column for a block: an Arrow array of ``block.count`` values.

        The same generator state, block and settings must give the same values on any
        machine, so subclasses avoid numpy's exp, log and power in values: their last
        digit depends on the processor.
        """
        raise NotImplementedError

    def draw_sorted(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        """The same shape of values, rising over the table.

        Raises ValueError where the kind has no order to draw in.
        """
        raise ValueError(f"a table cannot be sorted by a {self.kind_name()} column")

    @classmethod
    def sortable(cls) -> bool:
        """Whether a table can be sorted by a column of this kind."""
        return cls.draw_sorted is not Kind.draw_sorted

    def absent(self, count: int, total: int) -> pa.Array:
        """``count`` values shaped like this column's that none of its ``total`` rows holds.

        Raises ValueError where the kind cannot promise that.
        """
        raise ValueError(f"a {self.kind_name()} column cannot name values that it does not hold")

    def longest(self, total: int) -> int:
        """Characters of the longest text that a value can have among ``total`` rows."""
        return LONGEST_NUMBER

    def problem(self, total: int) -> str:
        """Why the settings cannot hold for a table of ``total`` rows, or an empty text."""
        return ""

    def references(self) -> str | None:
        """The ``"table.column"`` this column takes its values from, if any."""
        return None

    def needs(self) -> set[str]:
        """Columns of the same row that must be drawn before this one."""
        return set()

    @classmethod
    def kind_name(cls) -> str:
        """The word that stands for this kind in a comparison file."""
        return str(cls.model_fields["kind"].default)


def ordered(low: Any, high: Any) -> None:
    """Raise ValueError unless low is at most high."""
    if low is not None and high is not None and low > high:
        raise ValueError(f"low ({low}) must not be above high ({high})")
