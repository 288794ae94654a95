"""The table of ivrell.core.stats.middle_table: python -m tests.bench.middle_table

Draws normal values of variance 1 and prints what their middle and its scale are worth, row by
row as the table holds them. Some five minutes.
"""

import numpy as np

from ivrell.core.stats.middle import share_cut

SIZES = (*range(2, 41), 50, 60, 80, 100)
_AT_ONCE = 5000


def row(n: int, draws: int, rng: np.random.Generator) -> tuple[float, float, float]:
    """Mean square of the distance between the two quantiles, degrees of freedom, and ``n`` times
    the variance of the middle, of ``n`` values drawn so many times."""
    first, second = np.triu_indices(n)
    cut = int(share_cut(n) * len(first))
    apart, middles = [], []
    for _ in range(0, draws, _AT_ONCE):
        values = rng.standard_normal((_AT_ONCE, n))
        means = np.sort((values[:, first] + values[:, second]) / 2, axis=1)
        apart.append(means[:, -1 - cut] - means[:, cut])
        middles.append(np.median(means, axis=1))
    square = np.concatenate(apart) ** 2
    freedom = 2 * square.mean() ** 2 / square.var()
    return float(square.mean()), float(freedom), float(np.concatenate(middles).var() * n)


def main() -> None:
    rng = np.random.default_rng(20)
    for n in SIZES:
        draws = 400_000 if n <= 8 else 100_000 if n <= 20 else 30_000
        square, freedom, middle = row(n, draws, rng)
        print(f"    ({n}, {square:.5f}, {freedom:.2f}, {middle:.4f}),", flush=True)


if __name__ == "__main__":
    main()
