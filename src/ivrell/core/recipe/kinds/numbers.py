"""Numbers: whole ones in a range, and real ones with a spread."""

import zlib
from typing import Annotated, Literal, Self

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from pydantic import Field, model_validator

from ivrell.core.recipe.kinds.base import (
    LONGEST_NUMBER,
    Block,
    Finite,
    KeysOf,
    Kind,
    Variation,
    Whole,
    ordered,
)
from ivrell.core.recipe.scatter import LARGEST, scatter

_STABLE_DIGITS = 10
_EXACT_IN_FLOATS = 2**53
_FURTHEST_NORMAL = 14
"""Standard deviations from the mean that no float64 drawn normally reaches."""


_FEW = 10
_LONG = 10**11


class Integer(Kind):
    """Whole numbers from ``low`` to ``high``, both included, evenly; int64.

    ``unique`` gives every row another one.
    """

    kind: Literal["integer"] = "integer"
    low: Whole
    high: Whole
    unique: bool = False

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        ordered(self.low, self.high)
        return self

    @property
    def _span(self) -> int:
        return self.high - self.low + 1

    def variations(self) -> list[Variation]:
        """Besides what every kind has: few different values, and numbers too long for 32 bits."""
        found = super().variations()
        if self.unique:
            return found
        few = self.low + _FEW - 1
        if few < self.high:
            found.append(Variation("high", self.high, few, f"{_FEW} different values"))
        if self.high < _LONG:
            found.append(Variation("high", self.high, _LONG, f"numbers up to {_LONG:,}"))
        return found

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        if self.unique:
            return self._unique(block.rows)
        return pa.array(rng.integers(self.low, self.high, block.count, endpoint=True))

    def draw_sorted(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        if self.unique:
            # Each row has a stretch of numbers of its own; the last takes what is over.
            width = self._span // block.total
            within = rng.integers(0, width, block.count)
            return pa.array(self.low + block.places * width + within)
        if self._span <= _EXACT_IN_FLOATS:
            steps = np.floor(block.quantiles(rng) * self._span).astype(np.int64)
            return pa.array(self.low + steps)
        # Reckoned from the middle: a span may be wider than int64, and a half of it is not.
        half = self._span // 2
        wide = np.floor(block.quantiles(rng) * self._span - half)
        return pa.array(_within(wide, -half, self._span - 1 - half) + (self.low + half))

    def absent(self, count: int, total: int) -> pa.Array:
        if not self.unique and self.high + count >= 2**63:
            raise ValueError(f"no whole numbers of 64 bits are left above {self.high}")
        if not self.unique:
            return pa.array(np.arange(count, dtype=np.int64) + self.high + 1)
        if self._span < total + count:
            raise ValueError(
                f"{self.low} to {self.high} holds too few numbers for {total:,} that stand in "
                f"the table and {count:,} that do not"
            )
        return self._unique(np.arange(total, total + count, dtype=np.int64))

    def _unique(self, rows: NDArray[np.int64]) -> pa.Array:
        return pa.array(scatter(rows, self._span, zlib.crc32(self.name.encode())) + self.low)

    def longest(self, total: int) -> int:
        return max(len(str(self.low)), len(str(self.high)))

    def problem(self, total: int) -> str:
        if self.unique and self._span < total:
            return (
                f"{self.low} to {self.high} holds {self._span:,} numbers, fewer than the "
                f"{total:,} rows that must differ. Widen the range or take fewer rows."
            )
        if self.unique and self._span > LARGEST:
            return f"{self.low} to {self.high} is wider than unique numbers can be: 2 to the 62nd."
        return ""


def _within(steps: NDArray[np.float64], low: int, high: int) -> NDArray[np.int64]:
    """Whole numbers of floats, held between two bounds that floats may not show exactly."""
    largest = float(2**63 - 1024)
    return np.clip(np.clip(steps, -largest, largest).astype(np.int64), low, high)


_WANTED = {
    "uniform": ("low", "high"),
    "normal": ("mean", "sd"),
    "lognormal": ("median", "sigma"),
    "exponential": ("mean",),
    "drawn": ("quantiles",),
}
_Quantiles = Annotated[list[Finite], Field(min_length=2, max_length=1001)]


class Number(Kind):
    """Real numbers; float64, rounded to ``decimals`` places where given.

    ``spread = "uniform"`` takes ``low`` and ``high`` (high excluded before rounding);
    ``"normal"`` takes ``mean`` and ``sd``; ``"lognormal"`` takes ``median`` and ``sigma``
    (of the logarithm); ``"exponential"`` takes ``mean``; ``"drawn"`` takes ``quantiles``: values
    below which even shares of the rows lie, smallest first, even between one and the next.
    """

    kind: Literal["number"] = "number"
    spread: Literal["uniform", "normal", "lognormal", "exponential", "drawn"] = "uniform"
    low: Finite | None = None
    high: Finite | None = None
    mean: Finite | None = None
    sd: Finite | None = Field(default=None, ge=0)
    median: Finite | None = Field(default=None, gt=0)
    sigma: float | None = Field(default=None, ge=0, le=10)
    quantiles: _Quantiles | None = None
    decimals: int | None = Field(default=None, ge=0, le=12)

    @model_validator(mode="after")
    def _complete(self) -> Self:
        wanted = _WANTED[self.spread]
        for setting in ("low", "high", "mean", "sd", "median", "sigma", "quantiles"):
            given = getattr(self, setting) is not None
            if given != (setting in wanted):
                verb = "does not take" if given else "needs"
                raise ValueError(f'spread "{self.spread}" {verb} {setting}')
        ordered(self.low, self.high)
        if self.spread == "exponential" and (self.mean or 0) <= 0:
            raise ValueError('spread "exponential" needs a mean above 0')
        if self.quantiles and self.quantiles != sorted(self.quantiles):
            raise ValueError("quantiles are to rise from the smallest to the largest")
        return self

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        n = block.count
        if self.spread == "uniform":
            low, high = self._of("low"), self._of("high")
            return self._rounded(low + rng.random(n) * (high - low))
        if self.spread == "normal":
            return self._rounded(rng.standard_normal(n) * self._of("sd") + self._of("mean"))
        if self.spread == "lognormal":
            # The generator's own method: numpy's exp would differ between processors.
            return self._rounded(self._of("median") * rng.lognormal(0.0, self._of("sigma"), n))
        if self.spread == "drawn":
            return self._rounded(self._at(rng.random(n)))
        return self._rounded(rng.standard_exponential(n) * self._of("mean"))

    def draw_sorted(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        # Loaded here alone: processes that draw unsorted blocks start without it.
        from scipy.special import log1p, ndtri

        u = block.quantiles(rng)
        if self.spread == "drawn":
            return self._rounded(self._at(u))
        if self.spread == "uniform":
            values = self._of("low") + u * (self._of("high") - self._of("low"))
        elif self.spread == "normal":
            values = ndtri(u) * self._of("sd") + self._of("mean")
        elif self.spread == "lognormal":
            values = self._of("median") * np.exp(ndtri(u) * self._of("sigma"))
        else:
            values = -log1p(-u) * self._of("mean")
        return self._rounded(values if self.spread == "uniform" else _stable(values))

    def longest(self, total: int) -> int:
        if self.decimals is None or self.spread not in ("uniform", "normal", "drawn"):
            return LONGEST_NUMBER
        if self.quantiles:
            ends = (self.quantiles[0], self.quantiles[-1])
        elif self.spread == "uniform":
            ends = (self._of("low"), self._of("high"))
        else:
            reach = _FURTHEST_NORMAL * self._of("sd")
            ends = (self._of("mean") - reach, self._of("mean") + reach)
        # One decimal is written even where none is kept.
        longest = max(len(f"{end:.{max(self.decimals, 1)}f}") for end in ends)
        return min(longest, LONGEST_NUMBER)

    def _at(self, shares: NDArray[np.float64]) -> NDArray[np.float64]:
        """Values below which these shares of the rows lie."""
        known = np.array(self.quantiles, dtype=np.float64)
        places = shares * (len(known) - 1)
        before = np.minimum(places.astype(np.int64), len(known) - 2)
        values: NDArray[np.float64] = known[before] + (places - before) * np.diff(known)[before]
        return values

    def _of(self, setting: str) -> float:
        return float(getattr(self, setting))

    def _rounded(self, values: NDArray[np.float64]) -> pa.Array:
        return pa.array(values if self.decimals is None else np.round(values, self.decimals))


def _stable(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """Values without the last digits, in which processors differ."""
    scale = np.abs(values).max(initial=0.0)
    digits = _STABLE_DIGITS - (int(np.ceil(np.log10(scale))) if scale > 0 else 0)
    return np.round(values, min(max(digits, 0), 15))
