"""A fixed shuffling of the numbers 0 to n-1 that needs no table.

A Feistel network over the bits of the number, walked until it falls back below n (J. Black
and P. Rogaway, Ciphers with Arbitrary Finite Domains, 2002, cycle walking). Distinct numbers
stay distinct: unique values and shuffled rows without a rejection loop and without memory of
earlier ones.
"""

import numpy as np
from numpy.typing import NDArray

LARGEST = 1 << 62
"""Largest n."""

_HALF_ROUNDS = 6
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


def _permuted(values: NDArray[np.uint64], bits: int, keys: list[int]) -> NDArray[np.uint64]:
    """A permutation of the numbers of so many bits."""
    low_bits = bits // 2
    high_bits = bits - low_bits
    low = values & np.uint64((1 << low_bits) - 1)
    high = values >> np.uint64(low_bits)
    for number, key in enumerate(keys):
        if number % 2:
            high ^= _stir(low, key, high_bits)
        else:
            low ^= _stir(high, key, low_bits)
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
    keys = [
        ((salt + 1) * 0x9E3779B97F4A7C15 + r * 0xD1B54A32D192ED03) % 2**64
        for r in range(_HALF_ROUNDS)
    ]
    result = _permuted(indices.astype(np.uint64), bits, keys)
    outside = np.flatnonzero(result >= np.uint64(n))
    while len(outside):
        moved = _permuted(result[outside], bits, keys)
        result[outside] = moved
        outside = outside[moved >= np.uint64(n)]
    return result.astype(np.int64)
