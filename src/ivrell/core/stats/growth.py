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
from math import ceil

import numpy as np

from ivrell.core.records.sweep import Law, LawName, Prediction
from ivrell.core.stats.middle import Numbers

LEAST_SIZES = 3
DECADE = 10.0
"""What the sizes must span for a value beyond them to be predicted."""

_SPAN = 3.0
_RESAMPLES, _FEW_RESAMPLES = 400, 80
_USUAL_OFF = 0.06
_USUAL_WORTH = 3.0
_NEAR = (-0.15, -0.05, 0.0, 0.05, 0.15)
_BEND_GAIN = 10.0
_LEAST_A_SIDE = 3
_MOST_BENDS = 10
_LEVEL = 0.95
_OFF = 1.05
"""What a size may lie beyond the bounds that smaller ones predict, as a factor."""

_TAILS = (0.05, 0.5, 0.95)
_GRID = np.linspace(0.1, 3.0, 59)
_FINER = 21
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


def _linear(shapes: Numbers, values: Numbers) -> tuple[Numbers, Numbers]:
    """Fixed parts and factors of ``fixed + factor * shape``, neither below nought, weighed so that
    relative errors count alike: of many fits at once, a row each, shape (fits, values)."""
    level = np.exp(np.mean(np.log(values), axis=1))
    scale = shapes.max(axis=1)
    flat = scale <= 0
    scale = np.where(flat, 1.0, scale)
    grown = shapes / scale[:, None]
    weights = 1 / values
    fixed, factor = np.zeros(len(values)), np.zeros(len(values))
    for _ in range(4):
        fixed, factor = _two_not_negative(weights, grown * weights, values * weights)
        # By what is expected and not by what was seen, or slow values would count for less.
        expected = fixed[:, None] + factor[:, None] * grown
        weights = 1 / np.maximum(expected, 1e-12 * values.max(axis=1)[:, None])
    return np.where(flat, level, fixed), np.where(flat, 0.0, factor / scale)


def _two_not_negative(a: Numbers, b: Numbers, wanted: Numbers) -> tuple[Numbers, Numbers]:
    """Least squares of two factors, neither below nought; a fit a row."""

    def dot(one: Numbers, two: Numbers) -> Numbers:
        product: Numbers = np.einsum("ij,ij->i", one, two)
        return product

    aa, bb, ab, ay, by = dot(a, a), dot(b, b), dot(a, b), dot(a, wanted), dot(b, wanted)
    bb = np.maximum(bb, 1e-300)
    determinant = aa * bb - ab * ab
    able = determinant > 1e-12 * aa * bb
    safe = np.where(able, determinant, 1.0)
    first, second = (ay * bb - by * ab) / safe, (by * aa - ay * ab) / safe
    both = able & (first >= 0) & (second >= 0)
    # Alone, either takes its own share off the sum of squares.
    only_first, only_second = np.maximum(ay / aa, 0.0), np.maximum(by / bb, 0.0)
    better = only_first * ay >= only_second * by
    return (
        np.where(both, first, np.where(better, only_first, 0.0)),
        np.where(both, second, np.where(better, 0.0, only_second)),
    )


def _shape(name: LawName, sizes: Numbers, exponent: float = 0.0) -> Numbers:
    shape: Numbers = sizes**exponent if name == "power" else _SHAPES[name](sizes)
    return shape


def _fits(
    name: LawName, sizes: Numbers, values: Numbers, exponents: Sequence[float] = (0.0,)
) -> list[_Fit]:
    """Fits of a law: with each exponent, to ``values`` of shape (sizes,); or one to each row of
    ``values`` of shape (exponents, sizes)."""
    shapes = np.stack([_shape(name, sizes, exponent) for exponent in exponents])
    values = np.broadcast_to(values, shapes.shape)
    fixed, factor = _linear(shapes, values)
    expected = np.maximum(fixed[:, None] + factor[:, None] * shapes, 1e-300)
    residuals = np.log(values / expected)
    spread = np.maximum(np.mean(residuals**2, axis=1), _LEAST_SPREAD**2)
    count = values.shape[1]
    criteria = count * np.log(spread) + _PARAMETERS[name] * float(np.log(count))
    return [
        _Fit(name, float(fixed[i]), float(factor[i]), exponent, residuals[i], float(criteria[i]))
        for i, exponent in enumerate(exponents)
    ]


