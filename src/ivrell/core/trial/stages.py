"""Named parts of a run, timed where they happen; standard library only."""

from __future__ import annotations

import mmap
import resource
import struct
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from ivrell.core.records.wire import Span, StageTime

BOARD_BYTES = 4096
_NAME_BYTES = 120
_SLOT = struct.Struct(f"<QH{_NAME_BYTES}s")
_MOST_SPANS = 200


def cpu_now() -> float:
    """CPU seconds of this process and of the children it has waited for."""
    own = resource.getrusage(resource.RUSAGE_SELF)
    waited = resource.getrusage(resource.RUSAGE_CHILDREN)
    return own.ru_utime + own.ru_stime + waited.ru_utime + waited.ru_stime


@dataclass
class _Total:
    elapsed: float = 0.0
    cpu: float = 0.0
    times: int = 0


class Stages:
    """Collects the stages of one run.

    Each stage counts its own time only: what an inner stage takes is not the outer's.
    The name of the current stage is written to a page of memory shared with the runner,
    so that showing it costs the run no system call.

    Args:
        board: that page.
        living: gives CPU seconds of children that live and do the work, which the system has not
            added to this process's yet.
    """

    def __init__(self, board: mmap.mmap | None = None, living: Callable[[], float] = float) -> None:
        self._board = board
        self._living = living
        self._totals: dict[str, _Total] = {}
        self._open: list[list[float]] = []
        self._names: list[str] = []
        self._entries = 0
        self.spans: list[Span] = []
        self.began = 0.0

    @contextmanager
    def __call__(self, name: str) -> Iterator[None]:
        name = str(name)
        self._names.append(name)
        self._show()
        inner = [0.0, 0.0]
        self._open.append(inner)
        cpu, start = self._cpu_now(), time.perf_counter()
        try:
            yield
        finally:
            end, used = time.perf_counter(), self._cpu_now() - cpu
            self._open.pop()
            self._names.pop()
            self._show()
            total = self._totals.setdefault(name, _Total())
            total.elapsed += end - start - inner[0]
            total.cpu += used - inner[1]
            total.times += 1
            if self._open:
                self._open[-1][0] += end - start
                self._open[-1][1] += used
            if len(self.spans) < _MOST_SPANS:
                self.spans.append(Span(name, start - self.began, end - self.began))

    def _cpu_now(self) -> float:
        return cpu_now() + self._living()

    def _show(self) -> None:
        if self._board is not None:
            self._entries += 1
            shown = self._names[-1].encode("utf-8", "replace")[:_NAME_BYTES] if self._names else b""
            _SLOT.pack_into(self._board, 0, self._entries, len(shown), shown)

    def records(self) -> list[StageTime]:
        """One record a name, in order of first end."""
        return [
            StageTime(name, max(0.0, total.elapsed), max(0.0, total.cpu), total.times)
            for name, total in self._totals.items()
        ]


def shown_stage(board: mmap.mmap) -> str:
    """Name of the stage that a run is in, read by the runner; empty between stages."""
    _, length, name = _SLOT.unpack_from(board, 0)
    return bytes(name[:length]).decode("utf-8", "replace")
