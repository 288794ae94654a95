"""How often verdicts are right: python -m tests.bench.verdicts [share of the trials]

Trials are drawn with a known truth and judged by ivrell.core.stats.contrasts as findings are.
Five kinds of noise, 2 to 30 rounds, 2, 5 and 12 lanes; a round slows or hurries all lanes by 5 %.
One run spreads by 5 % (lanes of unequal spread: times a log-normal factor of 0.5). Told for each:

- false: share of pairs of equals whose interval alone leaves 1 out, which is what its coverage
  misses too;
- family: share of trials of equals in which any pair is told apart, the bound for all pairs;
- width: the middle half width of intervals, as a factor;
- power: share of lanes 10 % quicker than the first whose interval says so.

"history" has been told what eighty lanes of earlier trials of the same machine showed. Equal is
what the middle of ratios within rounds says; noise of unequal, one-sided lanes is symmetric
within a pair only where the two lanes are alike, so unequal lanes are drawn with normal noise.
"""

import sys
from collections.abc import Sequence

import numpy as np

from ivrell.core.stats.contrasts import Pair, Terms, contrasts
from ivrell.core.stats.middle import Numbers, middle_and_variance, worth
from ivrell.core.stats.variances import Usual, log_variance

SPREAD, TRUTH = 0.05, 1.10
KINDS = ("normal", "one-sided, heavy", "spiky", "drifting", "unequal")
ROUNDS = (2, 3, 5, 10, 30)
LANES = (2, 5, 12)
_TRIALS = {2: 3000, 5: 800, 12: 250}
_TERMS = Terms(matters=1e-9)


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
    kind: str, lanes: int, rounds: int, rng: np.random.Generator, *, unequal: bool | None = None
) -> Numbers:
    """Logarithms of times, shape (lanes, rounds), of lanes that are equal."""
    own = SPREAD * noise(kind, (lanes, rounds), rng)
    if kind == "unequal" if unequal is None else unequal:
        own *= np.exp(0.5 * rng.standard_normal((lanes, 1)))
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


def judged(
    logs: Numbers, before: tuple[float, float] | None
) -> list[tuple[Pair, bool, bool, float]]:
    """Of each pair: whether its interval leaves 1 out to the better side, whether at all, and its
    half width as a factor."""

    def usual(pairs: Sequence[Pair]) -> Usual | None:
        if before is None:
            return None
        return Usual(np.full(len(pairs), before[0]), np.full(len(pairs), before[1]))

    times = {str(lane): dict(enumerate(np.exp(own).tolist())) for lane, own in enumerate(logs)}
    found = contrasts(times, _TERMS, usual)
    told = []
    for pair, ratio in found.items():
        assert ratio.low and ratio.high and ratio.chance is not None
        out = ratio.low > 1 or ratio.high < 1
        half = float(np.sqrt(ratio.high / ratio.low))
        told.append((pair, ratio.low > 1, out, half if ratio.chance >= 0.05 else -half))
    return told


def cell(kind: str, lanes: int, rounds: int, trials: int, known: bool) -> tuple[float, ...]:
    """Shares of false pairs and of false trials, the middle half width, and power."""
    rng = np.random.default_rng([KINDS.index(kind), lanes, rounds, known])
    false, family, widths, power = [], [], [], []
    before = None
    for number in range(trials):
        if known and number % 50 == 0:
            before = history(kind, rng)
        told = judged(trial(kind, lanes, rounds, rng), before)
        false += [out for _, _, out, _ in told]
        family.append(any(half < 0 for *_, half in told))
        widths += [abs(half) for *_, half in told]
        logs = trial(kind, lanes, rounds, rng, unequal=False)
        logs[1:] -= np.log(TRUTH)
        power += [better for pair, better, *_ in judged(logs, before) if pair[0] == "0"]
    return (
        100 * float(np.mean(false)), 100 * float(np.mean(family)),
        float(np.median(widths)), 100 * float(np.mean(power)),
    )  # fmt: skip


def main() -> None:
    part = float(sys.argv[1]) if len(sys.argv) > 1 else 1.0
    print("false % / family % / width / power %")
    for known in (False, True):
        print("history" if known else "these lanes alone")
        for kind in KINDS:
            for lanes in LANES:
                told = []
                for rounds in ROUNDS:
                    trials = max(20, int(_TRIALS[lanes] * part * (0.3 if rounds == 30 else 1)))
                    false, family, width, power = cell(kind, lanes, rounds, trials, known)
                    told.append(f"{false:4.1f} {family:4.1f} x{width:.3f} {power:3.0f}")
                print(f"{kind:17s} {lanes:2d} lanes | {' | '.join(told)}", flush=True)


if __name__ == "__main__":
    main()
