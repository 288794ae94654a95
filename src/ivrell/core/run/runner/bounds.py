"""The limits of one run, looked at while it goes on. Standard library only.

Memory is looked at the more often the nearer it is to its limit: between two looks a run can
take what the machine can hand out in that time.
"""

import os
import resource
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from ivrell.core.measure import proc
from ivrell.core.records.wire import LimitReached, RunLimits

_FASTEST_GROWTH = 4e9
_SHORTEST_LOOK_S = 0.002
_FOLDER_EVERY_S = 0.2
_OURS = (".approach", ".answer-parts", ".spark-conf", ".spark-events")
"""Folders of a run's own that Ivrell puts there, or has an engine put there."""

_OWN_FILES = (".job", ".answer.")
"""How names of files begin that Ivrell puts at the top of a run's folder."""


class Bounds:
    """Which limit a run has reached, if any.

    Args:
        limits: of the run.
        folder: the run's own folder.
        now: seconds on the monotonic clock.
    """

    def __init__(self, limits: RunLimits, folder: Path, now: float) -> None:
        self._limits = limits
        self._folder = folder
        self._started = now
        self._folder_at = 0.0
        self._folder_bytes = 0
        self._before = left_bytes(folder, everything=True)

    def reached(
        self, phase: str, since: float, output: int, memory: int, cpu: float, processes: int
    ) -> LimitReached | None:
        """The limit reached now, if any.

        ``since`` is the time in this phase; memory is what the whole tree holds, CPU what it
        used since the clock started.
        """
        limits = self._limits
        if phase != "running" and since > limits.prepare_seconds:
            return LimitReached(phase, float(limits.prepare_seconds))
        if output > limits.output_bytes:
            return LimitReached("output", float(limits.output_bytes))
        if processes > limits.processes:
            return LimitReached("processes", float(limits.processes))
        if memory > limits.memory_bytes:
            return LimitReached("memory", float(limits.memory_bytes))
        if self._left_behind() > limits.written_bytes:
            return LimitReached("written", float(limits.written_bytes))
        if phase != "running":
            return None
        if since > limits.seconds:
            return LimitReached("elapsed", float(limits.seconds))
        if limits.cpu_seconds is not None and cpu > limits.cpu_seconds:
            return LimitReached("CPU time", float(limits.cpu_seconds))
        return None

    def next_look(self, memory: int) -> float:
        """Seconds until memory must be looked at again so as not to overshoot by much."""
        room = max(0, self._limits.memory_bytes - memory)
        return float(max(_SHORTEST_LOOK_S, room / _FASTEST_GROWTH))

    def _left_behind(self) -> int:
        """Bytes of files that came since the run was begun, whatever they are called; looked at
        now and then."""
        now = time.monotonic()
        if now - self._folder_at > _FOLDER_EVERY_S:
            self._folder_at = now
            self._folder_bytes = left_bytes(self._folder, everything=True) - self._before
        return self._folder_bytes


def set_hard_limits(limits: RunLimits) -> Callable[[], None]:
    """What a child does before the approach is loaded: limits that the kernel keeps itself."""
    written = int(limits.written_bytes)
    processes = int(limits.processes)

    def in_child() -> None:
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        # One file cannot grow past the limit; the sum over files is watched.
        resource.setrlimit(resource.RLIMIT_FSIZE, (written + 1, written + 1))
        if os.geteuid() != 0:
            # Counts all processes of the user, so what runs already is added.
            own = sum(1 for pid in os.listdir("/proc") if pid.isdigit())  # noqa: PTH208
            _, hard = resource.getrlimit(resource.RLIMIT_NPROC)
            wanted = own + processes
            if hard == resource.RLIM_INFINITY or wanted < hard:
                resource.setrlimit(resource.RLIMIT_NPROC, (wanted, hard))

    return in_child


def tree_memory(worker: int, others: list[int]) -> int:
    """Bytes that a tree holds, quick and never too low: shared pages may count more than
    once."""
    return proc.resident(worker) + sum(proc.resident(pid) for pid in others)


def left_bytes(folder: Path, *, everything: bool = False) -> int:
    """Bytes in the files a run left, each once, by whatever names; without those at the top that
    are called as Ivrell's own are, unless ``everything`` is to count."""
    held: dict[tuple[int, int], int] = {}
    for entry in left_files(folder, everything=everything):
        try:
            status = entry.stat(follow_symlinks=False)
        except OSError:
            continue
        held[status.st_dev, status.st_ino] = status.st_size
    return sum(held.values())


def left_files(folder: Path, *, everything: bool = False) -> "Iterator[os.DirEntry[str]]":
    """What a run left that is neither a folder nor a link; see left_bytes.

    Not by os.walk, whose stack a few thousand nested folders break.
    """
    waiting = [str(folder)]
    while waiting:
        where = waiting.pop()
        top = where == str(folder)
        try:
            entries = list(os.scandir(where))
        except OSError:
            continue
        for entry in entries:
            try:
                if entry.is_dir(follow_symlinks=False):
                    if everything or not (top and entry.name in _OURS):
                        waiting.append(entry.path)
                elif not entry.is_symlink() and (
                    everything or not (top and entry.name.startswith(_OWN_FILES))
                ):
                    yield entry
            except OSError:
                continue
