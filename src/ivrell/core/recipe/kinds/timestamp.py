"""Moments and days between two others."""

from datetime import date, datetime
from typing import Annotated, Literal, Self

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from pydantic import Field, model_validator

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind

_EPOCH = datetime(1970, 1, 1)


def _seconds(moment: datetime | date) -> int:
    if not isinstance(moment, datetime):
        moment = datetime(moment.year, moment.month, moment.day)
    return round((moment - _EPOCH).total_seconds())


class _Between(Kind):
    """What moments and days share: a range whose end is excluded, evenly, or with ``weights``:
    how much falls into each of as many equal parts of it, evenly within a part."""

    since: datetime | date = Field(alias="from")
    until: datetime | date
    weights: (
        Annotated[
            list[Annotated[float, Field(ge=0, le=1e12)]], Field(min_length=2, max_length=10_000)
        ]
        | None
    ) = None

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        for moment in (self.since, self.until):
            if isinstance(moment, datetime) and moment.tzinfo is not None:
                raise ValueError("from and until carry no zone: write 2031-01-01T06:00:00")
        if _seconds(self.since) >= _seconds(self.until):
            raise ValueError(f"from ({self.since}) must lie before until ({self.until})")
        if self.weights is not None and not sum(self.weights):
            raise ValueError("weights are not all 0")
        return self

    def _ends(self) -> tuple[int, int]:
        """First number and the one after the last, in the kind's own unit since 1970."""
        raise NotImplementedError

    def _finished(self, numbers: np.ndarray) -> pa.Array:
        """Numbers in the kind's own unit as its Arrow type."""
        raise NotImplementedError

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        if self.weights:
            return self._finished(self._at(rng.random(block.count)))
        return self._finished(rng.integers(*self._ends(), block.count))

    def draw_sorted(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        first, end = self._ends()
        shares = block.quantiles(rng)
        if self.weights:
            return self._finished(self._at(shares))
        return self._finished(first + np.floor(shares * (end - first)).astype(int))

    def _at(self, shares: NDArray[np.float64]) -> NDArray[np.int64]:
        """Numbers in the kind's own unit below which these shares of the rows lie."""
        first, end = self._ends()
        below = np.concatenate([[0.0], np.cumsum(self.weights or [])])
        places = np.interp(shares * below[-1], below, np.linspace(0, end - first, len(below)))
        within: NDArray[np.int64] = np.minimum(places.astype(np.int64), end - first - 1)
        return first + within


class Timestamp(_Between):
    """Whole seconds from ``from`` up to but without ``until``; no zone.

    An Arrow timestamp in microseconds, the unit that most readers keep unchanged.
    """

    kind: Literal["timestamp"] = "timestamp"

    def _ends(self) -> tuple[int, int]:
        return _seconds(self.since), _seconds(self.until)

    def _finished(self, numbers: np.ndarray) -> pa.Array:
        return pa.array(numbers * 1_000_000).cast(pa.timestamp("us"))

    def longest(self, total: int) -> int:
        return len("2031-01-31 06:00:00")


class Date(_Between):
    """Days from ``from`` up to but without ``until``; an Arrow date32."""

    kind: Literal["date"] = "date"

    def _ends(self) -> tuple[int, int]:
        return _seconds(self.since) // 86_400, max(
            _seconds(self.until) // 86_400, _seconds(self.since) // 86_400 + 1
        )

    def _finished(self, numbers: np.ndarray) -> pa.Array:
        return pa.array(numbers.astype(np.int32)).cast(pa.date32())

    def longest(self, total: int) -> int:
        return len("2031-01-31")
