"""The bootstrap of a median without drawing: its distribution in closed form."""

from functools import lru_cache
from math import comb

import numpy as np
from numpy.typing import ArrayLike, NDArray


def interval(values: ArrayLike, level: float) -> tuple[float, float]:
    """The percentile bootstrap interval of the median of some values (Efron and Tibshirani, An
    Introduction to the Bootstrap, 1993, chapter 13) at a level between 0 and 1.

    A median of a resample is one of the ordered values, or the mean of two of them; how likely
    each is depends on their number alone (Maritz and Jarrett, A note on estimating the variance
    of the sample median, 1978). So the interval that infinitely many resamples would give is
    computed instead of drawn.

    Raises ValueError for no values.
    """
    ordered = np.sort(np.asarray(values, dtype=float))
    if not len(ordered):
        raise ValueError("a bootstrap needs values")
    first, second, chances = _medians(len(ordered))
    medians = (ordered[first] + ordered[second]) / 2
    order = np.argsort(medians, kind="stable")
    medians, reached = medians[order], np.cumsum(chances[order])
    tail = (1 - level) / 2
    low = medians[np.searchsorted(reached, tail)]
    high = medians[min(np.searchsorted(reached, 1 - tail), len(medians) - 1)]
    return float(low), float(high)


@lru_cache(maxsize=1024)
def _medians(n: int) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float64]]:
    """Places in order of the two middle values of a resample of ``n`` (the same one twice where
    ``n`` is odd), and how likely each pair is."""
    below = np.arange(n + 1) / n
    if n % 2:
        # The middle value is at most the i-th when more than half of the draws are.
        middle = n // 2 + 1
        at_most = _at_least(n, middle, below)
        places = np.arange(n)
        return places, places, np.diff(at_most)
    half = n // 2
    # Unlike middles: half of the draws end with the i-th, the other half begin with the j-th.
    lower = np.diff(below**half)
    upper = lower[::-1]
    both = comb(n, half) * np.outer(lower, upper)
    first, second = np.triu_indices(n, 1)
    unlike = both[first, second]
    # Both middles the same: what is left of the chance that the lower middle is the i-th.
    lower_middle = np.diff(_at_least(n, half, below))
    same = lower_middle - np.bincount(first, unlike, n)
    places = np.arange(n)
    return (
        np.concatenate([first, places]),
        np.concatenate([second, places]),
        np.concatenate([unlike, np.maximum(same, 0.0)]),
    )


def _at_least(n: int, count: int, share: NDArray[np.float64]) -> NDArray[np.float64]:
    """Chance that at least so many of ``n`` draws fall into a share of the values."""
    from scipy.special import bdtrc

    # bdtrc gives the chance of more than count - 1.
    found: NDArray[np.float64] = bdtrc(count - 1, n, share)
    return found
