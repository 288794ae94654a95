"""What spread the lanes of earlier trials on this machine showed, kept for those to come.

With few rounds a trial cannot tell its own noise; the machine's history can (see
ivrell.core.stats.variances). A line a lane in spreads.jsonl of the data folder, by measure,
engine and magnitude of the value; a trial keeps the summary as it was when it began, so that its
findings stay as they are.
"""

import math
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from statistics import fmean, variance

import numpy as np
from pydantic import BaseModel, ValidationError

from ivrell.core.records.machine import UsualSpread
from ivrell.core.stats.contrasts import Pair
from ivrell.core.stats.middle import Numbers, middle_and_variance, worth
from ivrell.core.stats.variances import Usual, log_variance

REMEMBERED = ("elapsed", "cpu_total")
"""Measures whose spread is remembered, by key."""

_FILE = "spreads.jsonl"
_MOST_BYTES = 1_000_000
_OF_A_KIND = 100
_ENOUGH = 8
_LEAST_VARIANCE = 0.05
_LEAST_ROUNDS = 3
_NOUGHT = 1e-10


class LaneSpread(BaseModel, frozen=True):
    """One lane of a trial: ``log_variance`` is the logarithm of the variance of the logarithm of
    its measure, worth so many degrees of ``freedom``; ``magnitude`` the power of ten of its
    middle, in seconds or bytes."""

    measure: str
    engine: str
    magnitude: int
    log_variance: float
    freedom: float


def magnitude(value: float) -> int:
    """The power of ten that a value above 0 has."""
    return math.floor(math.log10(value))


def lane_spreads(
    measure: str, values: Mapping[str, Mapping[int, float]], engines: Mapping[str, str]
) -> list[LaneSpread]:
    """The spread of each lane of a trial at a point.

    Args:
        measure: its key.
        values: above 0, of each lane by round.
        engines: each lane's, by lane.

    Lanes are told apart by the variances of their differences (F. E. Grubbs, On estimating
    precision of measuring instruments and product variability, Journal of the American
    Statistical Association 43, 1948), kept within what is possible; two lanes share theirs. Only
    rounds that all have count, at least three of them; else nothing is told.
    """
    lanes = [
        lane for lane, own in values.items() if len(own) >= _LEAST_ROUNDS and min(own.values()) > 0
    ]
    rounds = sorted(set.intersection(*(set(values[lane]) for lane in lanes))) if lanes else []
    if len(lanes) < 2 or len(rounds) < _LEAST_ROUNDS:
        return []
    logs = np.log([[values[lane][r] for r in rounds] for lane in lanes])
    first, second = np.triu_indices(len(lanes), 1)
    _, apart = middle_and_variance(logs[first] - logs[second])
    of_lane = np.zeros(len(lanes))
    np.add.at(of_lane, first, apart)
    np.add.at(of_lane, second, apart)
    mean = of_lane / (len(lanes) - 1)
    own = mean / 2
    if len(lanes) > 2:
        rest = apart.sum() / (len(lanes) - 1)
        own = (of_lane - rest) / (len(lanes) - 2)
    own = np.clip(own, 0.25 * mean / 2, mean)
    freedom = worth(len(rounds))[1] * (1 if len(lanes) > 2 else 0.5)
    told = log_variance(np.maximum(own, _NOUGHT), np.full(len(lanes), freedom))
    return [
        LaneSpread(
            measure=measure,
            engine=engines[lane],
            magnitude=magnitude(float(np.median(list(values[lane].values())))),
            log_variance=float(log),
            freedom=freedom,
        )
        for lane, log in zip(lanes, told, strict=True)
    ]


def keep(folder: Path, spreads: Iterable[LaneSpread]) -> None:
    """Add lanes of a trial to what the machine showed; the folder is made where it is not."""
    lines = "".join(spread.model_dump_json() + "\n" for spread in spreads)
    if not lines:
        return
    folder.mkdir(parents=True, exist_ok=True)
    file = folder / _FILE
    with file.open("a", encoding="utf-8") as out:
        out.write(lines)
    if file.stat().st_size > _MOST_BYTES:
        last = [one for kind in _by_kind(_read(folder)).values() for one in kind[-_OF_A_KIND:]]
        shorter = folder / f"{_FILE}.part"
        shorter.write_text("".join(one.model_dump_json() + "\n" for one in last))
        shorter.replace(file)


def usual_spreads(folder: Path) -> list[UsualSpread]:
    """What is usual here, by measure, engine and magnitude; kinds of a single lane are left out."""
    return [
        UsualSpread(
            measure=measure,
            engine=engine,
            magnitude=power,
            lanes=len(last),
            level=fmean(one.log_variance for one in last),
            variance=_between(last),
        )
        for (measure, engine, power), every in sorted(_by_kind(_read(folder)).items())
        if len(last := every[-_OF_A_KIND:]) > 1
    ]


def _between(lanes: Sequence[LaneSpread]) -> float:
    """How lanes differ, without what their own few rounds add."""
    # Loaded where it is used: a web server should start small.
    from scipy.special import polygamma

    seen = variance(one.log_variance for one in lanes)
    error = fmean(float(polygamma(1, one.freedom / 2)) for one in lanes)
    return max(seen - error, _LEAST_VARIANCE)


def _by_kind(lanes: Iterable[LaneSpread]) -> dict[tuple[str, str, int], list[LaneSpread]]:
    kinds: dict[tuple[str, str, int], list[LaneSpread]] = {}
    for one in lanes:
        kinds.setdefault((one.measure, one.engine, one.magnitude), []).append(one)
    return kinds


def _read(folder: Path) -> list[LaneSpread]:
    try:
        lines = (folder / _FILE).read_text(encoding="utf-8").splitlines()
    except OSError:
        return []
    found = []
    for line in lines:
        try:
            found.append(LaneSpread.model_validate_json(line))
        except ValidationError:
            # A line cut short by a machine that went down: the others are good.
            continue
    return found


def expected(
    known: Sequence[UsualSpread], measure: str, engine: str, value: float
) -> UsualSpread | None:
    """What is usual for a lane of an engine and a value above 0: its own kind where the machine
    has shown enough of it, else that of any engine of its magnitude, else nothing."""
    alike = [one for one in known if (one.measure, one.magnitude) == (measure, magnitude(value))]
    own = [one for one in alike if one.engine == engine and one.lanes >= _ENOUGH]
    if own:
        return own[0]
    lanes = sum(one.lanes for one in alike)
    if lanes < _ENOUGH:
        return None
    level = sum(one.lanes * one.level for one in alike) / lanes
    spread = sum(one.lanes * (one.variance + (one.level - level) ** 2) for one in alike) / lanes
    return alike[0].model_copy(update={"lanes": lanes, "level": level, "variance": spread})


def usual_of_pairs(pairs: Sequence[Pair], lanes: Mapping[str, UsualSpread | None]) -> Usual | None:
    """What is usual for differences between lanes, from what is for each of the two."""
    levels: Numbers = np.full(len(pairs), np.nan)
    variances: Numbers = np.full(len(pairs), np.nan)
    for i, (a, b) in enumerate(pairs):
        first, second = lanes.get(a), lanes.get(b)
        if first and second:
            one, other = math.exp(first.level), math.exp(second.level)
            share = one / (one + other)
            levels[i] = math.log(one + other)
            variances[i] = share**2 * first.variance + (1 - share) ** 2 * second.variance
    return Usual(levels, variances) if np.isfinite(levels).any() else None
