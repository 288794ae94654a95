"""How the sessions of a trial differ: by how much all lanes together took longer in a later one.

Logarithms of times by lane and session; the shift of a session is the mean over the lanes that ran
in both, weighted by how well each knows it, with Student's interval from the variance within lanes
and sessions (a two-way layout with lanes as blocks; D. C. Montgomery, Design and Analysis of
Experiments, 8th ed., section 4.1, with unequal numbers of observations).
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import exp, log, sqrt
from statistics import fmean

LEVEL = 0.99
"""Of the interval: that sessions differ is said of one equal trial in a hundred."""

Times = Mapping[int, Mapping[str, Sequence[float]]]
"""Seconds of counted runs by session and lane."""


@dataclass(frozen=True)
class Shift:
    """What runs of a session took, as a factor of what they took in the one before; ``low`` and
    ``high`` bound it, ``lanes`` are those that it is known by."""

    before: int
    after: int
    value: float
    low: float
    high: float
    lanes: int

    @property
    def told(self) -> bool:
        """Whether there surely is one."""
        return self.low > 1 or self.high < 1


def shifts(times: Times) -> list[Shift]:
    """The shift of each session against the one before; none where no lane ran twice in both."""
    found = []
    for before, after in pairwise(sorted(times)):
        shift = _shift(before, after, times[before], times[after])
        if shift:
            found.append(shift)
    return found


def _shift(
    before: int,
    after: int,
    first: Mapping[str, Sequence[float]],
    second: Mapping[str, Sequence[float]],
) -> Shift | None:
    from scipy.special import stdtrit

    weighted = weight = squares = 0.0
    freedom = lanes = 0
    for lane in first.keys() & second.keys():
        one, other = ([log(value) for value in own[lane] if value > 0] for own in (first, second))
        if len(one) < 2 or len(other) < 2:
            continue
        means = fmean(one), fmean(other)
        squares += sum((x - means[0]) ** 2 for x in one) + sum((x - means[1]) ** 2 for x in other)
        freedom += len(one) + len(other) - 2
        own = 1 / (1 / len(one) + 1 / len(other))
        weighted += own * (means[1] - means[0])
        weight += own
        lanes += 1
    if not lanes:
        return None
    middle = weighted / weight
    error = sqrt(squares / freedom / weight)
    half = -float(stdtrit(freedom, (1 - LEVEL) / 2)) * error
    return Shift(before, after, exp(middle), exp(middle - half), exp(middle + half), lanes)
