"""What can be said of two lanes when one of them did not finish."""

from collections.abc import Sequence
from typing import Literal

import numpy as np

from ivrell.core.records.findings import Ratio, RatioVerdict


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
        verdict: RatioVerdict = "faster" if value > 1 else "not told apart"
        return Ratio(value, None, None, len(other), verdict, bound="at least")
    value = float(np.median(baseline)) / max(other)
    verdict = "slower" if value < 1 else "not told apart"
    return Ratio(value, None, None, len(baseline), verdict, bound="at most")
