"""How many times faster: the median of ratios formed within rounds, with an interval."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.stats import bootstrap, t

LEVEL = 0.95
_RESAMPLES = 4999
_ENOUGH = 6

Verdict = Literal["faster", "slower", "cannot tell apart"]


@dataclass(frozen=True)
class Ratio:
    """Times faster than the baseline: above 1 is faster. ``low`` and ``high`` are null
    with fewer than two rounds. ``floor`` is the factor that the machine's own noise reaches,
    null where it was never measured."""

    value: float
    low: float | None
    high: float | None
    rounds: int
    verdict: Verdict
    floor: float | None = None


def ratio(
    baseline: Sequence[float],
    other: Sequence[float],
    *,
    floor: float | None = None,
    seed: int = 1,
) -> Ratio:
    """Compare elapsed times paired by round (equal lengths, at least one pair).

    Value: the median of ``baseline[i] / other[i]``. Interval at 95 %: a percentile
    bootstrap of that median on the log scale (Efron and Tibshirani, An Introduction to the
    Bootstrap, 1993, chapter 13). With fewer than six rounds the bootstrap cannot be wide
    enough, so the interval also covers Student's t interval of the mean log ratio.

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
    low, high = _bootstrapped(logs, seed)
    if len(logs) < _ENOUGH:
        half = t.ppf((1 + LEVEL) / 2, len(logs) - 1) * logs.std(ddof=1) / np.sqrt(len(logs))
        low, high = min(low, logs.mean() - half), max(high, logs.mean() + half)
    verdict: Verdict = "cannot tell apart"
    if low > 0:
        verdict = "faster"
    elif high < 0:
        verdict = "slower"
    if floor is not None and max(value, 1 / value) <= floor:
        verdict = "cannot tell apart"
    return Ratio(value, float(np.exp(low)), float(np.exp(high)), len(logs), verdict, floor)


def _bootstrapped(logs: NDArray[np.float64], seed: int) -> tuple[float, float]:
    if np.ptp(logs) == 0:
        return float(logs[0]), float(logs[0])
    found = bootstrap(
        (logs,),
        np.median,
        n_resamples=_RESAMPLES,
        confidence_level=LEVEL,
        method="percentile",
        random_state=np.random.default_rng(seed),
    ).confidence_interval
    return float(found.low), float(found.high)
