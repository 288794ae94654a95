"""Locks on files that the kernel frees when their holder ends, however it ends."""

import fcntl
import math
import os
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from ivrell.core.base.errors import BadInput, Stopped

_ASK_EVERY_S = 0.1
_REMOVING_S = 60.0


class FileLock:
    """A lock that one process holds alone, or several share.

    The file stays: were it removed, one process could wait for it while another makes it anew.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._fd: int | None = None

    def take(self, *, shared: bool = False, wait_s: float = 0.0) -> bool:
        """Take the lock, or change the way it is held; False where others hold it so long."""
        if self._fd is None:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            self._fd = os.open(self._path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        how = (fcntl.LOCK_SH if shared else fcntl.LOCK_EX) | fcntl.LOCK_NB
        deadline = time.monotonic() + wait_s
        while True:
            try:
                fcntl.flock(self._fd, how)
            except BlockingIOError:
                if time.monotonic() >= deadline:
                    return False
                time.sleep(_ASK_EVERY_S)
            else:
                return True

    @contextmanager
    def inherited(self, least: int) -> Iterator[int]:
        """A descriptor for processes that are started within the block, numbered ``least`` or
        higher: they hold the lock too, until the last of them has ended."""
        assert self._fd is not None
        fd = fcntl.fcntl(self._fd, fcntl.F_DUPFD_CLOEXEC, least)
        try:
            yield fd
        finally:
            os.close(fd)

    def release(self) -> None:
        """Let go of it."""
        if self._fd is not None:
            os.close(self._fd)
            self._fd = None


def is_held(path: Path) -> bool:
    """Whether somebody holds the lock on a file alone."""
    if not path.exists():
        return False
    lock = FileLock(path)
    try:
        return not lock.take(shared=True)
    finally:
        lock.release()


def holders(path: Path) -> list[int]:
    """Other processes that have a file open, such as that of a lock; of those that may be looked
    at. One that a process which is just being started inherits may be missed."""
    found = []
    for folder in Path("/proc").glob("[0-9]*/fd"):
        pid = int(folder.parent.name)
        with suppress(OSError):
            if pid != os.getpid() and any(_leads_to(link, path) for link in folder.iterdir()):
                found.append(pid)
    return found


def _leads_to(link: Path, path: Path) -> bool:
    try:
        return link.readlink() == path
    except OSError:
        # Closed meanwhile; the next may be it.
        return False


@contextmanager
def alone(
    path: Path, stopped: Callable[[], bool] | None = None, wait_s: float = math.inf
) -> Iterator[None]:
    """Do something that one process at a time may do; others wait. Raises Stopped when
    ``stopped`` says so meanwhile, BadInput where that takes longer than ``wait_s``."""
    lock = FileLock(path)
    deadline = time.monotonic() + wait_s
    try:
        while not lock.take(wait_s=_ASK_EVERY_S):
            if stopped and stopped():
                raise Stopped(path.stem)
            if time.monotonic() > deadline:
                raise BadInput(
                    f"Another process has been at work there for over {wait_s:.0f} seconds.",
                    where=str(path),
                    hint="Wait until it has ended, or end it, and start again.",
                )
        yield
    finally:
        lock.release()


@contextmanager
def in_use(root: Path) -> Iterator[None]:
    """Keep others from removing what lies in a folder. Raises BadInput where somebody goes on
    doing so."""
    lock = FileLock(_beside(root))
    try:
        # Whoever removes something holds the lock for moments only.
        if not lock.take(shared=True, wait_s=_REMOVING_S):
            raise BadInput(
                "Data there is being removed by another process.",
                where=str(root),
                hint="Wait until that has ended, and start again.",
            )
        yield
    finally:
        lock.release()


@contextmanager
def not_in_use(root: Path) -> Iterator[None]:
    """Remove something from a folder. Raises BadInput where a process uses what is there."""
    lock = FileLock(_beside(root))
    try:
        if not lock.take():
            raise BadInput(
                "Something is running that needs this data: a trial, a try, or data being made.",
                where=str(root),
                hint="Stop it, or wait until it ends.",
            )
        yield
    finally:
        lock.release()


def _beside(root: Path) -> Path:
    return root.with_name(f"{root.name}.in-use")
