"""How far a measure of one trial is from that of another: levels, and what is between them.

A level is the robust middle of logarithms with the variance of that middle (middle.py); what is
between two has the sum of their variances, and the degrees of freedom of F. E. Satterthwaite (An
approximate distribution of estimates of variance components, Biometrics Bulletin 2, 1946).
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import exp, inf, log
from statistics import fmean

import numpy as np

from ivrell.core.records.findings import Ratio
from ivrell.core.stats.contrasts import Terms, verdict_of
from ivrell.core.stats.middle import middle_and_variance, worth

ByRound = Mapping[int, float]
"""Values of a lane by round, above 0."""


@dataclass(frozen=True)
class Level:
    """A logarithm, the variance of what is known of it (None of a single value) and its degrees of
    freedom; ``count`` values made it."""

    middle: float
    variance: float | None
    freedom: float
    count: int

    @classmethod
    def of(cls, logs: Sequence[float]) -> "Level":
        """Of one logarithm or more."""
        count = len(logs)
        if count == 1:
            return cls(logs[0], None, 0, 1)
        if len(set(logs)) == 1:
            return cls(logs[0], 0.0, inf, count)
        middle, variance = middle_and_variance(np.array([logs]))
        _, freedom, of_middle = worth(count)
        return cls(float(middle[0]), float(variance[0]) * of_middle / count, freedom, count)

    def __sub__(self, other: "Level") -> "Level":
        count = min(self.count, other.count)
        middle = self.middle - other.middle
        if self.variance is None or other.variance is None:
            return Level(middle, None, 0, count)
        variance = self.variance + other.variance
        if not variance:
            return Level(middle, 0.0, inf, count)
        parts = self.variance**2 / self.freedom + other.variance**2 / other.freedom
        return Level(middle, variance, variance**2 / parts, count)

    def half(self, level: float) -> float | None:
        """Half the width of the interval that misses in a share of times; None of single values."""
        # Loaded where it is used: a web server should start small.
        from scipy.special import stdtrit

        if self.variance is None:
            return None
        if not self.variance:
            return 0.0
        return -float(stdtrit(self.freedom, level / 2)) * float(np.sqrt(self.variance))

    def ratio(self, terms: Terms, level: float) -> Ratio:
        """As a ratio, above 1 where the later takes less; of single values without an interval."""
        middle, half = self.middle, self.half(level)
        if half is None:
            return Ratio(exp(middle), None, None, self.count, "not told apart",
                         question="change")  # fmt: skip
        floor = terms.floor(self.count)
        if floor is not None and self.variance:
            # Each of the two trials has noise of its own.
            half = max(half, log(floor) * 2**0.5)
        return Ratio(
            exp(middle), exp(middle - half), exp(middle + half), self.count,
            verdict_of(middle, half, terms), floor, question="change",
        )  # fmt: skip


def relative_level(own: ByRound, anchors: Sequence[ByRound]) -> Level | None:
    """The level of a lane beside that of others, from rounds that all have, or, where there is no
    such round, from what each took in its own; None where the lane or the others have none. Without
    others it is its own."""
    alone = [log(value) for value in own.values()]
    if not anchors:
        return Level.of(alone) if alone else None
    common = set.intersection(*map(set, anchors))
    beside = {n: fmean(log(of[n]) for of in anchors) for n in common}
    if both := common & own.keys():
        return Level.of([log(own[n]) - beside[n] for n in both])
    return Level.of(alone) - Level.of(list(beside.values())) if alone and beside else None
