"""Named parts of a run, timed where they happen; standard library only."""

from __future__ import annotations

import mmap
import resource
import struct
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field

from ivrell.core.records.wire import Span, StageTime

BOARD_BYTES = 4096
_NAME_BYTES = 120
_SLOT = struct.Struct(f"<QH{_NAME_BYTES}s")
_MOST_SPANS = 200
_MOST_NAMES = 200
_LONGEST_NAME = 200
OTHERS = "other stages"
"""Stands for the stages of all names after the first 200."""


def cpu_now() -> float:
    """CPU seconds of this process and of the children it has waited for."""
    own = resource.getrusage(resource.RUSAGE_SELF)
    waited = resource.getrusage(resource.RUSAGE_CHILDREN)
    return own.ru_utime + own.ru_stime + waited.ru_utime + waited.ru_stime


class _Cover:
    """For how long at least one of several things went on."""

    def __init__(self) -> None:
        self.seconds = 0.0
        self.overlapped = False
        self._going = 0
        self._since = 0.0

    def begin(self, now: float) -> None:
        if self._going:
            self.overlapped = True
        else:
            self._since = now
        self._going += 1

    def end(self, now: float) -> None:
        self._going -= 1
        if not self._going:
            self.seconds += now - self._since


@dataclass
class _Total:
    """What the stages of one name took: their own time one by one, and the time in which any of
    them went on."""

    cover: _Cover = field(default_factory=_Cover)
    own: float = 0.0
    cpu: float = 0.0
    times: int = 0
    overlaps: bool = False


@dataclass(eq=False)
class _Open:
    """A stage that goes on, what it is inside of, and what is inside of it."""

    name: str
    above: tuple[_Open, ...]
    inner: _Cover = field(default_factory=_Cover)
    inner_cpu: float = 0.0
    overlaps: bool = False


_inside: ContextVar[tuple[_Open, ...]] = ContextVar("stages that this thread or task is in")


class Stages:
    """Collects the stages of one run.

    Each thread and each task is in stages of its own. A stage counts its own time only: what an
    inner stage takes is not the outer's. Stages of several threads or tasks that go on at the same
    time are said to overlap: their times add up to more than went by, and CPU time is then that of
    the thread alone which went through the stage.
    The name of the stage entered last is written to a page of memory shared with the runner,
    so that showing it costs the run no system call.

    Args:
        board: that page.
        living: gives CPU seconds of children that live and do the work, which the system has not
            added to this process's yet.
    """

    def __init__(self, board: mmap.mmap | None = None, living: Callable[[], float] = float) -> None:
        self._board = board
        self._living = living
        self._lock = threading.Lock()
        self._totals: dict[str, _Total] = {}
        self._going: list[_Open] = []
        self._all = _Cover()
        self._entries = 0
        self.spans: list[Span] = []
        self.began = 0.0

    @contextmanager
    def __call__(self, name: str) -> Iterator[None]:
        above = tuple(one for one in _inside.get(()) if one in self._going)
        own = _Open(self._known(str(name)), above)
        _inside.set((*above, own))
        cpu, thread, start = self._cpu_now(), time.thread_time(), time.perf_counter()
        self._enter(own, start)
        try:
            yield
        finally:
            end, used = time.perf_counter(), self._cpu_now() - cpu
            in_thread = max(0.0, time.thread_time() - thread)
            # A generator may leave a stage later than one that was entered after it.
            _inside.set(tuple(one for one in _inside.get(()) if one is not own))
            self._leave(own, start, end, in_thread if own.overlaps else used)

    def _known(self, name: str) -> str:
        name = name[:_LONGEST_NAME]
        return name if name in self._totals or len(self._totals) < _MOST_NAMES else OTHERS

    def _enter(self, own: _Open, now: float) -> None:
        with self._lock:
            for other in self._going:
                if other not in own.above:
                    own.overlaps = other.overlaps = True
            self._going.append(own)
            self._all.begin(now)
            self._totals.setdefault(own.name, _Total()).cover.begin(now)
            if own.above:
                own.above[-1].inner.begin(now)
            self._show(own.name)

    def _leave(self, own: _Open, start: float, end: float, used: float) -> None:
        with self._lock:
            self._going.remove(own)
            self._all.end(end)
            total = self._totals[own.name]
            total.cover.end(end)
            total.own += max(0.0, end - start - own.inner.seconds)
            total.cpu += max(0.0, used - own.inner_cpu)
            total.times += 1
            total.overlaps |= own.overlaps
            if own.above:
                own.above[-1].inner.end(end)
                own.above[-1].inner_cpu += used
            self._show(self._going[-1].name if self._going else "")
            if len(self.spans) < _MOST_SPANS:
                self.spans.append(Span(own.name, start - self.began, end - self.began))

    def _cpu_now(self) -> float:
        return cpu_now() + self._living()

    def _show(self, name: str) -> None:
        if self._board is not None:
            self._entries += 1
            shown = name.encode("utf-8", "replace")[:_NAME_BYTES]
            _SLOT.pack_into(self._board, 0, self._entries, len(shown), shown)

    @property
    def covered_s(self) -> float:
        """Seconds in which any stage went on."""
        return self._all.seconds

    def records(self) -> list[StageTime]:
        """One record a name, in order of first begin; of stages of one name that went on at the
        same time, the time in which any of them did."""
        return [
            StageTime(
                name,
                total.cover.seconds if total.cover.overlapped else total.own,
                total.cpu,
                total.times,
                total.overlaps,
            )
            for name, total in self._totals.items()
            if total.times
        ]


def shown_stage(board: mmap.mmap) -> str:
    """Name of the stage that a run is in, read by the runner; empty between stages."""
    _, length, name = _SLOT.unpack_from(board, 0)
    return bytes(name[:length]).decode("utf-8", "replace")
