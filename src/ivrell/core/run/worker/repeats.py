"""Calls too short to be measured alone are repeated; the figure is then per repeat.

Standard library only.
"""

from __future__ import annotations

import math
import resource
import time
from collections.abc import Iterator
from contextlib import contextmanager

from ivrell.core.run.stages import Stages
from ivrell.core.tasks.task import Task

MOST_REPEATS = 10_000_000
MOST_RENEWED = 50
"""Repeats whose tables are put back before each: that takes far longer than such a call."""
_MARGIN = 1.2


@contextmanager
def _no_stage(name: str) -> Iterator[None]:
    yield


class SetUps:
    """CPU time that setting up between repeated calls used, to be taken off theirs."""

    def __init__(self) -> None:
        self.user = self.system = 0.0

    @contextmanager
    def aside(self) -> Iterator[None]:
        """What is done inside is no part of the calls."""
        before = _used()
        yield
        after = _used()
        self.user += after[0] - before[0]
        self.system += after[1] - before[1]


def _used() -> tuple[float, float]:
    own = resource.getrusage(resource.RUSAGE_SELF)
    waited = resource.getrusage(resource.RUSAGE_CHILDREN)
    return own.ru_utime + waited.ru_utime, own.ru_stime + waited.ru_stime


def timed(
    task: Task, stages: Stages, repeats: int, set_ups: SetUps | None = None
) -> tuple[float, object]:
    """Call a task so many times; returns seconds in all and the last answer.

    A single call has been set up already. What is to be set up before each of several stays
    outside the clock, and its CPU time is gathered in ``set_ups``. Stages are kept of single
    calls only: repeated ones are so short that naming their parts would weigh more than they
    do. Raises ApproachFailed.
    """
    if repeats == 1:
        start = time.perf_counter()
        answer = task.run(stages)
        return time.perf_counter() - start, answer
    if not task.sets_up_each:
        start = time.perf_counter()
        answer = task.run_many(_no_stage, repeats)
        return time.perf_counter() - start, answer
    elapsed = 0.0
    set_ups = set_ups or SetUps()
    for _ in range(repeats):
        with set_ups.aside():
            task.before_each()
        start = time.perf_counter()
        answer = task.run(_no_stage)
        elapsed += time.perf_counter() - start
    return elapsed, answer


def renewed_calls(first_s: float, min_sample_s: float) -> int:
    """How many calls last ``min_sample_s`` seconds together where each finds its tables anew, so
    that none is much quicker than the first."""
    return min(max(2, math.ceil(_MARGIN * min_sample_s / max(first_s, 1e-8))), MOST_RENEWED)


def calibrated(task: Task, first_s: float, min_sample_s: float) -> int:
    """How many repeats last at least ``min_sample_s`` seconds, found by trying.

    ``first_s`` is what the first call took; it may be much slower than later ones, so ever
    more are tried until they last long enough.
    """
    stages = Stages()
    repeats, took = 1, first_s
    while took < min_sample_s and repeats < MOST_REPEATS:
        each = max(took / repeats, 1e-8)
        wanted = math.ceil(_MARGIN * min_sample_s / each)
        # At most tenfold at a time: the estimate of a very short call is poor.
        repeats = min(max(wanted, 2), 10 * repeats, MOST_REPEATS)
        took, _ = timed(task, stages, repeats)
    return repeats
