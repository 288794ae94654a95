"""At which level each interval of a family of comparisons is drawn, so that it is its verdict too.

People ask three things of the lanes of a trial, and each has a family of its own:

- *the quickest*: one claim that needs each of its pairs, so each may be judged alone at 5 %
  (intersection-union; compare J. C. Hsu, Constrained simultaneous confidence intervals for multiple
  comparisons with the best, Annals of Statistics 12, 1984);
- *against the baseline*: the baseline's pairs, by Holm (A simple sequentially rejective multiple
  test procedure, Scandinavian Journal of Statistics 6, 1979);
- *any pair*: all pairs, by Holm too: Tukey's studentized range would tell more of them, but holds
  for lanes that vary alike only.

A pair's level is the share of times that its own interval may miss; the interval leaves 1 out just
where the family tells the pair apart. How often that is right: tests/bench/verdicts.py.
"""

import numpy as np

from ivrell.core.stats.middle import Numbers

MISSES = 0.05
"""How often what a family tells may be false."""


def holm_levels(chances: Numbers) -> tuple[Numbers, Numbers]:
    """Levels of single comparisons, and their chances for the whole family.

    Args:
        chances: of single comparisons, shape (comparisons,), from 0 to 1.

    Returns:
        levels and chances of the family, shape (comparisons,): a chance is below its level where
        that of the family is below MISSES.
    """
    count = len(chances)
    order = np.argsort(chances, kind="stable")
    weights = np.arange(count, 0, -1, dtype=float)
    reached = np.maximum.accumulate(chances[order] * weights)
    family, levels = np.empty(count), np.empty(count)
    family[order] = np.minimum(reached, 1.0)
    # What comes after one that is not told is not told either: by how much its level shrinks.
    shrunk = np.divide(chances[order] * weights, reached, out=np.ones(count), where=reached > 0)
    levels[order] = MISSES * shrunk / weights
    return levels, family
