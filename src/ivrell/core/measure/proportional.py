"""Memory of a tree whose processes share pages: each shared page counted once. Standard library
only: the runner uses this.

The tree is held still for each look, so that all its processes are seen at one moment. That
and the look itself cost it time: such a run measures memory alone.
"""

import os
import re
import signal
import time
from collections.abc import Iterator
from contextlib import contextmanager

from ivrell.core.measure.group import RunGroup
from ivrell.core.measure.proc import read

METHOD = "proportional set sizes of the whole tree, held still at each look, in a run of its own"
_PSS = re.compile(r"^Pss: +(\d+) kB", re.MULTILINE)
_STILL_S = 0.05
_WAIT_S = 0.0005


def proportional(pid: int) -> int:
    """Bytes that a process holds, each page that it shares divided by those who share it; 0 when
    it is gone or hidden."""
    found = _PSS.search(read(f"/proc/{pid}/smaps_rollup"))
    return int(found[1]) * 1024 if found else 0


def sum_of(pids: list[int], group: RunGroup | None) -> int:
    """Bytes that these processes hold together at one moment."""
    with _still(pids, group):
        return sum(map(proportional, pids))


@contextmanager
def _still(pids: list[int], group: RunGroup | None) -> Iterator[None]:
    """No process of them runs meanwhile: frozen by their group, else stopped one by one."""
    if group and group.freeze():
        try:
            yield
        finally:
            group.thaw()
        return
    stopped = [pid for pid in pids if _signal(pid, signal.SIGSTOP)]
    try:
        deadline = time.monotonic() + _STILL_S
        while time.monotonic() < deadline and any(map(_runs, stopped)):
            time.sleep(_WAIT_S)
        yield
    finally:
        for pid in stopped:
            _signal(pid, signal.SIGCONT)


def _signal(pid: int, number: signal.Signals) -> bool:
    try:
        os.kill(pid, number)
    except OSError:
        return False
    return True


def _runs(pid: int) -> bool:
    fields = read(f"/proc/{pid}/stat").rpartition(")")[2].split()
    return bool(fields) and fields[0] in "RDS"
