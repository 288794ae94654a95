"""Variances of few rounds, drawn towards what is common to the trial and usual on the machine.

With two or three rounds a variance is hardly known; the other lanes of the trial, and what lanes
of that engine and length showed on this machine before, say what to expect of it. After G. K.
Smyth, Linear models and empirical Bayes methods, Statistical Applications in Genetics and
Molecular Biology 3(1), 2004; how far the lanes of one trial differ and how much a day differs
from the days before are given bounds, for a trial has few lanes to tell them by. Calibrated in
tests/bench/verdicts.py.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ivrell.core.stats.middle import Numbers, middle_and_variance

Flags = NDArray[np.bool_]

WILD, MAYBE_WILD = 6.0, 3.0
"""How many times the usual variance a lane's own has, to be held for wild, or for what might be."""

# How the logarithms of variances of pairs of one trial differ, and what that is worth in lanes.
_BETWEEN_PAIRS = 0.5
_WORTH_LANES = 6
# The least that a day's level may differ from the machine's usual one.
_BETWEEN_DAYS = 0.4
# Where today's noise is so much above the usual one, as a logarithm, it is another kind of day.
_ANOTHER_DAY = 0.4
_NOUGHT = 1e-4


@dataclass(frozen=True)
class Usual:
    """What is usual for each pair: ``level`` of the logarithm of its variance and the ``variance``
    of that logarithm, shape (pairs,), not a number where the machine has shown nothing."""

    level: Numbers
    variance: Numbers


@dataclass(frozen=True)
class Moderated:
    """Variances of one difference, shape (pairs,), and the degrees of freedom each is worth:
    ``own`` from its rounds, ``freedom`` with what was borrowed."""

    variance: Numbers
    own: Numbers
    freedom: Numbers


def wild_lanes(logs: Numbers, usual: float, times: float) -> Flags:
    """Which lanes vary far more than most, and so cannot borrow what those vary by.

    Two lanes have no others to be compared with.

    Args:
        logs: logarithms by lane and round, shape (lanes, rounds), not a number where a lane has
            no run.
        usual: variance of one difference between most lanes.
        times: how many times the usual variance of a lane makes it wild.
    """
    flags: Flags = np.zeros(len(logs), dtype=bool)
    if len(logs) < 3:
        return flags
    off = logs - np.nanmedian(logs, axis=0)
    for lane, own in enumerate(off):
        known = own[np.isfinite(own)]
        if len(known) > 1:
            # Robust, for a single spike makes no wild lane.
            _, variance = middle_and_variance(known[None, :])
            flags[lane] = float(variance[0]) > times * usual / 2
    return flags


def log_variance(variance: Numbers, freedom: Numbers) -> Numbers:
    """The logarithm of variances without the bias that few degrees of freedom bring."""
    # Loaded where it is used: a web server should start small.
    from scipy.special import digamma

    logs: Numbers = np.log(variance) - digamma(freedom / 2) + np.log(freedom / 2)
    return logs


def moderated(variance: Numbers, own: Numbers, lanes: int, usual: Usual | None) -> Moderated:
    """The variances of pairs of lanes, drawn towards what is expected of them.

    Args:
        variance: of one difference of each pair, shape (pairs,), at least 0, some above.
        own: degrees of freedom that each is worth, shape (pairs,).
        lanes: how many lanes the pairs are made of.
        usual: what the machine showed before; None where nothing.
    """
    from scipy.special import digamma, polygamma

    known = variance[variance > 0]
    variance = np.maximum(variance, _NOUGHT * float(np.median(known)))
    before = np.full(len(variance), np.nan) if usual is None else usual.level
    has_before = np.isfinite(before)
    if _worse_than_usual(variance[has_before], before[has_before]) > _ANOTHER_DAY:
        # Quieter days say nothing of this one.
        has_before = np.zeros(len(variance), dtype=bool)
    if lanes < 3:
        # A pair that stands alone cannot tell whether today is as days were before.
        return Moderated(variance, own, own)
    logs = log_variance(variance, own)
    shift = np.where(has_before, before, 0.0)
    spread = polygamma(1, own / 2)
    expected, unsure, within = _expected(logs - shift, spread, lanes)
    level = np.full(len(logs), expected)
    doubt = np.full(len(logs), unsure)
    if usual is not None and has_before.any():
        day = np.maximum(usual.variance[has_before], _BETWEEN_DAYS)
        of_day = float(np.mean((logs - shift)[has_before]))
        weight = 1 / unsure + 1 / day
        level[has_before] = of_day / unsure / weight
        doubt[has_before] = 1 / weight
    half = _trigamma_inverse(within + doubt)
    center = np.exp(level + shift + digamma(half) - np.log(half))
    borrowed = 2 * half
    total = borrowed + own
    # What one trial's own lanes lend cannot be worth more than they all have.
    freedom = np.where(has_before, total, np.minimum(total, own * (lanes - 1)))
    return Moderated((borrowed * center + own * variance) / total, own, freedom)


def _worse_than_usual(variance: Numbers, before: Numbers) -> float:
    """By how much today's variances lie above what the machine showed before, as a logarithm;
    nought where it showed nothing."""
    if not len(variance):
        return 0.0
    return float(np.log(np.mean(variance)) - np.log(np.mean(np.exp(before))))


def _expected(logs: Numbers, spread: Numbers, lanes: int) -> tuple[float, float, float]:
    """Level of the pairs' logarithms, how unsure it is, and by how much pairs differ from it."""
    level = float(np.mean(logs))
    error = float(np.mean(spread))
    free = max(lanes - 2, 0)
    seen = 0.0
    if len(logs) > 1:
        seen = max(float(np.var(logs, ddof=1)) - error, 0.0)
    within = (seen * free + _BETWEEN_PAIRS * _WORTH_LANES) / (free + _WORTH_LANES)
    return level, (within + error) / max(lanes - 1, 1), within


def _trigamma_inverse(values: Numbers) -> Numbers:
    """The argument at which the trigamma function has a value (Newton; Smyth 2004, appendix)."""
    from scipy.special import polygamma

    # Most pairs have as many rounds, and so the same value.
    values, back = np.unique(values, return_inverse=True)
    found: Numbers = 0.5 + 1 / values
    for _ in range(8):
        at = polygamma(1, found)
        found = found + at * (1 - at / values) / polygamma(2, found)
    return found[back]
