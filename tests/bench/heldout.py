"""How good predictions are: python -m tests.bench.heldout FOLDER...

From the result folders of trials over sizes: of each lane and measure that was seen at four sizes
or more, the largest size is held out, the others tell what it should be (stats/growth), and that
is held against the single runs there. Told: the share of them within the 90 % interval, and the
median error of the predicted value. Folders are made with
`./ivrell run demo/... --set rows=1000..10000000/2 --step-up --out FOLDER`.
"""

import sys
from collections.abc import Iterator
from pathlib import Path
from statistics import median
from typing import NamedTuple

from ivrell.core.comparison.file import parse
from ivrell.core.records.points import point_name
from ivrell.core.report.measures import values_at
from ivrell.core.report.sweep.along import numeric_knobs
from ivrell.core.results.folder import PLAN, ResultFolder
from ivrell.core.stats.growth import enough, predictor
from ivrell.core.trial.plan import points_with

MEASURES = ("elapsed", "cpu_total", "peak_memory_absolute")
LEAST_SIZES = 4
FARTHEST = 10.5


class Held(NamedTuple):
    """One lane's measure at the size held out: runs within the interval, runs, error of the middle
    as a share, how far beyond the others the size lies."""

    folder: str
    lane: str
    measure: str
    within: int
    runs: int
    error: float
    times: float


def held_out(folder: Path) -> Iterator[Held]:
    """Every lane and measure of a folder along each knob of numbers."""
    kept = ResultFolder(folder)
    comparison, runs = parse(kept.comparison_text), kept.runs()
    points = points_with(kept.read(PLAN), comparison, (run.point for run in runs))
    for knob in numeric_knobs(points):
        others = {point_name({n: v for n, v in p.items() if n != knob}) for p in points}
        for other in others:
            seen: dict[tuple[str, str], dict[float, list[float]]] = {}
            for point in points:
                if point_name({n: v for n, v in point.items() if n != knob}) != other:
                    continue
                here = [run for run in runs if run.point == point]
                values = values_at(comparison, here, point)
                for key in MEASURES:
                    for lane, own in values[key].lanes.items() if key in values else ():
                        size = float(point[knob])  # type: ignore[arg-type]
                        seen.setdefault((lane, key), {})[size] = list(own.values())
            for (lane, key), sizes in seen.items():
                if found := _held(folder.name, lane, key, sizes):
                    yield found


def _held(folder: str, lane: str, key: str, sizes: dict[float, list[float]]) -> Held | None:
    *known, last = sorted(sizes)
    if len(known) < LEAST_SIZES - 1 or last / known[-1] > FARTHEST or not enough(known):
        return None
    pairs = [(size, value) for size in known for value in sizes[size]]
    if min(value for _, value in pairs) <= 0:
        return None
    made = predictor([size for size, _ in pairs], [value for _, value in pairs])
    if made is None:
        return None
    told, own = made.at(last), sizes[last]
    within = sum(told.low <= value <= told.high for value in own)
    return Held(folder, lane, key, within, len(own), told.value / median(own) - 1, last / known[-1])


def main() -> None:
    """Print a line a lane, and the sums."""
    every = [held for path in sys.argv[1:] for held in held_out(Path(path))]
    for held in every:
        print(
            f"{held.folder:24} {held.lane:12} {held.measure:21} {held.within} of {held.runs} "
            f"within, off {held.error:+.0%}, {held.times:.1f} times the next"
        )
    for name, some in (
        ("all", every),
        *((m, [h for h in every if h.measure == m]) for m in MEASURES),
    ):
        if some:
            runs = sum(held.runs for held in some)
            share = sum(held.within for held in some) / runs
            off = median(abs(held.error) for held in some)
            told = f"{share:.0%} within, median error {off:.0%}"
            print(f"{name}: {len(some)} lanes, {runs} runs, {told}")


if __name__ == "__main__":
    main()
