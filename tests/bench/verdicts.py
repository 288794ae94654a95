"""How often verdicts are right: python -m tests.bench.verdicts [share of the trials]

Trials are drawn with a known truth and judged by ivrell.core.stats.contrasts as findings are; what
is counted is the verdict that a user is shown, never a single interval that nobody sees. Kinds of
noise are drawn for 2, 3, 5 and 10 rounds and 2, 5 and 12 lanes; a round slows or hurries all lanes
by 5 %. One run spreads by 5 % (lanes of unequal spread: times a log-normal factor of 0.5; wild: one
lane, any, spreads by five times as much). In percent:

- winner: trials in which a lane that is 20 % quicker than all others is told to be the quickest;
- false winner: trials of equals in which any lane is;
- two best: trials in which one of two equal lanes is (the wild one is one of them), all others
  being twice as slow;
- baseline: share of lanes 20 % quicker than the baseline that are told so;
- false baseline: trials of equals in which any lane is told apart from the baseline;
- false pair: trials of equals in which any pair is told apart.

With a history: what eighty lanes of earlier trials showed at a spread of 5 %, and a day that
spreads by 5 to 25 %; `winner` and false verdicts of any kind. "Equal" is what the middle of ratios
within rounds says; noise of unequal, one-sided lanes is symmetric within a pair only where the two
lanes are alike, so unequal lanes are drawn with normal noise.
"""

import sys
from collections.abc import Callable, Sequence
from multiprocessing import Pool
from multiprocessing.pool import Pool as PoolType
from typing import NamedTuple

import numpy as np

from ivrell.core.records.findings import Ratio
from ivrell.core.stats.contrasts import Pair, Terms, contrasts
from ivrell.core.stats.middle import Numbers, middle_and_variance, worth
from ivrell.core.stats.variances import Usual, log_variance

SPREAD, TRUTH = 0.05, 1.20
KINDS = ("normal", "one-sided, heavy", "spiky", "drifting", "unequal", "one wild")
ROUNDS = (2, 3, 5, 10)
LANES = (2, 5, 12)
DAYS = (0.05, 0.10, 0.15, 0.25)
_TRIALS = 600
_TERMS = Terms(matters=1e-9)
_APART = ("faster", "slower")


class Told(NamedTuple):
    """Shares of trials in percent, as the module says."""

    winner: float
    false_winner: float
    two_best: float
    baseline: float
    false_baseline: float
    false_pair: float


def noise(kind: str, shape: tuple[int, ...], rng: np.random.Generator) -> Numbers:
    """Noise of one run in units of its spread."""
    if kind == "one-sided, heavy":
        quartiles = np.exp(0.6745) - np.exp(-0.6745)
        return (np.exp(rng.standard_normal(shape)) - 1) / quartiles * 1.349
    plain = rng.standard_normal(shape)
    if kind == "spiky":
        return plain + (rng.random(shape) < 0.1) * rng.uniform(4, 20, shape)
    return plain


def trial(
    kind: str,
    lanes: int,
    rounds: int,
    rng: np.random.Generator,
    spread: float = SPREAD,
    maybe_wild: int | None = None,
) -> Numbers:
    """Logarithms of times, shape (lanes, rounds), of lanes that are equal; the wild one is among
    the first ``maybe_wild``, or any."""
    own = spread * noise(kind, (lanes, rounds), rng)
    if kind == "unequal":
        own *= np.exp(0.5 * rng.standard_normal((lanes, 1)))
    if kind == "one wild":
        own[rng.integers(maybe_wild or lanes)] *= 5
    common = SPREAD * rng.standard_normal(rounds)
    if kind == "drifting":
        # The machine wanders; lanes of a round meet it one after the other in a shuffled order.
        walk = np.cumsum(SPREAD * rng.standard_normal(rounds + 1))
        order = np.argsort(rng.random((lanes, rounds)), axis=0) / lanes
        return common + walk[:-1] + np.diff(walk) * order * 0.5 + own
    return common + own


