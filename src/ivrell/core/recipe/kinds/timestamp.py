"""Moments between two others."""

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


class Timestamp(Kind):
    """Whole seconds from ``from`` up to but without ``until``, evenly; no zone.

    An Arrow timestamp in microseconds, the unit that most readers keep unchanged.
    """

    kind: Literal["timestamp"] = "timestamp"
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

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        seconds = rng.integers(_seconds(self.since), _seconds(self.until), block.count)
        return pa.array(seconds * 1_000_000).cast(pa.timestamp("us"))
