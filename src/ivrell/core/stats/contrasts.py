"""Every pair of lanes of a trial compared, in one model.

The logarithm of a measure by lane and round, rounds as blocks: what a round does to all lanes
falls out of the differences within it. Middle and variance of those are robust (middle.py), the
variance is drawn towards what is expected (variances.py), the interval is Student's t with the
degrees of freedom that makes, at the level of the question that the pair answers (families.py):
the verdict is what that interval says. "Equal" means that the middle of the ratios within rounds
is 1. How often all this is right is shown by tests/bench/verdicts.py.
"""

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from math import exp, log, sqrt
from statistics import median
from typing import Literal

import numpy as np

from ivrell.core.comparison.model import MATTERS
from ivrell.core.records.findings import Question, Ratio, RatioVerdict
from ivrell.core.stats.families import MISSES, holm_levels
from ivrell.core.stats.middle import Numbers, middle_and_variance, worth
from ivrell.core.stats.variances import (
    MAYBE_WILD,
    WILD,
    Flags,
    Moderated,
    Usual,
    moderated,
    wild_lanes,
)

_MOST_ROUNDS_MORE = 1000
_FEW_ROUNDS, _SOME_ROUNDS = 3, 5
"""In so few rounds a wild lane often looks calm; in so few a calm one among many often wild."""

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
    """Pairs with as many rounds as an interval needs; logarithms, shape (pairs,). ``error`` of the
    middle and its degrees of ``freedom`` are those with what was borrowed; ``alone`` the same of
    each pair by itself, which those of ``wild`` lanes are judged by; ``doubtful`` lanes are those
    and, in few rounds, what might be."""

    pairs: list[Pair]
    rounds: Numbers
    middle: Numbers
    error: Numbers
    freedom: Numbers
    alone: tuple[Numbers, Numbers]
    wild: frozenset[str]
    doubtful: frozenset[str]
    bridged: frozenset[Pair] = frozenset()

    def log_floor(self, i: int, terms: Terms) -> float | None:
        """Logarithm of the factor that equals of a pair reach on this machine, or None."""
        floor = terms.floor(int(self.rounds[i]))
        if floor is None:
            return None
        # By way of another lane there are two ratios, each with noise of its own.
        return log(floor) * (sqrt(2) if self.pairs[i] in self.bridged else 1)

    def chances(self, by_itself: Flags) -> tuple[Numbers, Numbers, Numbers]:
        """Chance, error and degrees of freedom of single pairs, some judged by themselves."""
        # Loaded where it is used: a web server should start small.
        from scipy.special import stdtr

        error = np.where(by_itself, self.alone[0], self.error)
        freedom = np.where(by_itself, self.alone[1], self.freedom)
        return 2 * stdtr(freedom, -np.abs(self.middle) / error), error, freedom


def contrasts(
    values: Mapping[str, Mapping[int, float]],
    terms: Terms | None = None,
    usual: Callable[[Sequence[Pair]], Usual | None] = lambda pairs: None,
    baseline: str | None = None,
    contestants: Collection[str] | None = None,
    *,
    all_pairs: bool = True,
) -> dict[Pair, Ratio]:
    """Ratios of every pair of lanes; a pair's is its first lane's value over its second's: above 1
    the second takes less.

    A pair answers one question and has one interval. Where a lane takes less than every other, its
    pairs are those of the quickest; else the baseline's pairs are a family, and all pairs are one
    (see families.py).

    Args:
        values: of each lane by round, above 0, any unit.
        terms: how they become verdicts.
        usual: gives what this machine showed before of such pairs.
        baseline: a lane; its pairs are given with it first.
        contestants: lanes that may be the quickest; all unless given.
        all_pairs: give every pair in the order of ``values``; else the baseline's alone.

    Pairs without a round in common have the ratio by way of a lane that has rounds with both; where
    there is none they are left out. Raises ValueError for values that are not
    above 0.
    """
    terms = terms or Terms()
    against = baseline if not all_pairs else None
    constant = {lane: own for lane, own in values.items() if len(set(own.values())) == 1}
    if len(constant) == len(values):
        return _turned_to(baseline, _constant(constant, terms, against))
    blocks = _blocks(values)
    fit = _fitted(blocks, values, usual)
    able = set(values) if contestants is None else set(values).intersection(contestants)
    asked = _asked(fit, terms, baseline, able)
    found = {
        pair: _judged(fit, i, terms, asked)
        for i, pair in enumerate(fit.pairs)
        if against is None or against in pair
    }
    fitted = set(fit.pairs)
    for block in blocks:
        if block.pairs[0] not in fitted:
            for pair, own in zip(block.pairs, block.differences, strict=True):
                if against is None or against in pair:
                    found[pair] = _single(own.tolist(), terms)
    return _turned_to(baseline, found)


