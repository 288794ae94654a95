"""Whether the rounds so far are enough for a plan that ends by how sure they are."""

from collections.abc import Sequence
from statistics import median

from ivrell.core.records.points import point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.report.measures import BY_KEY
from ivrell.core.report.ratios import Judge
from ivrell.core.stats.contrasts import contrasts
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
        lanes = sorted({run.approach for run in here if run.approach != baseline})
        widths += _against(baseline or "", base, {lane: _times(here, lane) for lane in lanes})
        if base and not lanes:
            widths.append(_width(base))
    known = [width for width in widths if width is not None]
    return max(known) if known and len(known) == len(widths) else None


def _times(runs: Sequence[RunRecord], lane: str | None) -> dict[int, float]:
    return {run.round: run.elapsed_s for run in runs if run.approach == lane and run.elapsed_s}


def _against(
    baseline: str, base: dict[int, float], lanes: dict[str, dict[int, float]]
) -> list[float | None]:
    """Widths of the ratios to the baseline; of the median of a lane that has no two rounds with
    it."""
    found = contrasts({baseline: base, **lanes}, baseline=baseline, all_pairs=False)
    widths = []
    for lane, own in lanes.items():
        ratio = found.get((baseline, lane))
        if ratio is None or ratio.rounds < 2:
            widths.append(_width(own))
        else:
            widths.append(_share(ratio.low, ratio.high, ratio.value))
    return widths


def _width(times: dict[int, float]) -> float | None:
    summary = summarize(list(times.values()))
    return _share(summary.low, summary.high, summary.median)


def _share(low: float | None, high: float | None, value: float) -> float | None:
    return None if low is None or high is None else (high - low) / value


LOOK = 0.01
"""Chance below which something is told at one of several looks: that they are several makes no
equals be told apart more often (shown by the tests)."""

_LOOKS_APART = 1.25


def look_after(rounds: int, first: int) -> bool:
    """Whether to look after a round, where rounds are added from ``first`` on until something is
    told: after a fourth more, and so on, so that looks stay few."""
    before = max(1, first - 1)
    while before < rounds:
        before = max(before + 1, round(before * _LOOKS_APART))
    return before == rounds


def told(runs: Sequence[RunRecord], judge: Judge) -> bool:
    """Whether it is told which lane is the quickest, or that what is between it and those next to
    it does not matter.

    Args:
        runs: counted ones at a point.
        judge: what they are judged by.
    """
    lanes = sorted({run.approach for run in runs})
    values = {lane: own for lane in lanes if (own := _times(runs, lane))}
    ratios = judge.ratios(BY_KEY["elapsed"], values)
    if not ratios:
        return False
    best = min(values, key=lambda lane: median(values[lane].values()))
    for pair, ratio in ratios.items():
        if best not in pair or ratio.verdict == "no difference that matters":
            continue
        if ratio.verdict == "not told apart" or ratio.chance is None or ratio.chance > LOOK:
            return False
    return True


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
