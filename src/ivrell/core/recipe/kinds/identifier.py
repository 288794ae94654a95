"""Identifiers that no two rows share, as text, after RFC 9562 (universally unique identifiers)."""

from typing import Literal

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind

_LENGTH = 36
_HYPHENS = (8, 13, 18, 23)
_DIGITS = np.frombuffer("".join(f"{byte:02x}" for byte in range(256)).encode(), np.uint8)
_FIRST_MS = 1_700_000_000_000
"""The moment of the first rising one, in milliseconds since 1970; each row is one later."""


class Identifier(Kind):
    """32 hexadecimal digits in groups: in "random" ``order`` (version 4 of the standard), or
    "rising" from row to row as identifiers do that begin with the time (version 7). An index takes
    them in very differently."""

    kind: Literal["identifier"] = "identifier"
    order: Literal["random", "rising"] = "random"

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        octets = rng.integers(0, 256, (block.count, 16), dtype=np.uint8)
        return self._written(octets, block.rows)

    def draw_sorted(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        if self.order == "random":
            raise ValueError("random identifiers have no order to be drawn in; let them be rising")
        octets = rng.integers(0, 256, (block.count, 16), dtype=np.uint8)
        return self._written(octets, block.places)

    def absent(self, count: int, total: int) -> pa.Array:
        if self.order == "random":
            return super().absent(count, total)
        rows = np.arange(total, total + count, dtype=np.int64)
        return self._written(np.zeros((count, 16), np.uint8), rows)

    def longest(self, total: int) -> int:
        return _LENGTH

    def _written(self, octets: NDArray[np.uint8], rows: NDArray[np.int64]) -> pa.Array:
        if self.order == "rising":
            moments = (_FIRST_MS + rows).astype(">u8").view(np.uint8).reshape(-1, 8)
            octets[:, :6] = moments[:, 2:]
        octets[:, 6] = octets[:, 6] & 0x0F | (7 if self.order == "rising" else 4) << 4
        octets[:, 8] = octets[:, 8] & 0x3F | 0x80
        digits = _DIGITS.reshape(256, 2)[octets].reshape(-1, 32)
        text = np.full((len(digits), _LENGTH), ord("-"), np.uint8)
        places = [place for place in range(_LENGTH) if place not in _HYPHENS]
        text[:, places] = digits
        ends = np.arange(len(digits) + 1, dtype=np.int32) * _LENGTH
        return pa.StringArray.from_buffers(
            len(digits), pa.py_buffer(ends), pa.py_buffer(np.ascontiguousarray(text))
        )
