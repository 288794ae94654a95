"""How far apart numbers are: absolute, relative, in units in the last place."""

import sys
from collections import Counter

import numpy as np
from numpy.typing import NDArray

from ivrell.core.comparison.model import Answer
from ivrell.core.records.agreement import ColumnDistances

Floats = NDArray[np.float64]

_SIGN = np.int64(np.iinfo(np.int64).min)
_LEAST_DECADE, _MOST_DECADE = -18, 18


def near(left: Floats, right: Floats, question: Answer) -> NDArray[np.bool_]:
    """Where ``|left - right| <= absolute + relative * |left|``, ``left`` being the reference;
    infinities and not-a-number equal themselves alone."""
    with np.errstate(invalid="ignore", over="ignore"):
        gap = np.subtract(left, right)
        np.abs(gap, out=gap)
        allowed = np.abs(left)
        finite = bool(np.isfinite(allowed.max(initial=0.0)))
        allowed *= question.relative
        allowed += question.absolute
        close: NDArray[np.bool_] = gap <= allowed
    if finite and close.all():
        # Then the other side is finite too.
        return close
    same: NDArray[np.bool_] = (left == right) | (np.isnan(left) & np.isnan(right))
    return same | (close & np.isfinite(left) & np.isfinite(right))


def units_apart(left: Floats, right: Floats) -> Floats:
    """How many doubles lie from one finite number to the other, zeros of either sign as one."""
    bits = [np.ascontiguousarray(side, dtype=np.float64).view(np.int64) for side in (left, right)]
    if len(left) and not np.signbit(left).any() and not np.signbit(right).any():
        return _exact(bits[0], bits[1])
    a, b = (_ordered(side) for side in (left, right))
    # Ranks of numbers of unlike signs can be further apart than an int64 holds.
    if _far(a, b):
        apart: Floats = np.abs(a.astype(np.float64) - b.astype(np.float64))
        return apart
    return _exact(a, b)


def _decades(shares: Floats) -> NDArray[np.intp]:
    """Power of ten of each share, counted from the least that is told apart; of half the digits
    only, which is four times as quick and wrong at the very edge of a power alone."""
    with np.errstate(divide="ignore", over="ignore", under="ignore"):
        power = np.floor(np.log10(shares.astype(np.float32)))
    return (np.clip(power, _LEAST_DECADE, _MOST_DECADE) - _LEAST_DECADE).astype(np.intp)


def _ordered(values: Floats) -> NDArray[np.int64]:
    bits = np.ascontiguousarray(values, dtype=np.float64).view(np.int64)
    return np.where(bits < 0, _SIGN - bits, bits)


def _far(a: NDArray[np.int64], b: NDArray[np.int64]) -> bool:
    return bool(np.any(np.abs(a // 2 - b // 2) > 2**61))


def _exact(a: NDArray[np.int64], b: NDArray[np.int64]) -> Floats:
    apart: Floats = np.abs(a - b).astype(np.float64)
    return apart


class Distances:
    """Distances of one column's numbers, gathered over pairs: the largest of each sort, and how
    many there are by power of ten of the relative distance.

    ``within`` and ``beyond`` count pairs that differ but agree, and pairs that do not agree.
    A relative distance from zero is counted as the largest power.
    """

    def __init__(self) -> None:
        self.absolute = self.relative = self.units = 0.0
        self.within: Counter[int] = Counter()
        self.beyond: Counter[int] = Counter()

    def add(self, left: Floats, right: Floats, agree: NDArray[np.bool_]) -> None:
        """Take in pairs of numbers; those that are not finite count for nothing."""
        differ = np.isfinite(left) & np.isfinite(right) & (left != right)
        if differ.all():
            a, b, good = left, right, agree
        else:
            a, b, good = left[differ], right[differ], agree[differ]
        if not len(a):
            return
        with np.errstate(divide="ignore", over="ignore"):
            gap = np.abs(a - b)
            share = gap / np.abs(a)
        decade = _decades(share)
        for counts, chosen in ((self.within, good), (self.beyond, ~good)):
            numbers = np.bincount(decade if chosen.all() else decade[chosen])
            counts.update({int(place) + _LEAST_DECADE: int(numbers[place])
                           for place in np.flatnonzero(numbers)})  # fmt: skip
        if good.any():
            self.absolute = max(self.absolute, min(float(gap[good].max()), sys.float_info.max))
            finite = share[good & np.isfinite(share)]
            self.relative = max(self.relative, float(finite.max(initial=0.0)))
            some = (a, b) if good.all() else (a[good], b[good])
            self.units = max(self.units, float(units_apart(*some).max()))

    def add_agreeing(self, left: Floats, right: Floats) -> int:
        """Take in pairs of numbers that agree; how many of them differ."""
        differ = left != right
        count = int(np.count_nonzero(differ))
        if not count:
            return 0
        if count < len(left):
            left, right = left[differ], right[differ]
        # What is no number differs from itself, but not here.
        count -= int(np.count_nonzero(np.isnan(left) & np.isnan(right)))
        self.add(left, right, np.ones(len(left), dtype=bool))
        return count

    def record(self) -> ColumnDistances:
        """As a record, the powers of ten as text."""
        return ColumnDistances(
            absolute=self.absolute,
            relative=self.relative,
            units=self.units,
            within={str(decade): n for decade, n in sorted(self.within.items())},
            beyond={str(decade): n for decade, n in sorted(self.beyond.items())},
        )
