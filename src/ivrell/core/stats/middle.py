"""The middle of a few differences and how far off it may be, both sure against single spikes.

The middle is the estimator of Hodges and Lehmann (Estimates of location based on rank tests,
Annals of Mathematical Statistics 34, 1963): the median of the means of all pairs of values, each
with itself too. Its scale is read off the same means: how far apart two of their quantiles are,
which is what a rank-based interval is made of. Where rounds are few, what the quantiles are worth
comes from NORMAL, made by tests/bench/middle_table.py.
"""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ivrell.core.stats.middle_table import NORMAL

Numbers = NDArray[np.float64]

_SEES_TWO_MODES = 0.25
_OF_QUARTILES = 0.4
_NORMAL_QUARTILES = 1.349


def share_cut(n: int) -> float:
    """Share of the means that is left out at either end for the scale: the more of them there are,
    the nearer to the middle it may be read, and the less a spike weighs."""
    return 0.25 if n < 8 else 0.38 if n < 30 else 0.41


@lru_cache(maxsize=512)
def worth(n: int) -> tuple[float, float, float]:
    """What ``n`` normal values of variance 1 give: the mean square of the distance between the two
    quantiles, the degrees of freedom that the square is worth, and ``n`` times the variance of
    the middle. Beyond the table the limits of many values."""
    known = {row[0]: row[1:] for row in NORMAL}
    if n in known:
        return known[n]
    sizes = sorted(known)
    if n > sizes[-1]:
        # Loaded where it is used: a web server should start small.
        from scipy.special import ndtri

        apart = -2 * ndtri(share_cut(n)) * np.sqrt(0.5)
        _, freedom, _ = known[sizes[-1]]
        return float(apart**2), freedom * (n - 1) / (sizes[-1] - 1), float(np.pi / 3)
    low = max(size for size in sizes if size < n)
    high = min(size for size in sizes if size > n)
    part = (n - low) / (high - low)
    a, b, c = (x + part * (y - x) for x, y in zip(known[low], known[high], strict=True))
    return a, b, c


def middle_and_variance(differences: Numbers) -> tuple[Numbers, Numbers]:
    """The middle of each row of differences, and the variance of one difference in it.

    Args:
        differences: shape (rows, n), n at least 2, any unit.

    Returns:
        two arrays of shape (rows,): the middle, in the unit given, and the variance, in its square.

    Raises ValueError for fewer than two columns.
    """
    n = differences.shape[1]
    if n < 2:
        raise ValueError("a variance needs at least two differences")
    first, second = _pairs(n)
    means = (differences[:, first] + differences[:, second]) / 2
    count = means.shape[1]
    cut = int(share_cut(n) * count)
    half = (count - 1) // 2, count // 2
    means.partition(sorted({cut, count - 1 - cut, *half}), axis=1)
    middle = (means[:, half[0]] + means[:, half[1]]) / 2
    apart = means[:, count - 1 - cut] - means[:, cut]
    variance = apart**2 / worth(n)[0]
    if share_cut(n) > _SEES_TWO_MODES:
        # Of values that fall into two equal heaps the means lie close together between them.
        ordered = np.sort(differences, axis=1)
        low, high = ordered[:, n // 4], ordered[:, n - 1 - n // 4]
        variance = np.maximum(variance, _OF_QUARTILES * ((high - low) / _NORMAL_QUARTILES) ** 2)
    return middle, variance


@lru_cache(maxsize=64)
def _pairs(n: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    first, second = np.triu_indices(n)
    return first, second