def _fit(name: LawName, sizes: Numbers, values: Numbers, exponent: float = 0.0) -> _Fit:
    return _fits(name, sizes, values, [exponent])[0]


def _power(sizes: Numbers, values: Numbers) -> _Fit:
    """The power with an offset that fits best."""
    exponents = _GRID
    for _ in range(3):
        # A smooth valley between two neighbours of the best, looked at ever more finely.
        fits = _fits("power", sizes, values, exponents.tolist())
        best = min(range(len(fits)), key=lambda i: fits[i].criterion)
        low, high = exponents[max(best - 1, 0)], exponents[min(best + 1, len(fits) - 1)]
        exponents = np.linspace(low, high, _FINER)
    return min(fits, key=_criterion)


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
    return _as_law(_likeliest(n, y), n, y)


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

    def allows(exponents: Numbers) -> list[bool]:
        return [_squares(one) <= most for one in _fits("power", n, y, exponents.tolist())]

    low = _edge(allows, found.exponent, 0.05)
    high = _edge(allows, found.exponent, 3.5)
    return low, found.exponent, high


def _fixed_bounds(best: _Fit, n: Numbers, y: Numbers) -> Bounds:
    shape = best.at(n) - best.fixed
    most = _allowed(_squares(best), max(len(y) - 2, 1))

    def allows(fixed: Numbers) -> list[bool]:
        # The factor that fits best in logarithms beside this fixed part, by Newton's steps.
        factor = np.ones(len(fixed))
        for _ in range(12):
            expected = fixed[:, None] + factor[:, None] * shape
            slope, off = shape / expected, np.log(y / expected)
            factor = np.maximum(factor + np.sum(slope * off, 1) / np.sum(slope**2, 1), 1e-6)
        off = np.log(y / (fixed[:, None] + factor[:, None] * shape))
        allowed: list[bool] = (np.sum(off**2, axis=1) <= most).tolist()
        return allowed

    if not (shape > 0).all():
        return best.fixed, best.fixed, best.fixed
    low = _edge(allows, best.fixed, 0.0)
    return low, best.fixed, _edge(allows, best.fixed, float(y.max()))


def _edge(allows: Callable[[Numbers], list[bool]], inside: float, outside: float) -> float:
    """How far towards ``outside`` what is allowed goes, looked at ever more finely."""
    for _ in range(4):
        tried = np.linspace(inside, outside, _FINER)
        allowed = allows(tried)[1:]
        if all(allowed):
            return outside
        place = allowed.index(False)
        inside, outside = float(tried[place]), float(tried[place + 1])
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
    return _laws(n, y, _bend(n, y))


def _laws(n: Numbers, y: Numbers, bend: float | None) -> tuple[list[Law], float | None]:
    parts = [slice(None)] if bend is None else [n < bend, n > bend]
    return [_as_law(_likeliest(n[part], y[part]), n[part], y[part]) for part in parts], bend


def _bend(n: Numbers, y: Numbers) -> float | None:
    """The size at which one law gives way to another; None where one fits nearly as well."""
    whole = _candidates(n, y)[0]
    different = np.unique(n)
    best: tuple[float, float] | None = None
    places = range(_LEAST_A_SIDE - 1, len(different) - _LEAST_A_SIDE)
    for place in places[:: max(1, ceil(len(places) / _MOST_BENDS))]:
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
            best = criterion, bend
    if best is None or whole.criterion - best[0] < _BEND_GAIN:
        return None
    return best[1]


@dataclass(frozen=True)
class _Draw:
    """One law that may hold: fitted to sizes drawn about the best fit; how far the next size lies
    off it (in spreads), that spread, and how far a single run lies off its size."""

    fit: _Fit
    aside: float
    spread: float
    noise: float


