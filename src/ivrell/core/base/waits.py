"""Waiting for processes and pipes: each wait has an end, and hears who wants to stop.

Standard library only.
"""

import logging
import os
import select
import signal
import subprocess
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import IO, Any, TypeVar

from ivrell.core.base.errors import Stopped

log = logging.getLogger("ivrell.waits")
Found = TypeVar("Found")
WantedStop = Callable[[], bool]
_ASK_EVERY_S = 0.1
_KILLED_S = 10.0
_LONGEST_LINE = 1 << 16


def never() -> bool:
    """Nobody stops."""
    return False


def first_line(
    pipe: IO[bytes], seconds: float, what: str, wanted_stop: WantedStop = never
) -> bytes | None:
    """The first line that comes out of a pipe, without its end.

    Args:
        pipe: of which nothing was read yet.
        seconds: for which it is waited for.
        what: that is waited for, for who stops.
        wanted_stop: asked meanwhile.

    Returns:
        The line; what there was of it where the pipe was closed; None where none came in time, or
        none that ends.

    Raises:
        Stopped: ``wanted_stop`` said so.
    """
    deadline, said = time.monotonic() + seconds, b""
    while time.monotonic() < deadline and len(said) < _LONGEST_LINE:
        if wanted_stop():
            raise Stopped(what)
        ready, _, _ = select.select([pipe], [], [], _ASK_EVERY_S)
        if not ready:
            continue
        data = os.read(pipe.fileno(), 4096)
        said += data
        if not data or b"\n" in data:
            return said.partition(b"\n")[0]
    return None


def what_is_there(pipe: IO[bytes], most: int = 1 << 16) -> bytes:
    """What a pipe holds now; nothing is waited for."""
    said = b""
    while len(said) < most and select.select([pipe], [], [], 0)[0]:
        if not (data := os.read(pipe.fileno(), 4096)):
            break
        said += data
    return said


def done_aside(
    act: Callable[[], Found], what: str, wanted_stop: WantedStop, interrupt: Callable[[], None]
) -> Found:
    """Do something that blocks in a library, in a thread of its own, so that Stop is heard.

    Args:
        act: what is done; it may be used in another thread.
        what: it is, for who stops.
        wanted_stop: asked meanwhile, in the caller's thread.
        interrupt: makes ``act`` raise soon.

    Returns what ``act`` does; raises what it raises, or Stopped.
    """
    if wanted_stop():
        raise Stopped(what)
    with ThreadPoolExecutor(1) as thread:
        doing = thread.submit(act)
        stopping = False
        while True:
            try:
                found = doing.result(_ASK_EVERY_S)
            except TimeoutError:
                if doing.done():
                    raise
                if wanted_stop():
                    # Again and again: between two statements it would hit none.
                    stopping = True
                    interrupt()
            except Exception:
                if stopping:
                    raise Stopped(what) from None
                raise
            else:
                if stopping:
                    raise Stopped(what)
                return found


def end(process: "subprocess.Popen[Any]", seconds: float = 0.0) -> None:
    """Let a process end by itself for so long, and kill it then."""
    with suppress(subprocess.TimeoutExpired):
        process.wait(seconds)
        return
    process.kill()
    try:
        process.wait(_KILLED_S)
    except subprocess.TimeoutExpired:
        # The kernel does not let go of it, as where a disk does not answer.
        log.warning("process %d was killed and does not end", process.pid)


def how_it_ended(status: int, *, sandboxed: bool) -> str:
    """The end of a process in words: its exit status, or the signal that ended it, which a sandbox
    tells as a shell does."""
    if sandboxed and status > 128:
        status = 128 - status
    return f"exit status {status}" if status >= 0 else f"signal {signal.Signals(-status).name}"