def _turned_to(baseline: str | None, found: dict[Pair, Ratio]) -> dict[Pair, Ratio]:
    """The same with the baseline first in its pairs."""
    return {
        pair[::-1] if pair[1] == baseline else pair: turned(ratio) if pair[1] == baseline else ratio
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


def _logs(values: Mapping[str, Mapping[int, float]]) -> Numbers:
    """Logarithms by lane and round, not a number where there is no run. Raises ValueError for
    values that are not above 0."""
    rounds = sorted({number for own in values.values() for number in own})
    place = {number: i for i, number in enumerate(rounds)}
    table = np.full((len(values), len(rounds)), np.nan)
    for row, own in zip(table, values.values(), strict=True):
        row[[place[number] for number in own]] = list(own.values())
    if np.any(table <= 0):
        raise ValueError("ratios need values above 0")
    logs: Numbers = np.log(table)
    return logs


def _blocks(values: Mapping[str, Mapping[int, float]]) -> list[_Block]:
    """Every pair of lanes with a round in common, by how many those are."""
    lanes, logs = list(values), _logs(values)
    if len(lanes) < 2 or not logs.shape[1]:
        return []
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
        return Ratio(value, None, None, len(differences), "not told apart")
    verdict = _within(value, value, terms) or terms.words[value < 1]
    return Ratio(value, value, value, len(differences), verdict, chance=0.0)


def _fitted(
    blocks: Sequence[_Block],
    values: Mapping[str, Mapping[int, float]],
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
        return _Fit(
            [], nothing, nothing, nothing, nothing, (nothing, nothing), frozenset(), frozenset()
        )
    middle = np.concatenate([middle for middle, _ in parts])
    variance = np.concatenate([variance for _, variance in parts])
    own = np.array([worth(int(n))[1] for n in rounds])
    spread: Moderated = moderated(variance, own, len(values), usual(pairs))
    of_middle = np.array([worth(int(n))[2] for n in rounds]) / rounds
    alone = np.sqrt(np.maximum(variance, spread.variance) * of_middle)
    logs, common = _logs(values), float(np.median(spread.variance))
    few = rounds.min() <= _FEW_ROUNDS
    wild, doubtful = (
        frozenset(
            lane for lane, own in zip(values, wild_lanes(logs, common, times), strict=True) if own
        )
        for times in (WILD, MAYBE_WILD if few else WILD)
    )
    fit = _Fit(
        pairs,
        rounds,
        middle,
        np.sqrt(spread.variance * of_middle),
        spread.freedom,
        (alone, own),
        wild,
        doubtful,
    )
    paired = {pair for block in blocks for pair in block.pairs}
    apart = [pair for pair in combinations(values, 2) if pair not in paired]
    return _with_bridges(fit, apart, values) if apart else fit


@dataclass(frozen=True)
class _Bridge:
    """A ratio by way of another lane: places of the two that it is made of, and the sign of the
    second's middle."""

    pair: Pair
    first: int
    second: int
    signs: tuple[int, int]


def _with_bridges(fit: _Fit, apart: Sequence[Pair], lanes: Iterable[str]) -> _Fit:
    """The same with pairs that have no round in common, each by way of the lane that knows it
    best: middles and variances add; degrees of freedom are the fewer of the two, for what both
    borrowed they borrowed of the same."""
    bridges = [bridge for pair in apart if (bridge := _bridge(fit, pair, list(lanes)))]
    if not bridges:
        return fit
    first = [bridge.first for bridge in bridges]
    second = [bridge.second for bridge in bridges]
    signs = np.array([bridge.signs for bridge in bridges])

    def both(error: Numbers, freedom: Numbers) -> tuple[Numbers, Numbers]:
        together = np.sqrt(error[first] ** 2 + error[second] ** 2)
        fewer = np.minimum(freedom[first], freedom[second])
        return np.concatenate([error, together]), np.concatenate([freedom, fewer])

    error, freedom = both(fit.error, fit.freedom)
    middle = signs[:, 0] * fit.middle[first] + signs[:, 1] * fit.middle[second]
    return replace(
        fit,
        pairs=[*fit.pairs, *(bridge.pair for bridge in bridges)],
        rounds=np.concatenate([fit.rounds, np.minimum(fit.rounds[first], fit.rounds[second])]),
        middle=np.concatenate([fit.middle, middle]),
        error=error,
        freedom=freedom,
        alone=both(*fit.alone),
        bridged=frozenset(bridge.pair for bridge in bridges),
    )


def _bridge(fit: _Fit, pair: Pair, lanes: Sequence[str]) -> _Bridge | None:
    place = {own: i for i, own in enumerate(fit.pairs)}

    def found(one: str, other: str) -> tuple[int, int] | None:
        if (one, other) in place:
            return place[one, other], 1
        return (place[other, one], -1) if (other, one) in place else None

    ways = []
    for lane in lanes:
        first, second = found(pair[0], lane), found(lane, pair[1])
        if first and second:
            error = float(fit.error[first[0]] ** 2 + fit.error[second[0]] ** 2)
            ways.append((error, _Bridge(pair, first[0], second[0], (first[1], second[1]))))
    return min(ways, key=lambda way: way[0])[1] if ways else None


@dataclass(frozen=True)
class _Asked:
    """What each pair answers, by which error and degrees of freedom, at which level its interval
    is drawn, its chance in that family, and the level at which more rounds would tell it; shape
    (pairs,)."""

    question: list[Question]
    error: Numbers
    freedom: Numbers
    level: Numbers
    chance: Numbers
    telling: Numbers


def _asked(fit: _Fit, terms: Terms, baseline: str | None, contestants: Collection[str]) -> _Asked:
    count = len(fit.pairs)
    if not count:
        nothing = np.empty(0)
        return _Asked([], nothing, nothing, nothing, nothing, nothing)
    single, error, freedom = fit.chances(_of(fit.doubtful, fit.pairs))
    question: list[Question] = ["pair"] * count
    level, chance = holm_levels(single)
    telling = level.copy()
    with_base = [i for i, pair in enumerate(fit.pairs) if baseline in pair]
    if with_base:
        level[with_base], chance[with_base] = holm_levels(single[with_base])
        telling[with_base] = level[with_base]
        for i in with_base:
            question[i] = "baseline"
    claim = _quickest(fit, terms, contestants)
    # That this lane is the quickest is one claim, which more rounds would tell pair by pair.
    telling[claim.pairs] = MISSES
    if claim.told:
        for i in claim.pairs:
            question[i] = "quickest"
        for array, own in ((level, MISSES), (chance, claim.chance), (error, claim.error),
                           (freedom, claim.freedom)):  # fmt: skip
            array[claim.pairs] = own
    return _Asked(question, error, freedom, level, chance, telling)


@dataclass(frozen=True)
class _Claim:
    """That a lane takes less than each other one: its pairs by place, with their chance, error and
    degrees of freedom, and whether that is told."""

    pairs: list[int]
    chance: Numbers
    error: Numbers
    freedom: Numbers
    told: bool


def _of(lanes: Collection[str], pairs: Sequence[Pair]) -> Flags:
    """Which pairs have one of some lanes."""
    return np.array([pair[0] in lanes or pair[1] in lanes for pair in pairs], dtype=bool)


def _quickest(fit: _Fit, terms: Terms, contestants: Collection[str]) -> _Claim:
    able = [
        i for i, pair in enumerate(fit.pairs) if pair[0] in contestants and pair[1] in contestants
    ]
    ahead = Counter(lane for i in able for lane in fit.pairs[i])
    ahead.update({lane: -count for lane, count in ahead.items()})
    ahead.update(fit.pairs[i][int(fit.middle[i] > 0)] for i in able)
    if not ahead:
        nothing = np.empty(0)
        return _Claim([], nothing, nothing, nothing, told=False)
    best, won = max(ahead.items(), key=lambda one: one[1])
    pairs = [i for i in able if best in fit.pairs[i]]
    wild = _of(fit.wild, fit.pairs)
    if best not in fit.wild:
        # In few rounds some calm lane among many looks wild; what counts is the leader's own calm.
        wild &= fit.rounds > _SOME_ROUNDS
    single, error, freedom = (array[pairs] for array in fit.chances(wild))
    floors = [fit.log_floor(i, terms) for i in pairs]
    above = [
        floor is None or abs(fit.middle[i]) > floor for i, floor in zip(pairs, floors, strict=True)
    ]
    # Who has too few rounds to be compared may be the quickest as well.
    every = won == len(contestants) - 1
    told = every and all(above) and bool((single < MISSES).all())
    return _Claim(pairs, single, error, freedom, told)


def _judged(fit: _Fit, i: int, terms: Terms, asked: _Asked) -> Ratio:
    from scipy.special import stdtrit

    rounds = int(fit.rounds[i])
    floor = terms.floor(rounds)
    half = -float(stdtrit(asked.freedom[i], asked.level[i] / 2)) * float(asked.error[i])
    if floor is not None:
        # Equals come as far apart on this machine.
        half = max(half, fit.log_floor(i, terms) or 0.0)
    middle = float(fit.middle[i])
    value, low, high = exp(middle), exp(middle - half), exp(middle + half)
    verdict = verdict_of(middle, half, terms)
    more = _rounds_more(fit, i, terms, asked) if verdict == "not told apart" else None
    return Ratio(
        value, low, high, rounds, verdict, floor, chance=float(asked.chance[i]), rounds_more=more,
        question=asked.question[i],
    )  # fmt: skip


def verdict_of(middle: float, half: float, terms: Terms) -> RatioVerdict:
    """What an interval of a ratio says; logarithms: its ``middle``, and ``half`` of its width."""
    within = _within(exp(middle - half), exp(middle + half), terms)
    if within:
        return within
    return terms.words[middle < 0] if half < abs(middle) else "not told apart"


def _within(low: float, high: float, terms: Terms) -> RatioVerdict | None:
    margin = 1 + terms.matters
    return "no difference that matters" if low >= 1 / margin and high <= margin else None


def _rounds_more(fit: _Fit, i: int, terms: Terms, asked: _Asked) -> int | None:
    """How many rounds more would tell the pair apart, or that what is between them does not
    matter, if it goes on as it did; None where that is more than a thousand."""
    from scipy.special import stdtrit

    rounds, middle = int(fit.rounds[i]), abs(float(fit.middle[i]))
    one = float(asked.error[i]) * sqrt(rounds / worth(rounds)[2])
    borrowed = float(asked.freedom[i]) - worth(rounds)[1]
    inside = log(1 + terms.matters) - middle

    def told(n: int) -> bool:
        freedom = borrowed + worth(n)[1]
        half = -float(stdtrit(freedom, asked.telling[i] / 2)) * one * sqrt(worth(n)[2] / n)
        return half < middle or half < inside

    low, high = rounds, rounds + 1
    while not told(high):
        low, high = high, high * 2
        if high > rounds + _MOST_ROUNDS_MORE:
            return None
    while high - low > 1:
        middle_n = (low + high) // 2
        low, high = (low, middle_n) if told(middle_n) else (middle_n, high)
    return high - rounds
