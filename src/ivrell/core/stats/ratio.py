"""How many times faster: the median of ratios formed within rounds, with an interval."""

from collections.abc import Sequence
from typing import Literal

import numpy as np

from ivrell.core.records.findings import Ratio, RatioVerdict
from ivrell.core.stats.median_bootstrap import interval

LEVEL = 0.95
_ENOUGH = 6


def bounded(
    baseline: Sequence[float], other: Sequence[float], *, unfinished: Literal["baseline", "other"]
) -> Ratio:
    """The ratio of two lanes of which one was ended at a limit: its times, in seconds, are those
    that it had run for until then, the other's are of whole runs.

    The bound is the longest time without an end over the median of the whole runs. Raises
    ValueError where either has no times.
    """
    if not len(baseline) or not len(other):
        raise ValueError("a bound needs times of both")
    if unfinished == "baseline":
        value = max(baseline) / float(np.median(other))
        verdict: RatioVerdict = "faster" if value > 1 else "cannot tell apart"
        return Ratio(value, None, None, len(other), verdict, bound="at least")
    value = float(np.median(baseline)) / max(other)
    verdict = "slower" if value < 1 else "cannot tell apart"
    return Ratio(value, None, None, len(baseline), verdict, bound="at most")


def ratio(
    baseline: Sequence[float],
    other: Sequence[float],
    *,
    floor: float | None = None,
) -> Ratio:
    """Compare elapsed times paired by round (equal lengths, at least one pair).

    Value: the median of ``baseline[i] / other[i]``. Interval at 95 %: the percentile
    bootstrap of that median on the log scale (see median_bootstrap). With fewer than six rounds
    the bootstrap cannot be wide enough, so the interval also covers Student's t interval of the
    mean log ratio.

    Verdict "cannot tell apart" when the interval holds 1 or there is none, or when the value
    lies within ``floor``, the factor that two equal lanes can be apart on this machine.

    Raises ValueError for no pairs, unequal lengths, or times that are not positive.
    """
    a, b = np.asarray(baseline, dtype=float), np.asarray(other, dtype=float)
    if a.shape != b.shape or not len(a):
        raise ValueError("ratios need at least one pair of times")
    if (a <= 0).any() or (b <= 0).any():
        raise ValueError("times must be positive")
    logs = np.log(a / b)
    value = float(np.exp(np.median(logs)))
    if len(logs) < 2:
        return Ratio(value, None, None, len(logs), "cannot tell apart", floor)
    low, high = interval(logs, LEVEL)
    if len(logs) < _ENOUGH:
        from scipy.special import stdtrit

        half = stdtrit(len(logs) - 1, (1 + LEVEL) / 2) * logs.std(ddof=1) / np.sqrt(len(logs))
        low, high = min(low, logs.mean() - half), max(high, logs.mean() + half)
    verdict: RatioVerdict = "cannot tell apart"
    if low > 0:
        verdict = "faster"
    elif high < 0:
        verdict = "slower"
    if floor is not None and max(value, 1 / value) <= floor:
        verdict = "cannot tell apart"
    return Ratio(value, float(np.exp(low)), float(np.exp(high)), len(logs), verdict, floor)
