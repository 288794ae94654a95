"""What goes on after an approach gave its answer: work that no clock saw.

Standard library only. Threads of this process but the one that asks, and child processes.
"""

from __future__ import annotations

import os
import time
from pathlib import Path

CPU, PROCESSES = "after the answer: CPU seconds", "after the answer: processes"
"""Under these names a run tells it, where there was any."""

_GLANCE_S = 0.002
_LOOK_S = 0.02
_LONGEST_S = 2.0
_BUSY = 0.25
_TICKS = os.sysconf("SC_CLK_TCK")


def children() -> list[int]:
    """Living processes below this one."""
    found: list[int] = []
    waiting = [os.getpid()]
    while waiting:
        pid = waiting.pop()
        for task in _numbers(Path(f"/proc/{pid}/task")):
            try:
                text = Path(f"/proc/{pid}/task/{task}/children").read_text()
            except OSError:
                continue
            below = [int(word) for word in text.split()]
            found += below
            waiting += below
    return found


def _numbers(folder: Path) -> list[str]:
    try:
        return [name for name in os.listdir(folder) if name.isdigit()]  # noqa: PTH208
    except OSError:
        return []


def _used_by_others() -> float:
    """CPU seconds of other threads and of children so far."""
    used = time.process_time() - time.thread_time()
    for pid in children():
        try:
            fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        except OSError:
            continue
        used += sum(int(field) for field in fields[11:15]) / _TICKS
    return used


def afterwards(before: set[int]) -> dict[str, float]:
    """What still works now: CPU seconds that it used until it was quiet, or for two seconds; and
    child processes that live and were not among those ``before``. Nothing where all is quiet.

    Threads of a library that only wait for work use none.
    """
    began, at_first = time.perf_counter(), _used_by_others()
    time.sleep(_GLANCE_S)
    used, last = _used_by_others(), time.perf_counter()
    found: dict[str, float] = {}
    if used - at_first > _BUSY * (last - began):
        while time.perf_counter() - began < _LONGEST_S:
            time.sleep(_LOOK_S)
            now, at = _used_by_others(), time.perf_counter()
            quiet = now - used < _BUSY * (at - last)
            used, last = now, at
            if quiet:
                break
        found[CPU] = used - at_first
    if left := len(set(children()) - before):
        found[PROCESSES] = float(left)
    return found
