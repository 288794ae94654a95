"""Median, quartiles, and an interval for the median that promises no more than it can."""

from collections.abc import Sequence
from functools import lru_cache
from math import exp, log, sqrt
from statistics import fmean, stdev

from ivrell.core.records.findings import Summary

LEVEL = 0.95


def summarize(values: Sequence[float]) -> Summary:
    """Summarize at least one measurement.

    The interval is the distribution-free one between two order statistics (Conover,
    Practical Nonparametric Statistics, 3rd ed., section 3.2): the narrowest symmetric pair
    that covers the median with at least 95 %. Fewer than six values cannot: theirs is Student's
    over the logarithms, at 95 % too (log-normal times; W. S. Gosset, The probable error of a mean,
    Biometrika 6, 1908), or smallest and largest with what they cover where some are not above 0.

    Raises ValueError for no values.
    """
    if not len(values):
        raise ValueError("no values to summarize")
    ordered = sorted(map(float, values))
    n = len(ordered)
    q1, median, q3 = (_quantile(ordered, share) for share in (0.25, 0.5, 0.75))
    low = high = level = None
    if n > 1:
        inner = 0
        while inner + 1 < n // 2 and _coverage(n, inner + 1) >= LEVEL:
            inner += 1
        low, high = float(ordered[inner]), float(ordered[n - 1 - inner])
        level = _coverage(n, inner)
        if level < LEVEL and ordered[0] > 0:
            low, high = _by_logarithms(ordered)
            level = LEVEL
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


def _by_logarithms(ordered: Sequence[float]) -> tuple[float, float]:
    """Student's interval of the middle of values above 0, by their logarithms; it holds the
    median."""
    from scipy.special import stdtrit

    logs = [log(value) for value in ordered]
    n, middle = len(logs), fmean(logs)
    half = float(stdtrit(n - 1, (1 + LEVEL) / 2)) * stdev(logs) / sqrt(n)
    between = _quantile(ordered, 0.5)
    return min(exp(middle - half), between), max(exp(middle + half), between)


def _quantile(ordered: Sequence[float], share: float) -> float:
    """Linear between the two values nearest to a share (numpy's own takes a hundred times as long
    for few values)."""
    place = share * (len(ordered) - 1)
    low = int(place)
    high = min(low + 1, len(ordered) - 1)
    return ordered[low] + (place - low) * (ordered[high] - ordered[low])


@lru_cache(maxsize=4096)
def _coverage(n: int, inner: int) -> float:
    """Chance that the median lies between the values ``inner`` from either end."""
    # Loaded where it is used: a web server should start small.
    from scipy.special import bdtr

    return float(1 - 2 * bdtr(inner, n, 0.5))
