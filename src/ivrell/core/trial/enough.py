"""Whether the rounds so far are enough for a plan that ends by how sure they are."""

from collections.abc import Mapping, Sequence
from typing import Any

from ivrell.core.stats.ratio import ratio
from ivrell.core.stats.summary import summarize
from ivrell.core.trial.plan import Until

Run = Mapping[str, Any]


def widest(runs: Sequence[Run], baseline: str | None) -> float | None:
    """The widest interval at any point, as a share of its value.

    Of each lane's ratio to the baseline; of the median for a baseline that stands alone.
    None as long as some interval cannot be formed.
    """
    counted = [run for run in runs if run["state"] == "done" and not run["warm_up"]]
    points: list[Mapping[str, Any]] = []
    for run in counted:
        if run["point"] not in points:
            points.append(run["point"])
    widths = []
    for point in points:
        here = [run for run in counted if run["point"] == point]
        base = {run["round"]: run["elapsed_s"] for run in here if run["approach"] == baseline}
        lanes = {run["approach"] for run in here if run["approach"] != baseline}
        for lane in sorted(lanes):
            own = {run["round"]: run["elapsed_s"] for run in here if run["approach"] == lane}
            rounds = sorted(base.keys() & own.keys()) or []
            if base and len(rounds) >= 2:
                found = ratio([base[r] for r in rounds], [own[r] for r in rounds])
                low, high, value = found.low, found.high, found.value
            else:
                told = summarize(list(own.values()))
                low, high, value = told.low, told.high, told.median
            if low is None or high is None:
                return None
            widths.append((high - low) / value)
        if base and not lanes:
            told = summarize(list(base.values()))
            if told.low is None or told.high is None:
                return None
            widths.append((told.high - told.low) / told.median)
    return max(widths) if widths else None


def enough(
    until: Until, runs: Sequence[Run], baseline: str | None, rounds: int, minutes: float
) -> bool:
    """Whether to stop after so many whole rounds and minutes."""
    if rounds >= until.at_most or minutes >= until.minutes:
        return True
    if rounds < until.at_least:
        return False
    width = widest(runs, baseline)
    return width is not None and width < until.narrower_than
