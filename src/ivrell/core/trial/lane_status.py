"""Who still runs: lanes that are out at a point, and those whose memory needs a run of its own."""

from collections import Counter
from collections.abc import Iterable

from ivrell.core.records.points import point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.trial.plan import PlannedRun

_FAILURES_BEFORE_OUT = 2

Contest = tuple[str, str]
"""A lane and the name of a point."""


class LaneStatus:
    """What the runs so far say of who runs on."""

    def __init__(self) -> None:
        self._out: set[Contest] = set()
        self._failures: Counter[Contest] = Counter()
        self._several: set[Contest] = set()
        self._seen_closely: set[Contest] = set()

    def take(self, run: RunRecord) -> bool:
        """Take a run in; whether its lane is out at its point from now on: after a limit, or
        after failing twice in a row."""
        contest = run.approach, point_name(run.point)
        if run.memory_run:
            self._seen_closely.add(contest)
            return False
        if run.state == "done":
            self._failures[contest] = 0
            if run.several_processes:
                self._several.add(contest)
        elif run.state == "failed":
            self._failures[contest] += 1
        out = run.state == "limit" or self._failures[contest] >= _FAILURES_BEFORE_OUT
        if out:
            self._out.add(contest)
        return out

    def is_out(self, planned: PlannedRun) -> bool:
        """Whether a run is not to be."""
        return (planned.approach, point_name(planned.point)) in self._out

    def needs_memory_run(self, planned: PlannedRun) -> bool:
        """Whether a lane was seen to be several processes at a point, whose memory needs a run
        of its own, and has had none there."""
        contest = planned.approach, point_name(planned.point)
        return contest in self._several - self._seen_closely

    def running(self, runs: Iterable[RunRecord]) -> list[RunRecord]:
        """The timed runs of those that run on."""
        return [
            run
            for run in runs
            if (run.approach, point_name(run.point)) not in self._out and not run.memory_run
        ]
