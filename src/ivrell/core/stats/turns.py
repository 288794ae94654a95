"""Since when: the trial at which a history of a lane took another level.

Of all ways to cut a history in two, each part two trials or longer, the one with the largest
two-sample t (D. M. Hawkins, Testing a sequence of observations for a shift in location, Journal of
the American Statistical Association 72, 1977). People look again after each trial, so a cut is told
where its chance is below a bound that falls with their number: with OF_CHANCE a history of a
hundred equal trials that is looked at after each is ever called changed at MISSES at the most
(simulated; tests/bench/since.py shows it, and what is found). What comes before and after
a cut is looked at in the same way, so that several are found.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import exp

import numpy as np

from ivrell.core.stats.families import MISSES
from ivrell.core.stats.middle import Numbers

OF_CHANCE = 0.078
"""A cut of a history of n trials is told where its chance is below MISSES times this over n."""

MOST_TRIALS = 100
LEAST_TRIALS = 5
_LEAST_PART = 2


@dataclass(frozen=True)
class Turn:
    """A history of logarithms is at another level from ``place`` on, ``factor`` times what it was;
    ``low`` and ``high`` bound that at 95 %."""

    place: int
    factor: float
    low: float
    high: float


def turns(logs: Sequence[float], *, histories: int = 1, matters: float = 0.0) -> list[Turn]:
    """Where a history took another level, the oldest first.

    Args:
        logs: logarithms, the oldest first, no longer than MOST_TRIALS.
        histories: how many are looked at at once; all together are called changed at MISSES.
        matters: share by which a level has to differ from the one before to be told.

    Raises ValueError for a history that is longer.
    """
    if len(logs) > MOST_TRIALS:
        raise ValueError(f"a history of {len(logs)} trials; {MOST_TRIALS} at the most")
    values = np.array(logs, dtype=float)
    cuts = _cuts(values, histories)
    edges = [0, *cuts, len(values)]
    found = [
        _between(cut, values[before:cut], values[cut:after])
        for before, cut, after in zip(edges, cuts, edges[2:], strict=False)
    ]
    far = 1 + matters
    return [turn for turn in found if turn.factor > far or turn.factor < 1 / far]


def _cuts(values: Numbers, histories: int) -> list[int]:
    """Places of all cuts, in order."""
    cut = _cut(values, histories)
    if cut is None:
        return []
    after = [cut + place for place in _cuts(values[cut:], histories)]
    return [*_cuts(values[:cut], histories), cut, *after]


def _between(place: int, before: Numbers, after: Numbers) -> Turn:
    """What is between the levels of two parts; Student's interval, one variance for both."""
    from scipy.special import stdtrit

    freedom = len(before) + len(after) - 2
    squares = float(((before - before.mean()) ** 2).sum() + ((after - after.mean()) ** 2).sum())
    error = (squares / freedom * (1 / len(before) + 1 / len(after))) ** 0.5
    middle, half = float(after.mean() - before.mean()), -float(stdtrit(freedom, 0.025)) * error
    return Turn(place, exp(middle), exp(middle - half), exp(middle + half))


def _cut(values: Numbers, histories: int) -> int | None:
    """The place at which what comes after is surely another level."""
    # Loaded where it is used: a web server should start small.
    from scipy.special import stdtr

    count = len(values)
    if count < LEAST_TRIALS:
        return None
    first = np.arange(_LEAST_PART, count - _LEAST_PART + 1)
    sums, total = np.cumsum(values), float(values.sum())
    before = sums[first - 1] / first
    after = (total - sums[first - 1]) / (count - first)
    squares = float((values**2).sum()) - first * before**2 - (count - first) * after**2
    freedom = count - 2
    nothing = 1e-12 * max(1.0, float((values**2).max()))
    variance = np.maximum(squares, nothing) / freedom
    error = np.sqrt(variance * (1 / first + 1 / (count - first)))
    apart = after - before
    best = int(np.argmax(np.abs(apart) / error))
    chance = 2 * float(stdtr(freedom, -abs(apart[best]) / error[best]))
    return int(first[best]) if chance <= MISSES * OF_CHANCE / count / histories else None
