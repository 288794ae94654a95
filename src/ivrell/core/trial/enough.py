"""Whether the rounds so far are enough for a plan that ends by how sure they are."""

from collections.abc import Sequence

from ivrell.core.records.points import point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.stats.ratio import ratio
from ivrell.core.stats.summary import summarize
from ivrell.core.trial.plan import Until


def widest(runs: Sequence[RunRecord], baseline: str | None) -> float | None:
    """The widest interval at any point, as a share of its value.

    Of each lane's ratio to the baseline; of the median for a baseline that stands alone.
    None as long as some interval cannot be formed.
    """
    counted = [run for run in runs if run.counted and run.elapsed_s]
    points = {point_name(run.point): run.point for run in counted}
    widths: list[float | None] = []
    for point in points.values():
        here = [run for run in counted if run.point == point]
        base = _times(here, baseline)
        lanes = {run.approach for run in here if run.approach != baseline}
        widths += [_width_against(base, _times(here, lane)) for lane in sorted(lanes)]
        if base and not lanes:
            widths.append(_width(base))
    known = [width for width in widths if width is not None]
    return max(known) if known and len(known) == len(widths) else None


def _times(runs: Sequence[RunRecord], lane: str | None) -> dict[int, float]:
    return {run.round: run.elapsed_s for run in runs if run.approach == lane and run.elapsed_s}


def _width_against(base: dict[int, float], own: dict[int, float]) -> float | None:
    rounds = sorted(base.keys() & own.keys())
    if len(rounds) < 2:
        return _width(own)
    found = ratio([base[r] for r in rounds], [own[r] for r in rounds])
    return _share(found.low, found.high, found.value)


def _width(times: dict[int, float]) -> float | None:
    summary = summarize(list(times.values()))
    return _share(summary.low, summary.high, summary.median)


def _share(low: float | None, high: float | None, value: float) -> float | None:
    return None if low is None or high is None else (high - low) / value


def enough(
    until: Until, runs: Sequence[RunRecord], baseline: str | None, rounds: int, minutes: float
) -> bool:
    """Whether to stop after so many whole rounds and minutes."""
    if rounds >= until.at_most or minutes >= until.minutes:
        return True
    if rounds < until.at_least:
        return False
    width = widest(runs, baseline)
    return width is not None and width < until.narrower_than
