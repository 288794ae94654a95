"""Sizes from small to large: which lanes are left behind because they would break a limit."""

from collections.abc import Sequence
from statistics import median

from ivrell.core.records.plan import Limits
from ivrell.core.records.points import Point, beside, going_with, point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.stats.growth import next_value
from ivrell.core.trial.plan import PlannedRun, size_of

MARGIN = 1.25
"""By how much a lane may be expected to grow faster than it did."""


class StepUp:
    """What runs at smaller sizes say of the next size, lane by lane.

    Args:
        knob: the one that goes from small to large.
        points: that the plan names.
        limits: of each run.
    """

    def __init__(self, knob: str, points: Sequence[Point], limits: Limits) -> None:
        self._knob = knob
        self._apart = {knob, *going_with(points, knob)}
        self._bounds = {"elapsed": float(limits.seconds), "memory": float(limits.memory_bytes)}
        self._seen: dict[tuple[str, str], dict[float, list[tuple[float, float | None]]]] = {}
        self._stopped: dict[tuple[str, str], float] = {}
        self._decided: dict[tuple[str, str], bool] = {}

    def take(self, run: RunRecord) -> None:
        """Take a run in."""
        contest, size = self._contest(run.approach, run.point), size_of(run.point, self._knob)
        if run.state == "limit":
            self._stopped[contest] = min(size, self._stopped.get(contest, size))
        elif run.counted and run.elapsed_s:
            memory = run.peak_memory_bytes
            told = (run.elapsed_s, None if memory is None else float(memory))
            self._seen.setdefault(contest, {}).setdefault(size, []).append(told)

    def leaves_behind(self, planned: PlannedRun) -> bool:
        """Whether a lane is not to run at a size: it reached a limit at a smaller one, or would at
        this one by its growth so far, with a margin. Decided once for each lane and point."""
        key = planned.approach, point_name(planned.point)
        if key not in self._decided:
            self._decided[key] = self._breaks(planned.approach, planned.point)
        return self._decided[key]

    def _breaks(self, lane: str, point: Point) -> bool:
        contest, size = self._contest(lane, point), size_of(point, self._knob)
        if self._stopped.get(contest, size) < size:
            return True
        seen = {at: runs for at, runs in self._seen.get(contest, {}).items() if at < size}
        sizes = sorted(seen)
        if not sizes:
            return False
        times = [median(elapsed for elapsed, _ in seen[at]) for at in sizes]
        if next_value(sizes, times, size) * MARGIN > self._bounds["elapsed"]:
            return True
        held = [[memory for _, memory in seen[at] if memory] for at in sizes]
        if not all(held):
            return False
        peaks = [median(own) for own in held]
        return next_value(sizes, peaks, size) * MARGIN > self._bounds["memory"]

    def _contest(self, lane: str, point: Point) -> tuple[str, str]:
        """A lane and the point but for its size, and what goes together with that."""
        return lane, point_name(beside(point, self._apart))
