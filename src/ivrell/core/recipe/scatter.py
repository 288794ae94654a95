"""A fixed shuffling of the numbers 0 to n-1 that needs no table.

``scatter`` maps i to (a*i + b) mod n with a coprime to n, so distinct numbers stay
distinct: unique values without a rejection loop and without memory of earlier ones.
"""

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

LARGEST = 1 << 31
"""Largest n: beyond it a*i would not fit 64 bits."""

_STRIDE = 0.6180339887498949


def scatter(indices: NDArray[np.int64], n: int, salt: int) -> NDArray[np.int64]:
    """Positions of ``indices`` (each in 0 to n-1) in the shuffled order set by ``salt``."""
    if n > LARGEST:
        raise ValueError(f"scatter takes at most {LARGEST} numbers, not {n}")
    stride = max(1, int(n * _STRIDE))
    stride += salt % 97
    stride %= n
    while n > 1 and (stride == 0 or math.gcd(stride, n) != 1):
        stride = (stride + 1) % n
    shuffled: NDArray[Any] = (indices * stride + salt % n) % n
    return shuffled
