"""Where a ratio that changes with a size passes 1.

Between measured sizes the logarithm of the ratio is taken to go straight over the logarithm of the
size, its bounds too. Where it goes far more steeply than beside it, or nothing is known beside it,
it may as well jump: then the sizes on both sides are the bounds.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import exp, log

from ivrell.core.records.findings import Ratio

_STEEP = 2.0

Rated = tuple[float, Ratio]
"""A size, and a ratio there."""


@dataclass(frozen=True)
class Passing:
    """Where a ratio rises through 1: at ``at``, between the measured sizes ``below`` and
    ``above``; with its upper bound already at ``low``, with its lower one only at ``high``, null
    where they do not pass within what was measured."""

    at: float
    below: float
    above: float
    low: float | None
    high: float | None

    @property
    def bracket(self) -> float:
        """The factor between the sizes on both sides."""
        return self.above / self.below

    @property
    def spread(self) -> float | None:
        """The factor between both bounds; None where one is not known."""
        return self.high / self.low if self.low and self.high else None


def passing(rated: Sequence[Rated]) -> Passing | None:
    """Where a ratio rises through 1 for the last time; None where it does not. Sizes rising, above
    0."""
    sizes = [log(size) for size, _ in rated]
    middle = _nought(sizes, [log(ratio.value) for _, ratio in rated])
    if middle is None:
        return None
    at, place = middle
    rising = [size for size, _ in rated]
    low = [log(ratio.low) if ratio.low else None for _, ratio in rated]
    high = [log(ratio.high) if ratio.high else None for _, ratio in rated]
    # With the upper bound of the lead it comes earlier, with the lower one later.
    early = _nought(sizes, high) if None not in high else None
    late = _nought(sizes, low) if None not in low else None
    below, above = rising[place], rising[place + 1]
    ends = (None if early is None else exp(early[0])), (None if late is None else exp(late[0]))
    if _may_jump(sizes, [log(ratio.value) for _, ratio in rated], place):
        ends = ends[0] and min(ends[0], below), ends[1] and max(ends[1], above)
    return Passing(at=exp(at), below=below, above=above, low=ends[0], high=ends[1])


def _may_jump(xs: Sequence[float], ys: Sequence[float], place: int) -> bool:
    """Whether values go far more steeply between a place and the next than on either side."""

    def slope(at: int) -> float:
        return abs(ys[at + 1] - ys[at]) / (xs[at + 1] - xs[at])

    beside = [slope(at) for at in (place - 1, place + 1) if 0 <= at < len(xs) - 1]
    return len(beside) < 2 or slope(place) > _STEEP * max(beside)


def passing_by(rated: Sequence[Rated], until: float) -> Passing | None:
    """Where a ratio rises through 1 for the last time up to a size, with bounds from all sizes;
    None where it does not."""
    found = passing([one for one in rated if one[0] <= until])
    whole = passing(rated)
    same = found and whole and (whole.below, whole.above) == (found.below, found.above)
    return whole if same else found


def _nought(xs: Sequence[float], ys: Sequence[float | None]) -> tuple[float, int] | None:
    """Where straight lines from point to point last rise through nought, and the place of the
    point before."""
    found = None
    points = [
        (x, y, place) for place, (x, y) in enumerate(zip(xs, ys, strict=True)) if y is not None
    ]
    for (x0, y0, place), (x1, y1, _) in pairwise(points):
        if y0 <= 0 < y1:
            found = x0 + (x1 - x0) * (0 - y0) / (y1 - y0), place
    return found
