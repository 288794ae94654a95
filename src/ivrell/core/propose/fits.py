"""Fitting spreads and skews to what a sample shows."""

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from scipy import optimize, stats

_QUANTILES = 51


@dataclass(frozen=True)
class Fit:
    """Settings of a column and how far they are from the sample.

    ``distance`` is the largest gap between the two cumulative shares (Kolmogorov and
    Smirnov), 0 for a perfect fit and 1 for none.
    """

    settings: dict[str, Any]
    distance: float


def fit_number(values: NDArray[np.float64]) -> Fit:
    """The spread among uniform, normal, lognormal and exponential that is nearest.

    Bounds and centres are rounded to three figures (bounds outward), so that no value of
    the sample stands in the recipe.
    """
    low, high = outward(float(values.min()), float(values.max()))
    mean, sd = float(values.mean()), float(values.std())
    candidates = [
        ({"spread": "uniform", "low": low, "high": high}, stats.uniform(low, high - low or 1)),
        (
            {"spread": "normal", "mean": figures(mean), "sd": figures(sd)},
            stats.norm(mean, sd or 1e-9),
        ),
    ]
    if values.min() > 0:
        logs = np.log(values)
        median, sigma = float(np.exp(np.median(logs))), float(logs.std())
        settings = {"spread": "lognormal", "median": figures(median), "sigma": figures(sigma)}
        candidates.append((settings, stats.lognorm(sigma or 1e-9, scale=median)))
    if values.min() >= 0 and mean > 0:
        settings = {"spread": "exponential", "mean": figures(mean)}
        candidates.append((settings, stats.expon(scale=mean)))
    fits = [Fit(s, float(stats.kstest(values, spread.cdf).statistic)) for s, spread in candidates]
    return min(fits, key=lambda fit: fit.distance)


def drawn(values: NDArray[np.float64]) -> Fit:
    """The sample's own distribution by its quantiles.

    They are rounded to a thousandth of the span, the ends outward, so that a value of the sample
    stands in the recipe by chance alone.
    """
    low, high = outward(float(values.min()), float(values.max()))
    unit = 10.0 ** (np.floor(np.log10(high - low or abs(high) or 1.0)) - 3)
    inner = np.quantile(values, np.linspace(0, 1, _QUANTILES))
    found = [float(figures(round(one / unit) * unit, 12)) for one in inner]
    found = sorted([low, *found[1:-1], high])
    shares = np.linspace(0, 1, len(found))
    made = np.interp((np.arange(5000) + 0.5) / 5000, shares, found)
    distance = float(stats.ks_2samp(values, made).statistic)
    return Fit({"spread": "drawn", "quantiles": found}, distance)


def figures(value: float, digits: int = 3) -> float:
    """A number rounded to so many significant figures."""
    return float(f"{value:.{digits}g}")


def outward(low: float, high: float) -> tuple[float, float]:
    """Bounds round the two, at three figures of their distance."""
    span = high - low or abs(high) or 1.0
    unit = 10.0 ** (np.floor(np.log10(span)) - 2)
    return float(figures(np.floor(low / unit) * unit, 12)), float(
        figures(np.ceil(high / unit) * unit, 12)
    )


def fit_skew(counts: NDArray[np.int64]) -> float:
    """The exponent of a power law over ranks that makes these counts most likely.

    Rounded to a tenth; 0 where the counts are as even as chance would leave them.
    """
    ordered = np.sort(counts)[::-1].astype(float)
    n = len(ordered)
    if n < 2 or stats.chisquare(ordered).pvalue > 0.01:
        return 0.0
    logs = np.log(np.arange(1, n + 1))

    def unlikely(skew: float) -> float:
        weights = -skew * logs
        return float(-(ordered * (weights - np.logaddexp.reduce(weights))).sum())

    return round(float(optimize.minimize_scalar(unlikely, bounds=(0, 4), method="bounded").x), 1)


def decimals_of(values: NDArray[np.float64], most: int = 9) -> int | None:
    """Fewest places at which rounding changes no value, or None beyond ``most``."""
    for places in range(most + 1):
        if np.allclose(values, np.round(values, places), rtol=0, atol=10.0 ** -(places + 4)):
            return places
    return None


def counts_of(values: pa.Array) -> NDArray[np.int64]:
    """How often each different value stands there."""
    counted = values.value_counts()
    return np.asarray(counted.field("counts").to_numpy())
