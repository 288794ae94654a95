"""Moments and days between two others."""

from datetime import date, datetime
from typing import Literal, Self

import numpy as np
import pyarrow as pa
from pydantic import Field, model_validator

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind

_EPOCH = datetime(1970, 1, 1)


def _seconds(moment: datetime | date) -> int:
    if not isinstance(moment, datetime):
        moment = datetime(moment.year, moment.month, moment.day)
    return round((moment - _EPOCH).total_seconds())


class _Between(Kind):
    """What moments and days share: a range whose end is excluded."""

    since: datetime | date = Field(alias="from")
    until: datetime | date

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        for moment in (self.since, self.until):
            if isinstance(moment, datetime) and moment.tzinfo is not None:
                raise ValueError("from and until carry no zone: write 2031-01-01T06:00:00")
        if _seconds(self.since) >= _seconds(self.until):
            raise ValueError(f"from ({self.since}) must lie before until ({self.until})")
        return self

    def _ends(self) -> tuple[int, int]:
        """First number and the one after the last, in the kind's own unit since 1970."""
        raise NotImplementedError

    def _finished(self, numbers: np.ndarray) -> pa.Array:
        """Numbers in the kind's own unit as its Arrow type."""
        raise NotImplementedError

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        return self._finished(rng.integers(*self._ends(), block.count))

    def draw_sorted(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        first, end = self._ends()
        return self._finished(first + np.floor(block.quantiles(rng) * (end - first)).astype(int))


class Timestamp(_Between):
    """Whole seconds from ``from`` up to but without ``until``, evenly; no zone.

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
    """Days from ``from`` up to but without ``until``, evenly; an Arrow date32."""

    kind: Literal["date"] = "date"

    def _ends(self) -> tuple[int, int]:
        return _seconds(self.since) // 86_400, max(
            _seconds(self.until) // 86_400, _seconds(self.since) // 86_400 + 1
        )

    def _finished(self, numbers: np.ndarray) -> pa.Array:
        return pa.array(numbers.astype(np.int32)).cast(pa.date32())

    def longest(self, total: int) -> int:
        return len("2031-01-31")
