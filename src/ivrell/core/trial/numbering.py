"""Which planned runs are done, and the numbers of those that are not."""

from collections.abc import Iterable
from dataclasses import replace
from itertools import count

from ivrell.core.records.points import point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.trial.plan import PlannedRun

_Identity = tuple[str, str, int, bool]


class Numbering:
    """A run is known by its lane, point, round and purpose; its number only by the order in which
    a plan puts it, which another version, seed or number of rounds changes.

    Args:
        runs: that were done in earlier sessions of the trial.
    """

    def __init__(self, runs: Iterable[RunRecord]) -> None:
        self._done: dict[_Identity, int] = {}
        self._used: set[int] = set()
        for run in runs:
            self._used.add(run.run)
            if run.repeat_of is None:
                identity = run.approach, point_name(run.point), run.round, run.memory_run
                self._done[identity] = run.run

    def is_done(self, planned: PlannedRun) -> bool:
        """Whether an earlier session did it."""
        return _identity(planned) in self._done

    def numbered(self, planned: PlannedRun) -> PlannedRun:
        """The run with the number that it has, or else with the plan's, or the first that is free
        where an earlier session gave that to another run."""
        number = self._done.get(_identity(planned), planned.number)
        if number in self._used and not self.is_done(planned):
            number = next(free for free in count(1) if free not in self._used)
        self._used.add(number)
        return replace(planned, number=number)


def _identity(planned: PlannedRun) -> _Identity:
    return planned.approach, point_name(planned.point), planned.round, planned.memory_alone
