"""Many comparisons at once, with a bound on the chance that any of them is false."""

from collections.abc import Sequence


def holm(chances: Sequence[float]) -> list[float]:
    """Chances of single comparisons, made those of the whole family.

    S. Holm, A simple sequentially rejective multiple test procedure, Scandinavian Journal of
    Statistics 6, 1979: a comparison whose chance is at most a level is false with at most that
    probability, whichever of the others are true. Order as given, values from 0 to 1.
    """
    order = sorted(range(len(chances)), key=chances.__getitem__)
    family, reached = [0.0] * len(chances), 0.0
    for place, position in enumerate(order):
        reached = max(reached, min(1.0, chances[position] * (len(chances) - place)))
        family[position] = reached
    return family