def history(kind: str, rng: np.random.Generator, lanes: int = 80) -> tuple[float, float]:
    """Level and variance of log variances of a difference, from pairs of earlier lanes."""
    logs = trial(kind, lanes, 6, rng)
    _, variance = middle_and_variance(logs[0::2] - logs[1::2])
    freedom = worth(6)[1]
    told = log_variance(variance, np.full(len(variance), freedom))
    from scipy.special import polygamma

    return float(told.mean()), max(float(told.var(ddof=1) - polygamma(1, freedom / 2)), 0.05)


def judged(logs: Numbers, before: tuple[float, float] | None = None) -> dict[Pair, Ratio]:
    """Every pair of lanes "0", "1", ..., the first being the baseline."""

    def usual(pairs: Sequence[Pair]) -> Usual | None:
        if before is None:
            return None
        return Usual(np.full(len(pairs), before[0]), np.full(len(pairs), before[1]))

    times = {str(lane): dict(enumerate(np.exp(own).tolist())) for lane, own in enumerate(logs)}
    return contrasts(times, _TERMS, usual, "0")


def winner(found: dict[Pair, Ratio]) -> bool:
    """Whether some lane is told to be the quickest."""
    return any(ratio.question == "quickest" for ratio in found.values())


def _apart(found: dict[Pair, Ratio], of: Callable[[Pair], bool]) -> list[bool]:
    return [ratio.verdict in _APART for pair, ratio in found.items() if of(pair)]


def cell(
    kind: str, lanes: int, rounds: int, trials: int, day: float = SPREAD, known: bool = False
) -> Told:
    """How often verdicts of a kind of trial are right; ``known`` with a history."""
    rng = np.random.default_rng([KINDS.index(kind), lanes, rounds, known, int(1000 * day)])
    counted = np.zeros(6)
    before = None
    for number in range(trials):
        if known and number % 50 == 0:
            before = history(kind, rng)
        equal = judged(trial(kind, lanes, rounds, rng, day), before)
        ahead = trial(kind, lanes, rounds, rng, day)
        ahead[1 if lanes == 2 else lanes - 1] -= np.log(TRUTH)
        best = judged(ahead, before)
        two = trial(kind, lanes, rounds, rng, day, 2)
        two[2:] += np.log(2)
        quicker = trial(kind, lanes, rounds, rng, day)
        quicker[1:] -= np.log(TRUTH)
        from_base = judged(quicker, before)
        counted += (
            all(r.question == "quickest" for p, r in best.items() if str(lanes - 1) in p),
            winner(equal),
            winner(judged(two, before)),
            np.mean([r.verdict == "faster" for p, r in from_base.items() if p[0] == "0"]),
            any(_apart(equal, lambda pair: "0" in pair)),
            any(_apart(equal, lambda pair: True)),
        )
    return Told(*(100 * counted / trials).tolist())


def main() -> None:
    """Print a line a kind of noise and number of lanes."""
    with Pool() as pool:
        _print_tables(pool)


def _print_tables(pool: PoolType) -> None:
    trials = int(_TRIALS * (float(sys.argv[1]) if len(sys.argv) > 1 else 1.0))
    kinds = sys.argv[2].split(";") if len(sys.argv) > 2 else KINDS
    print(f"{' '.join(Told._fields)} at {ROUNDS} rounds, % of {trials} trials")
    for kind in kinds:
        for lanes in LANES:
            rows = pool.starmap(cell, [(kind, lanes, rounds, trials) for rounds in ROUNDS], 1)
            told = (" ".join(f"{row[place]:.0f}" for row in rows) for place in range(6))
            print(f"{kind:17s} {lanes:2d} | {' | '.join(told)}", flush=True)
    print("with a history at 5 %, by the day's spread: winner | any false verdict")
    for lanes in LANES[:2]:
        for day in DAYS:
            given = [("normal", lanes, rounds, trials, day, True) for rounds in ROUNDS]
            rows = pool.starmap(cell, given, 1)
            told = (" ".join(f"{getattr(row, name):.0f}" for row in rows)
                    for name in ("winner", "false_pair"))  # fmt: skip
            print(f"{lanes:2d} lanes, {day:.0%} | {' | '.join(told)}", flush=True)


if __name__ == "__main__":
    main()
