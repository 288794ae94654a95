"""Skewed choice among n things: the k-th most popular has weight k**-skew.

Drawn with whole numbers only, so that the choice is the same on every machine: an alias
table (A. J. Walker, 1977) over ranks, where ranks beyond the first 1024 share buckets that
grow geometrically and are even inside.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

_EXACT_RANKS = 1024
_PARTS_OF_AN_OCTAVE = 16
_SCALE = 1 << 32


@dataclass(frozen=True)
class _Alias:
    starts: NDArray[np.int64]
    widths: NDArray[np.int64]
    keep: NDArray[np.uint64]
    other: NDArray[np.int64]


def weights(n: int, skew: float) -> NDArray[np.float64]:
    """Weight of each rank, 1 for the most popular."""
    return np.arange(1, n + 1, dtype=np.float64) ** -skew


def _buckets(n: int) -> list[tuple[int, int]]:
    buckets = [(k, 1) for k in range(min(n, _EXACT_RANKS))]
    start = _EXACT_RANKS
    while start < n:
        width = min(max(1, start // _PARTS_OF_AN_OCTAVE), n - start)
        buckets.append((start, width))
        start += width
    return buckets


@lru_cache(maxsize=64)
def _alias(n: int, skew: float) -> _Alias:
    buckets = _buckets(n)
    weights = [width * (start + (width + 1) / 2) ** -skew for start, width in buckets]
    total = sum(weights)
    # Rounding here keeps a last-digit difference between processors out of the values.
    scaled = [round(weight / total * len(buckets) * _SCALE) for weight in weights]
    keep = [_SCALE] * len(buckets)
    other = list(range(len(buckets)))
    small = [i for i, weight in enumerate(scaled) if weight < _SCALE]
    large = [i for i, weight in enumerate(scaled) if weight >= _SCALE]
    while small and large:
        low, high = small.pop(), large[-1]
        keep[low], other[low] = scaled[low], high
        scaled[high] -= _SCALE - scaled[low]
        if scaled[high] < _SCALE:
            small.append(large.pop())
    return _Alias(
        np.array([start for start, _ in buckets], dtype=np.int64),
        np.array([width for _, width in buckets], dtype=np.int64),
        np.array(keep, dtype=np.uint64),
        np.array(other, dtype=np.int64),
    )


def skewed_ranks(rng: np.random.Generator, n: int, skew: float, count: int) -> NDArray[np.int64]:
    """Draw ``count`` ranks from 0 to n-1; rank 0 is the most popular.

    With ``skew`` 0 every rank is equally likely; with 1 the weights fall as 1/k.
    """
    if skew == 0:
        return rng.integers(0, n, count, dtype=np.int64)
    table = _alias(n, skew)
    bucket = rng.integers(0, len(table.starts), count, dtype=np.int64)
    toss = rng.integers(0, _SCALE, count, dtype=np.uint64)
    bucket = np.where(toss < table.keep[bucket], bucket, table.other[bucket])
    if len(table.starts) == n:
        return bucket
    widths = table.widths[bucket]
    inside = (rng.integers(0, _SCALE, count, dtype=np.uint64) * widths.astype(np.uint64)) >> 32
    return table.starts[bucket] + inside.astype(np.int64)
