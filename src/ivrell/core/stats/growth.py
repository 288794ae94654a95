"""How a measure grows with the size of the data: the usual laws, fitted and told apart.

``fixed + factor * f(n)`` with neither below nought, fitted in relative terms: what counts is by
what share a value lies off. Laws are told apart by the Bayesian information criterion (G. Schwarz,
Estimating the dimension of a model, Annals of Statistics 6, 1978), a power with an offset among
them; how sure exponent and fixed part are is read off the sum of squares as each is moved (Bates
and Watts, Nonlinear Regression Analysis and Its Applications, 1988, chapter 6). A prediction weighs
all laws by how well they fit, and resamples their residuals.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ivrell.core.records.sweep import Law, LawName, Prediction
from ivrell.core.stats.middle import Numbers

LEAST_SIZES = 3
DECADE = 10.0
"""What the sizes must span for a value beyond them to be predicted."""

_SPAN = 3.0
_RESAMPLES = 150
_BEND_GAIN = 10.0
_LEAST_A_SIDE = 3
_LEVEL = 0.95
_TAILS = (0.05, 0.5, 0.95)
_GRID = np.linspace(0.1, 3.0, 59)
_LEAST_SPREAD = 1e-4

_SHAPES: dict[LawName, Callable[[Numbers], Numbers]] = {
    "constant": np.zeros_like,
    "logarithmic": lambda n: np.log(n + 1),
    "linear": lambda n: n,
    "n log n": lambda n: n * np.log(n + 1),
    "quadratic": lambda n: n**2,
}
_PARAMETERS: dict[LawName, int] = {
    "constant": 1, "logarithmic": 2, "linear": 2, "n log n": 2, "quadratic": 2, "power": 3,
}  # fmt: skip


@dataclass(frozen=True)
class _Fit:
    """A law of some name: fixed part, factor, exponent, residuals of logarithms, criterion."""

    name: LawName
    fixed: float
    factor: float
    exponent: float
    residuals: Numbers
    criterion: float

    def at(self, sizes: Numbers) -> Numbers:
        """Values at sizes."""
        if self.name == "power":
            return self.fixed + self.factor * sizes**self.exponent
        return self.fixed + self.factor * _SHAPES[self.name](sizes)


def _linear(shape: Numbers, values: Numbers) -> tuple[float, float]:
    """Fixed part and factor of ``fixed + factor * shape``, neither below nought, weighed so that
    relative errors count alike."""
    scale = float(shape.max())
    if scale <= 0:
        return float(np.exp(np.mean(np.log(values)))), 0.0
    columns = np.stack([np.ones_like(shape), shape / scale], axis=1)
    weights = 1 / values
    found = (0.0, 0.0)
    for _ in range(4):
        found = _two_not_negative(columns * weights[:, None], values * weights)
        # By what is expected and not by what was seen, or slow values would count for less.
        expected = columns @ np.array(found)
        weights = 1 / np.maximum(expected, 1e-12 * values.max())
    return found[0], found[1] / scale


def _two_not_negative(columns: Numbers, wanted: Numbers) -> tuple[float, float]:
    """Least squares of two factors, neither below nought."""
    a, b = columns.T
    aa, bb, ab = float(a @ a), float(b @ b), float(a @ b)
    ay, by = float(a @ wanted), float(b @ wanted)
    determinant = aa * bb - ab * ab
    if determinant > 1e-12 * aa * bb:
        first, second = (ay * bb - by * ab) / determinant, (by * aa - ay * ab) / determinant
        if first >= 0 and second >= 0:
            return first, second
    alone = (max(ay / aa, 0.0), 0.0), (0.0, max(by / bb, 0.0))
    return min(alone, key=lambda f: float(np.sum((wanted - a * f[0] - b * f[1]) ** 2)))


def _fit(name: LawName, sizes: Numbers, values: Numbers, exponent: float = 0.0) -> _Fit:
    shape = sizes**exponent if name == "power" else _SHAPES[name](sizes)
    fixed, factor = _linear(shape, values)
    expected = np.maximum(fixed + factor * shape, 1e-300)
    residuals = np.log(values / expected)
    spread = max(float(np.mean(residuals**2)), _LEAST_SPREAD**2)
    count = len(values)
    criterion = count * float(np.log(spread)) + _PARAMETERS[name] * float(np.log(count))
    return _Fit(name, fixed, factor, exponent, residuals, criterion)


def _power(sizes: Numbers, values: Numbers) -> _Fit:
    """The power with an offset that fits best."""
    fits = [_fit("power", sizes, values, float(exponent)) for exponent in _GRID]
    best = min(range(len(fits)), key=lambda i: fits[i].criterion)
    low = float(_GRID[max(best - 1, 0)])
    high = float(_GRID[min(best + 1, len(_GRID) - 1)])
    # A smooth valley between two neighbours: narrowed by the golden section.
    ratio = (5**0.5 - 1) / 2
    for _ in range(12):
        left, right = high - ratio * (high - low), low + ratio * (high - low)
        if _fit("power", sizes, values, left).criterion < _fit(
            "power", sizes, values, right
        ).criterion:  # fmt: skip
            high = right
        else:
            low = left
    return min([fits[best], _fit("power", sizes, values, (low + high) / 2)], key=_criterion)


def _criterion(fit: _Fit) -> float:
    return fit.criterion


def _candidates(sizes: Numbers, values: Numbers) -> list[_Fit]:
    """Every law that the sizes can tell; the best fit first."""
    fits = [_fit(name, sizes, values) for name in _SHAPES]
    if len(np.unique(sizes)) > LEAST_SIZES:
        fits.append(_power(sizes, values))
    return sorted(fits, key=_criterion)


def enough(sizes: Sequence[float]) -> bool:
    """Whether sizes can tell a law: three of them at least, over a factor of three."""
    different = set(sizes)
    return len(different) >= LEAST_SIZES and max(different) / min(different) >= _SPAN


def law(sizes: Sequence[float], values: Sequence[float]) -> Law:
    """The law that fits best.

    Args:
        sizes: above 0, one for each value; rounds of one size repeat it.
        values: above 0, of single runs, in the measure's unit.

    Raises ValueError where the sizes cannot tell (see enough) or a value is not above 0.
    """
    n, y = _checked(sizes, values)
    best = _candidates(n, y)[0]
    return _as_law(best, n, y)


def _checked(sizes: Sequence[float], values: Sequence[float]) -> tuple[Numbers, Numbers]:
    n, y = np.asarray(sizes, dtype=float), np.asarray(values, dtype=float)
    if n.shape != y.shape or not enough(list(sizes)) or (n <= 0).any() or (y <= 0).any():
        raise ValueError("a law needs three sizes over a factor of three, and values above 0")
    return n, y


def _as_law(best: _Fit, n: Numbers, y: Numbers) -> Law:
    exponent, fixed = _bounds(best, n, y)
    largest = float(n.max())
    ends = best.at(np.array([largest, 2 * largest]))
    return Law(
        name=best.name,
        fixed=best.fixed if best.factor else float(ends[0]),
        fixed_low=fixed[0],
        fixed_high=fixed[2],
        factor=best.factor,
        exponent=exponent[1],
        exponent_low=exponent[0],
        exponent_high=exponent[2],
        doubling=float(ends[1] / ends[0]),
        residual=float(np.sqrt(np.mean(best.residuals**2))),
        from_size=float(n.min()),
        until_size=largest,
    )


Bounds = tuple[float, float, float]
"""Low, most likely, high."""


def _bounds(best: _Fit, n: Numbers, y: Numbers) -> tuple[Bounds, Bounds]:
    """Exponent of the growing part, and fixed part, each as far as the values let it be moved."""
    if not best.factor:
        level = float(best.at(n[:1])[0])
        return (0.0, 0.0, 0.0), (level, level, level)
    return _exponent_bounds(best, n, y), _fixed_bounds(best, n, y)


def _allowed(squares: float, free: int) -> float:
    """The sum of squares up to which a parameter may be moved from the best, at 95 %."""
    # Loaded where it is used: a web server should start small.
    from scipy.special import fdtri

    return squares * (1 + float(fdtri(1, free, _LEVEL)) / free)


def _squares(fit: _Fit) -> float:
    return max(float(np.sum(fit.residuals**2)), len(fit.residuals) * _LEAST_SPREAD**2)


def _exponent_bounds(best: _Fit, n: Numbers, y: Numbers) -> Bounds:
    if len(np.unique(n)) <= LEAST_SIZES:
        exponent = _local_exponent(best, n)
        return exponent, exponent, exponent
    found = _power(n, y)
    most = _allowed(_squares(found), max(len(y) - 3, 1))

    def allows(exponent: float) -> bool:
        return _squares(_fit("power", n, y, exponent)) <= most

    low = _edge(allows, found.exponent, 0.05)
    high = _edge(allows, found.exponent, 3.5)
    return low, found.exponent, high


def _fixed_bounds(best: _Fit, n: Numbers, y: Numbers) -> Bounds:
    shape = best.at(n) - best.fixed
    most = _allowed(_squares(best), max(len(y) - 2, 1))

    def allows(fixed: float) -> bool:
        # The factor that fits best in logarithms beside this fixed part, by Newton's steps.
        factor = 1.0
        for _ in range(12):
            expected = fixed + factor * shape
            slope = shape / expected
            off = np.log(y / expected)
            factor = max(factor + float(slope @ off) / float(slope @ slope), 1e-6)
        squares = float(np.sum(np.log(y / (fixed + factor * shape)) ** 2))
        return squares <= most

    if not (shape > 0).all():
        return best.fixed, best.fixed, best.fixed
    low = _edge(allows, best.fixed, 0.0)
    return low, best.fixed, _edge(allows, best.fixed, float(y.max()))


def _edge(allows: Callable[[float], bool], inside: float, outside: float) -> float:
    """How far towards ``outside`` what is allowed goes, by halving."""
    if allows(outside):
        return outside
    for _ in range(24):
        middle = (inside + outside) / 2
        inside, outside = (middle, outside) if allows(middle) else (inside, middle)
    return inside


def _local_exponent(best: _Fit, n: Numbers) -> float:
    """By which power the growing part rises at the largest size."""
    largest = float(n.max())
    one, two = best.at(np.array([largest, 1.01 * largest])) - best.fixed
    return float(np.log(two / one) / np.log(1.01)) if one > 0 else 0.0


def laws(sizes: Sequence[float], values: Sequence[float]) -> tuple[list[Law], float | None]:
    """One law, or two and the size between them where that fits far better (a cache left, a spill
    to disk). Raises ValueError as law does."""
    n, y = _checked(sizes, values)
    whole = _candidates(n, y)[0]
    different = np.unique(n)
    best: tuple[float, _Fit, _Fit, float] | None = None
    for place in range(_LEAST_A_SIDE - 1, len(different) - _LEAST_A_SIDE):
        bend = float(np.sqrt(different[place] * different[place + 1]))
        below, above = n < bend, n > bend
        if min(np.ptp(n[below]) / n[below].min(), np.ptp(n[above]) / n[above].min()) < _SPAN - 1:
            continue
        first = _candidates(n[below], y[below])[0]
        second = _candidates(n[above], y[above])[0]
        residuals = np.concatenate([first.residuals, second.residuals])
        spread = max(float(np.mean(residuals**2)), _LEAST_SPREAD**2)
        parameters = _PARAMETERS[first.name] + _PARAMETERS[second.name] + 1
        criterion = len(y) * float(np.log(spread)) + parameters * float(np.log(len(y)))
        if best is None or criterion < best[0]:
            best = criterion, first, second, bend
    if best is None or whole.criterion - best[0] < _BEND_GAIN:
        return [_as_law(whole, n, y)], None
    _, first, second, bend = best
    below, above = n < bend, n > bend
    return [_as_law(first, n[below], y[below]), _as_law(second, n[above], y[above])], bend


@dataclass(frozen=True)
class Predictor:
    """Values beyond what was run: laws drawn by how well they fit, each from resampled residuals,
    with one residual of a single run for each."""

    fits: list[_Fit]
    noise: list[float]
    largest: float

    def at(self, size: float) -> Prediction:
        """The value at a size, with its bounds at 90 %."""
        at = np.array([size])
        drawn = [
            float(fit.at(at)[0]) * float(np.exp(noise))
            for fit, noise in zip(self.fits, self.noise, strict=True)
        ]
        low, middle, high = np.quantile(drawn, _TAILS)
        return Prediction(size=size, value=float(middle), low=float(low), high=float(high))

    def reaches(self, value: float) -> Prediction | None:
        """The size at which a value is reached, with its bounds at 90 %; None where the half of
        the laws would not reach it at ten thousand times what was run."""
        sizes = self.largest * np.logspace(0, 4, 401)
        found = []
        for fit, noise in zip(self.fits, self.noise, strict=True):
            over = np.flatnonzero(fit.at(sizes) * np.exp(noise) >= value)
            found.append(float(sizes[over[0]]) if len(over) else np.inf)
        low, middle, high = np.quantile(found, _TAILS, method="nearest")
        if not np.isfinite(middle):
            return None
        bounds = float(low), float(high if np.isfinite(high) else sizes[-1])
        return Prediction(size=float(middle), value=value, low=bounds[0], high=bounds[1])


def predictor(sizes: Sequence[float], values: Sequence[float]) -> Predictor | None:
    """What tells values at sizes that were not run.

    All laws count by how well they fit, so that what the sizes cannot tell apart makes the
    bounds wide; single runs spread about their law as they did. None where the sizes span less
    than a decade. Raises ValueError as law does.
    """
    n, y = _checked(sizes, values)
    if n.max() / n.min() < DECADE:
        return None
    fits = _candidates(n, y)
    weights = np.exp(-0.5 * np.array([fit.criterion - fits[0].criterion for fit in fits]))
    weights /= weights.sum()
    rng = np.random.default_rng(len(y))
    drawn: list[_Fit] = []
    noise: list[float] = []
    for which in rng.choice(len(fits), _RESAMPLES, p=weights):
        fit = fits[which]
        again = fit.at(n) * np.exp(rng.choice(fit.residuals, len(y)))
        if fit.name == "power":
            near = [fit.exponent + step for step in (-0.15, -0.05, 0.0, 0.05, 0.15)]
            drawn.append(
                min((_fit("power", n, again, p) for p in near if p > 0.05), key=_criterion)
            )
        else:
            drawn.append(_fit(fit.name, n, again))
        noise.append(float(rng.choice(fit.residuals)))
    return Predictor(drawn, noise, float(n.max()))


def next_value(sizes: Sequence[float], values: Sequence[float], size: float) -> float:
    """What a value is likely to be at the next size, from what it was at smaller ones: as it grew
    from the one before to the last, and at least so much as if it grew linearly where there is
    but one. Sizes rising, one value each, all above 0.

    Cautious and cheap, to be asked between runs: growth does not slacken with size.
    """
    exponent = 1.0
    if len(sizes) > 1:
        exponent = float(np.log(values[-1] / values[-2]) / np.log(sizes[-1] / sizes[-2]))
    return float(values[-1] * (size / sizes[-1]) ** min(max(exponent, 0.0), 3.0))
