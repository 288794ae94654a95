"""A fixed shuffling of the numbers 0 to n-1 that needs no table.

A Feistel network over the bits of the number, walked until it falls back below n (J. Black
and P. Rogaway, Ciphers with Arbitrary Finite Domains, 2002, cycle walking). Distinct numbers
stay distinct: unique values and shuffled rows without a rejection loop and without memory of
earlier ones.
"""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

LARGEST = 1 << 62
"""Largest n."""

_HALF_ROUNDS = 6
_TABLE_BITS = 16
_MIX_1 = np.uint64(0xBF58476D1CE4E5B9)
_MIX_2 = np.uint64(0x94D049BB133111EB)


def _stir(half: NDArray[np.uint64], key: int, bits: int) -> NDArray[np.uint64]:
    """``bits`` bits that depend on all bits of a half and on a key."""
    stirred = half + np.uint64(key)
    stirred *= _MIX_1
    stirred ^= stirred >> np.uint64(29)
    stirred *= _MIX_2
    stirred >>= np.uint64(64 - bits)
    return stirred


@lru_cache(maxsize=32)
def _tables(bits: int, salt: int) -> list[NDArray[np.uint64]] | None:
    """What each round stirs every possible half into, where halves are small: looking it up
    is some five times quicker than working it out."""
    high_bits = bits - bits // 2
    if high_bits > _TABLE_BITS:
        return None
    low_halves = np.arange(1 << (bits // 2), dtype=np.uint64)
    high_halves = np.arange(1 << high_bits, dtype=np.uint64)
    return [
        _stir(low_halves, key, high_bits) if number % 2 else _stir(high_halves, key, bits // 2)
        for number, key in enumerate(_keys(salt))
    ]


def _keys(salt: int) -> list[int]:
    return [
        ((salt + 1) * 0x9E3779B97F4A7C15 + r * 0xD1B54A32D192ED03) % 2**64
        for r in range(_HALF_ROUNDS)
    ]


def _permuted(values: NDArray[np.uint64], bits: int, salt: int) -> NDArray[np.uint64]:
    """A permutation of the numbers of so many bits."""
    low_bits = bits // 2
    high_bits = bits - low_bits
    low = values & np.uint64((1 << low_bits) - 1)
    high = values >> np.uint64(low_bits)
    tables = _tables(bits, salt)
    for number, key in enumerate(_keys(salt)):
        if number % 2:
            high ^= tables[number][low] if tables else _stir(low, key, high_bits)
        else:
            low ^= tables[number][high] if tables else _stir(high, key, low_bits)
    high <<= np.uint64(low_bits)
    high |= low
    return high


def scatter(indices: NDArray[np.int64], n: int, salt: int) -> NDArray[np.int64]:
    """Positions of ``indices`` (each from 0 to n-1) in the shuffled order set by ``salt``.

    Raises ValueError for n above LARGEST.
    """
    if n > LARGEST:
        raise ValueError(f"scatter takes at most {LARGEST} numbers, not {n}")
    if n <= 1:
        return np.zeros_like(indices)
    bits = max(2, (n - 1).bit_length())
    result = _permuted(indices.astype(np.uint64), bits, salt)
    outside = np.flatnonzero(result >= np.uint64(n))
    while len(outside):
        moved = _permuted(result[outside], bits, salt)
        result[outside] = moved
        outside = outside[moved >= np.uint64(n)]
    return result.astype(np.int64)
