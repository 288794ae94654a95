"""How good predictions are where the law is known: python -m tests.bench.growth [share]

Lanes whose values follow a law are drawn at 3 to 7 sizes a third of a decade to a decade apart,
five runs each that spread by 5 %; half of the laws have a fixed part. Told for each law and number
of sizes: the share of trials that predict at all, and of those the share in which the value at 3
and at 10 times the largest size lies within the 90 % interval, and the median error, in percent.
"""

import sys
from collections.abc import Callable

import numpy as np

from ivrell.core.stats.growth import predictor_ahead
from ivrell.core.stats.middle import Numbers

Law = Callable[[Numbers], Numbers]
LAWS: dict[str, Law] = {
    "constant": lambda n: 0 * n + 1.0,
    "log n": lambda n: np.log(n),
    "n^0.7": lambda n: n**0.7 / 1e3,
    "n": lambda n: n / 1e5,
    "n log n": lambda n: n * np.log(n) / 1e6,
    "n^1.5": lambda n: n**1.5 / 1e7,
    "n^2": lambda n: n**2 / 1e9,
    "step": lambda n: n / 1e5 * np.where(n < 25_000, 1.0, 2.0),
}
SIZES = {
    3: [1e3, 1e4, 1e5],
    4: [1e3, 5e3, 2e4, 1e5],
    5: [1e3, 3e3, 1e4, 3e4, 1e5],
    7: [1e3, 2e3, 5e3, 1e4, 2e4, 5e4, 1e5],
    9: [1e3, 2e3, 3e3, 5e3, 1e4, 2e4, 3e4, 5e4, 1e5],
}
RUNS, SPREAD, TIMES = 5, 0.05, (3.0, 10.0)


def cell(law: str, count: int, trials: int) -> tuple[float, list[tuple[float, float]]]:
    """Share that predicts; cover and median error at each distance, in percent."""
    rng = np.random.default_rng([list(LAWS).index(law), count])
    of, told = LAWS[law], 0
    hits: list[list[bool]] = [[] for _ in TIMES]
    errors: list[list[float]] = [[] for _ in TIMES]
    for number in range(trials):
        fixed = float(of(np.array([3e3]))[0]) if number % 2 else 0.0
        n = np.repeat(SIZES[count], RUNS)
        y = (fixed + of(n)) * np.exp(SPREAD * rng.standard_normal(len(n)))
        found = predictor_ahead(n.tolist(), y.tolist())
        if found is None:
            continue
        told += 1
        for place, times in enumerate(TIMES):
            true = fixed + float(of(np.array([times * n.max()]))[0])
            prediction = found.at(times * float(n.max()))
            hits[place].append(prediction.low <= true <= prediction.high)
            errors[place].append(abs(prediction.value / true - 1))
    shares = [
        (100 * float(np.mean(hit)), 100 * float(np.median(error))) if hit else (np.nan, np.nan)
        for hit, error in zip(hits, errors, strict=True)
    ]
    return 100 * told / trials, shares


def main() -> None:
    """A line a law."""
    trials = int(60 * (float(sys.argv[1]) if len(sys.argv) > 1 else 1.0))
    for law in LAWS:
        told = []
        for count in SIZES:
            share, ahead = cell(law, count, trials)
            at = " ".join(f"{cover:3.0f}({error:2.0f})" for cover, error in ahead)
            told.append(f"{count}: {share:3.0f} {at}")
        print(f"{law:9s} {' | '.join(told)}", flush=True)


if __name__ == "__main__":
    main()