@dataclass(frozen=True)
class Predictor:
    """Values beyond what was run, by laws drawn by how well they fit. ``step`` is the usual
    distance between sizes, as a logarithm: so far beyond the last a value is off its law by as much
    again."""

    draws: list[_Draw]
    largest: float
    step: float

    def _logs(self, draw: _Draw, sizes: Numbers) -> Numbers:
        beyond = np.maximum(np.log(sizes / self.largest), 0) / self.step
        logs: Numbers = np.log(draw.fit.at(sizes))
        return logs + draw.aside * draw.spread * np.sqrt(1 + beyond) + draw.noise

    def at(self, size: float) -> Prediction:
        """The value at a size, with its bounds at 90 %."""
        at = np.array([size])
        drawn = [float(np.exp(self._logs(draw, at)[0])) for draw in self.draws]
        low, middle, high = np.quantile(drawn, _TAILS)
        return Prediction(size=size, value=float(middle), low=float(low), high=float(high))

    def reaches(self, value: float) -> Prediction | None:
        """The size at which a value is reached, with its bounds at 90 %; None where the half of
        the laws would not reach it at ten thousand times what was run."""
        sizes = self.largest * np.logspace(0, 4, 401)
        found = []
        for draw in self.draws:
            logs = np.maximum.accumulate(self._logs(draw, sizes))
            reached = draw.fit.factor > 0 and logs[-1] >= np.log(value)
            at = float(np.exp(np.interp(np.log(value), logs, np.log(sizes))))
            found.append(at if reached else np.inf)
        low, middle, high = np.quantile(found, _TAILS, method="nearest")
        if not np.isfinite(middle):
            return None
        bounds = float(low), float(high if np.isfinite(high) else sizes[-1])
        return Prediction(size=float(middle), value=value, low=bounds[0], high=bounds[1])


def _middles(n: Numbers, y: Numbers) -> tuple[Numbers, Numbers]:
    """Sizes that differ, and the median at each."""
    different = np.unique(n)
    return different, np.array([float(np.median(y[n == size])) for size in different])


def _weighed(fits: Sequence[_Fit], count: int) -> tuple[Numbers, Numbers, Numbers]:
    """How likely each law is, by the medians at ``count`` sizes, the largest 1; by how much sizes
    lie off it, and the degrees of freedom of that."""
    squares = np.array([float(np.sum(fit.residuals**2)) for fit in fits])
    parameters = np.array([_PARAMETERS[fit.name] for fit in fits])
    prior = _USUAL_WORTH * _USUAL_OFF**2
    logs = -(_USUAL_WORTH + count) / 2 * np.log(prior + squares) - parameters / 2 * np.log(count)
    free = _USUAL_WORTH + np.maximum(count - parameters, 0)
    return np.exp(logs - logs.max()), np.sqrt((prior + squares) / free), free


def _likeliest(n: Numbers, y: Numbers) -> _Fit:
    """The law that predictions weigh most, fitted to all values: words and figures ahead are of
    one law."""
    different, middles = _middles(n, y)
    fits = _candidates(different, middles)
    weights, _, _ = _weighed(fits, len(different))
    name = fits[int(np.argmax(weights))].name
    return _power(n, y) if name == "power" else _fit(name, n, y)


