"""Every pair of lanes of a trial held against each other, in one model and one family.

The logarithm of a measure by lane and round, rounds as blocks: what a round does to all lanes
falls out of the differences within it. Middle and variance of those are robust (middle.py), the
variance is drawn towards what is expected (variances.py), the interval is Student's t with the
degrees of freedom that makes. "Equal" means that the middle of the ratios within rounds is 1.
Verdicts hold for the whole family of pairs (holm.py); how often all this is right is shown by
tests/bench/verdicts.py.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from math import exp, log, sqrt
from statistics import median
from typing import Literal

import numpy as np

from ivrell.core.comparison.model import MATTERS
from ivrell.core.records.findings import Ratio, RatioVerdict
from ivrell.core.stats.holm import holm
from ivrell.core.stats.middle import Numbers, middle_and_variance, worth
from ivrell.core.stats.variances import Moderated, Usual, moderated

LEVEL = 0.95
_MOST_ROUNDS_MORE = 1000

Pair = tuple[str, str]
"""Two lanes by id: the one that the ratio is against, and the one that it is of."""


@dataclass(frozen=True)
class Terms:
    """How ratios become verdicts.

    Attributes:
        matters: share below which a difference does not matter.
        floor: factor that equals reach on this machine in a number of rounds, or None.
        words: what a lane is that takes less than the other, and one that takes more.
    """

    matters: float = MATTERS
    floor: Callable[[int], float | None] = lambda rounds: None
    words: tuple[RatioVerdict, RatioVerdict] = ("faster", "slower")


@dataclass(frozen=True)
class _Fit:
    """Pairs with as many rounds as an interval needs; logarithms, shape (pairs,)."""

    pairs: list[Pair]
    rounds: Numbers
    middle: Numbers
    error: Numbers
    freedom: Numbers
    borrowed: Numbers


def contrasts(
    values: Mapping[str, Mapping[int, float]],
    terms: Terms | None = None,
    usual: Callable[[Sequence[Pair]], Usual | None] = lambda pairs: None,
    against: str | None = None,
) -> dict[Pair, Ratio]:
    """Ratios of every pair of lanes; a pair's is its first lane's value over its second's: above 1
    the second takes less.

    Args:
        values: of each lane by round, above 0, any unit.
        terms: how they become verdicts.
        usual: gives what this machine showed before of such pairs.
        against: a lane; only its pairs are given, with it first, judged in the family of all
            pairs all the same. Every pair in the order of ``values`` unless given.

    Pairs without a round in common are left out. Raises ValueError for values that are not
    above 0.
    """
    terms = terms or Terms()
    constant = {lane: own for lane, own in values.items() if len(set(own.values())) == 1}
    if len(constant) == len(values):
        return _constant(constant, terms, against)
    blocks = _blocks(values)
    fit = _fitted(blocks, len(values), usual)
    found = _judged(fit, terms, against)
    fitted = set(fit.pairs)
    for block in blocks:
        if block.pairs[0] not in fitted:
            for pair, own in zip(block.pairs, block.differences, strict=True):
                if against is None or against in pair:
                    found[pair] = _single(own.tolist(), terms)
    if against is None:
        return found
    return {
        pair if pair[0] == against else pair[::-1]: ratio if pair[0] == against else turned(ratio)
        for pair, ratio in found.items()
    }


def _constant(
    values: Mapping[str, Mapping[int, float]], terms: Terms, against: str | None
) -> dict[Pair, Ratio]:
    """Lanes of which each has one value in all its rounds, as sizes and counts often do."""
    found = {}
    pairs: Iterable[Pair] = combinations(values, 2)
    if against is not None:
        pairs = ((against, lane) for lane in values if lane != against and against in values)
    for first, second in pairs:
        rounds = len(values[first].keys() & values[second].keys())
        one, other = (next(iter(values[lane].values())) for lane in (first, second))
        if min(one, other) <= 0:
            raise ValueError("ratios need values above 0")
        if rounds:
            found[first, second] = _single([log(one / other)] * rounds, terms)
    return found


def turned(ratio: Ratio) -> Ratio:
    """The same ratio seen from the other lane."""
    other: dict[RatioVerdict, RatioVerdict] = {
        "faster": "slower", "slower": "faster", "less": "more", "more": "less",
    }  # fmt: skip
    bounds: dict[str, Literal["at least", "at most"]] = {
        "at least": "at most", "at most": "at least",
    }  # fmt: skip
    return replace(
        ratio,
        value=1 / ratio.value,
        low=None if ratio.high is None else 1 / ratio.high,
        high=None if ratio.low is None else 1 / ratio.low,
        verdict=other.get(ratio.verdict, ratio.verdict),
        bound=bounds.get(ratio.bound) if ratio.bound else None,
    )


@dataclass(frozen=True)
class _Block:
    """Pairs that have equally many rounds in common: differences of logarithms, shape (pairs,
    rounds)."""

    pairs: list[Pair]
    differences: Numbers


def _blocks(values: Mapping[str, Mapping[int, float]]) -> list[_Block]:
    """Every pair of lanes with a round in common, by how many those are."""
    lanes = list(values)
    rounds = sorted({number for own in values.values() for number in own})
    if len(lanes) < 2 or not rounds:
        return []
    place = {number: i for i, number in enumerate(rounds)}
    table = np.full((len(lanes), len(rounds)), np.nan)
    for row, own in zip(table, values.values(), strict=True):
        row[[place[number] for number in own]] = list(own.values())
    if np.any(table <= 0):
        raise ValueError("ratios need values above 0")
    logs = np.log(table)
    first, second = np.triu_indices(len(lanes), 1)
    every = logs[first] - logs[second]
    known = np.isfinite(every)
    counts = known.sum(axis=1)
    blocks = []
    for count in np.unique(counts[counts > 0]):
        rows = np.flatnonzero(counts == count)
        pairs = [(lanes[first[row]], lanes[second[row]]) for row in rows]
        blocks.append(_Block(pairs, every[rows][known[rows]].reshape(len(rows), count)))
    return blocks


def _single(differences: Sequence[float], terms: Terms) -> Ratio:
    """A ratio without an interval: one round, or the same in every round."""
    # As exact as it was measured: no last digits from going through logarithms.
    value = float(f"{exp(median(differences)):.12g}")
    if len(differences) < 2:
        return Ratio(value, None, None, len(differences), "cannot tell apart")
    verdict = _within(value, value, terms) or terms.words[value < 1]
    return Ratio(value, value, value, len(differences), verdict, chance=0.0)


def _fitted(
    blocks: Sequence[_Block],
    lanes: int,
    usual: Callable[[Sequence[Pair]], Usual | None],
) -> _Fit:
    """The model over all pairs of at least two rounds, or empty where none varies at all."""
    able = [block for block in blocks if block.differences.shape[1] > 1]
    if not any(np.any(block.differences != block.differences[:, :1]) for block in able):
        able = []
    pairs = [pair for block in able for pair in block.pairs]
    parts = [middle_and_variance(block.differences) for block in able]
    rounds = np.array([b.differences.shape[1] for b in able for _ in b.pairs], dtype=float)
    if not any(np.any(variance > 0) for _, variance in parts):
        # Nothing varies, or so seldom that it does not show.
        nothing = np.empty(0)
        return _Fit([], nothing, nothing, nothing, nothing, nothing)
    middle = np.concatenate([middle for middle, _ in parts])
    variance = np.concatenate([variance for _, variance in parts])
    own = np.array([worth(int(n))[1] for n in rounds])
    spread: Moderated = moderated(variance, own, lanes, usual(pairs))
    error = np.sqrt(spread.variance * np.array([worth(int(n))[2] for n in rounds]) / rounds)
    return _Fit(pairs, rounds, middle, error, spread.freedom, spread.freedom - own)


def _judged(fit: _Fit, terms: Terms, against: str | None) -> dict[Pair, Ratio]:
    if not fit.pairs:
        return {}
    # Loaded where it is used: a web server should start small.
    from scipy.special import stdtr, stdtrit

    chances = 2 * stdtr(fit.freedom, -np.abs(fit.middle) / fit.error)
    half = stdtrit(fit.freedom, (1 + LEVEL) / 2) * fit.error
    family = holm(chances.tolist())
    found = {}
    for i, pair in enumerate(fit.pairs):
        if against is not None and against not in pair:
            continue
        rounds = int(fit.rounds[i])
        value = exp(fit.middle[i])
        low, high = exp(fit.middle[i] - half[i]), exp(fit.middle[i] + half[i])
        floor = terms.floor(rounds)
        verdict = _within(low, high, terms)
        if verdict is None:
            apart = family[i] < 1 - LEVEL and (floor is None or max(value, 1 / value) > floor)
            verdict = terms.words[value < 1] if apart else "cannot tell apart"
        more = _rounds_more(fit, i, terms) if verdict == "cannot tell apart" else None
        found[pair] = Ratio(
            value, low, high, rounds, verdict, floor, chance=family[i], rounds_more=more
        )
    return found


def _within(low: float, high: float, terms: Terms) -> RatioVerdict | None:
    margin = 1 + terms.matters
    return "no difference that matters" if low >= 1 / margin and high <= margin else None


def _rounds_more(fit: _Fit, i: int, terms: Terms) -> int | None:
    """How many rounds more would tell the pair apart, or that what is between them does not
    matter, if it goes on as it did; None where that is more than a thousand."""
    from scipy.special import stdtrit

    rounds, middle = int(fit.rounds[i]), abs(float(fit.middle[i]))
    one = float(fit.error[i]) * sqrt(rounds / worth(rounds)[2])
    tell = 1 - (1 - LEVEL) / 2 / len(fit.pairs)
    inside = log(1 + terms.matters) - middle

    def told(n: int) -> bool:
        freedom = float(fit.borrowed[i]) + worth(n)[1]
        error = one * sqrt(worth(n)[2] / n)
        apart = float(stdtrit(freedom, tell)) * error < middle
        return apart or float(stdtrit(freedom, (1 + LEVEL) / 2)) * error < inside

    low, high = rounds, rounds + 1
    while not told(high):
        low, high = high, high * 2
        if high > rounds + _MOST_ROUNDS_MORE:
            return None
    while high - low > 1:
        half = (low + high) // 2
        low, high = (low, half) if told(half) else (half, high)
    return high - rounds
