"""Median, quartiles, and an interval for the median that promises no more than it can."""

from collections.abc import Sequence
from functools import lru_cache

import numpy as np

from ivrell.core.records.findings import Summary

LEVEL = 0.95


def summarize(values: Sequence[float]) -> Summary:
    """Summarize at least one measurement.

    The interval is the distribution-free one between two order statistics (Conover,
    Practical Nonparametric Statistics, 3rd ed., section 3.2): the narrowest symmetric pair
    that covers the median with at least 95 %, or smallest and largest with what they cover.

    Raises ValueError for no values.
    """
    if not len(values):
        raise ValueError("no values to summarize")
    ordered = np.sort(np.asarray(values, dtype=float))
    n = len(ordered)
    q1, median, q3 = np.percentile(ordered, [25, 50, 75])
    low = high = level = None
    if n > 1:
        inner = 0
        while inner + 1 < n // 2 and _coverage(n, inner + 1) >= LEVEL:
            inner += 1
        low, high = float(ordered[inner]), float(ordered[n - 1 - inner])
        level = _coverage(n, inner)
    return Summary(
        n,
        float(median),
        float(q1),
        float(q3),
        float(ordered[0]),
        float(ordered[-1]),
        low,
        high,
        level,
    )


@lru_cache(maxsize=4096)
def _coverage(n: int, inner: int) -> float:
    """Chance that the median lies between the values ``inner`` from either end."""
    # Loaded where it is used: a web server should start small.
    from scipy.special import bdtr

    return float(1 - 2 * bdtr(inner, n, 0.5))