def predictor(
    sizes: Sequence[float], values: Sequence[float], resamples: int = _RESAMPLES
) -> Predictor | None:
    """What tells values at sizes that were not run. None where the sizes span less than a decade.

    Sizes lie off any law by more than their runs scatter, and few sizes cannot say by how much:
    that spread is drawn towards what lanes show (a scaled inverse chi-square prior, as variances of
    lanes are in variances.py), and each law counts by its likelihood with the spread integrated
    out. What the sizes cannot tell apart makes the bounds wide. Raises ValueError as law does.
    """
    n, y = _checked(sizes, values)
    if n.max() / n.min() < DECADE:
        return None
    different, middles = _middles(n, y)
    noise = np.concatenate(
        [np.log(y[n == size] / m) for size, m in zip(different, middles, strict=True)]
    )
    fits = _candidates(different, middles)
    weights, spreads, free = _weighed(fits, len(different))
    count = len(different)
    rng = np.random.default_rng(len(y))
    chosen = rng.choice(len(fits), resamples, p=weights / weights.sum())
    draws: list[_Draw] = []
    for place, fit in enumerate(fits):
        times = int(np.sum(chosen == place))
        if times:
            off = spreads[place] * rng.standard_normal((times, count))
            again = _fitted_again(fit, different, fit.at(different) * np.exp(off))
            aside = rng.standard_t(free[place], times)
            draws += [
                _Draw(drawn, float(one), float(spreads[place]), float(run))
                for drawn, one, run in zip(again, aside, rng.choice(noise, times), strict=True)
            ]
    step = float(np.log(different[-1] / different[0])) / (count - 1)
    return Predictor(draws, float(different[-1]), step)


def _fitted_again(fit: _Fit, sizes: Numbers, values: Numbers) -> list[_Fit]:
    """The same law fitted to other values, shape (fits, sizes); a power with an exponent near."""
    times = len(values)
    if fit.name != "power":
        return _fits(fit.name, sizes, values, [fit.exponent] * times)
    steps = [step for step in _NEAR if fit.exponent + step > 0.05]
    tried = [_fits("power", sizes, values, [fit.exponent + step] * times) for step in steps]
    return [min(ones, key=_criterion) for ones in zip(*tried, strict=True)]


@dataclass(frozen=True)
class Outlook:
    """How values grow: one law, or two with a bend; what tells values beyond the largest size, or
    why nothing does, in words."""

    laws: list[Law]
    bend: float | None
    ahead: Predictor | None
    why_not: str


def outlook(sizes: Sequence[float], values: Sequence[float]) -> Outlook:
    """How values grow and what comes beyond, of which only the sizes past a bend tell. Raises
    ValueError as law does."""
    n, y = _checked(sizes, values)
    bend = _bend(n, y)
    found, _ = _laws(n, y, bend)
    ahead, why_not = _ahead(n, y, bend)
    return Outlook(found, bend, ahead, why_not)


def predictor_ahead(sizes: Sequence[float], values: Sequence[float]) -> Predictor | None:
    """What tells values beyond the largest size: as ``predictor``, but from the sizes past a bend
    alone, and None where nothing tells what comes next. Raises ValueError as law does."""
    n, y = _checked(sizes, values)
    return _ahead(n, y, _bend(n, y))[0]


def _ahead(n: Numbers, y: Numbers, bend: float | None) -> tuple[Predictor | None, str]:
    if bend is not None:
        n, y = n[n > bend], y[n > bend]
    why_not = _why_not(n, y)
    return (None if why_not else predictor(n.tolist(), y.tolist())), why_not


def _why_not(n: Numbers, y: Numbers) -> str:
    different = np.unique(n)
    if not enough(n.tolist()) or different[-1] / different[0] < DECADE:
        return "the sizes that tell span less than a decade"
    if not _tell_a_law(n, y):
        return "three sizes fit a law and a power alike"
    for left_out in (1, 2):
        last = different[-left_out:]
        known = n < last[0]
        if len(different) - left_out < LEAST_SIZES or different[-left_out - 1] < DECADE * n.min():
            break
        before = predictor(n[known].tolist(), y[known].tolist(), _FEW_RESAMPLES)
        if before is None or not _tell_a_law(n[known], y[known]):
            break
        for size in last:
            told, seen = before.at(float(size)), float(np.median(y[n == size]))
            if not told.low / _OFF <= seen <= told.high * _OFF:
                return "the largest sizes lie off what the smaller ones follow"
    return ""


def _tell_a_law(n: Numbers, y: Numbers) -> bool:
    """Whether the law that fits best stays the same when a power may be it, which three sizes fit
    in any case."""
    if len(np.unique(n)) > LEAST_SIZES:
        return True
    usual = _candidates(n, y)[0]
    return usual.criterion <= _power(n, y).criterion


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
