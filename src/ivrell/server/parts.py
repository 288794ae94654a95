"""The processes that a start keeps running: what ends is started again, after growing pauses."""

import signal
import subprocess
import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from ivrell.core.base.logs import MOST_BYTES
from ivrell.core.base.parents import end_with_parent
from ivrell.core.base.waits import end

FIRST_PAUSE_S = 0.5
LONGEST_PAUSE_S = 60.0
STEADY_S = 60.0
"""A part that ran so long before it ended is started again as soon as one that never ended."""

FOR_NOW = 75
"""Exit status of a part that ended because something else is missing for now (EX_TEMPFAIL)."""


class Pause:
    """How long to wait before something is started again: longer each time, until it holds."""

    def __init__(self) -> None:
        self._next_s = FIRST_PAUSE_S

    def after(self, ran_s: float) -> float:
        """Seconds to wait after something ended that ran so long."""
        if ran_s >= STEADY_S:
            self._next_s = FIRST_PAUSE_S
        pause, self._next_s = self._next_s, min(2 * self._next_s, LONGEST_PAUSE_S)
        return pause


class Part:
    """One process: the web server or the worker.

    Args:
        name: as its log is called.
        words: as a person calls it.
        arguments: of the interpreter, behind ``-m``.
        environment: gives its environment, asked at each start.
        log: the file that it writes to.
        after_death: arguments besides, when it is started after it ended unasked.
        say: tells whoever started Ivrell.
    """

    def __init__(
        self,
        name: str,
        words: str,
        arguments: list[str],
        environment: Callable[[], dict[str, str]],
        log: Path,
        *,
        after_death: tuple[str, ...] = (),
        say: Callable[[str], None] = print,
    ) -> None:
        self.name = name
        self._words = words
        self._arguments = arguments
        self._environment = environment
        self._log = log
        self._after_death = after_death
        self._say = say
        self._pause = Pause()
        self._process: subprocess.Popen[bytes] | None = None
        self._began = self._due = 0.0
        self._died = False

    def start(self, *, died: bool = False) -> None:
        """Start it now; ``died`` says that the one before ended unasked."""
        besides = self._after_death if died else ()
        # What it prints besides its log: what the interpreter says at its end, for the most part.
        printed = self._log.with_suffix(".printed")
        long = printed.exists() and printed.stat().st_size > MOST_BYTES
        with printed.open("wb" if long else "ab") as output:
            self._process = subprocess.Popen(
                [sys.executable, "-m", *self._arguments, *besides],
                env={**self._environment(), "IVRELL_LOG": str(self._log)},
                stdin=subprocess.DEVNULL,
                stdout=output,
                stderr=output,
                start_new_session=True,
                preexec_fn=partial(end_with_parent, signal.SIGTERM),
            )
        self._began = time.monotonic()

    @property
    def ended(self) -> bool:
        """Whether it has ended, or waits to be started again."""
        return self._process is None or self._process.poll() is not None

    def look(self, ready: bool = True) -> None:
        """Start it again where it has ended and its pause is over; not before what it needs is
        ``ready``."""
        now = time.monotonic()
        if self._process is not None and (status := self._process.poll()) is not None:
            self._process = None
            self._died = status != FOR_NOW
            pause = self._pause.after(now - self._began)
            self._due = now + pause
            self._say(
                f"{self._words} ended unexpectedly ({_how(status)}); it is started again in "
                f"{pause:g} s. Its log: {self._log}"
            )
        if self._process is None and ready and now >= self._due:
            self.start(died=self._died)

    def let_go(self) -> None:
        """End it at once, through no fault of its own; it is started again without a pause."""
        if not self.ended and self._process:
            end(self._process)
        self._process, self._died, self._due = None, False, 0.0

    def ask_to_end(self) -> None:
        """Ask it to end in order."""
        if not self.ended and self._process:
            self._process.terminate()

    def wait(self, deadline: float) -> None:
        """Wait for its end, and end it at the deadline (on the monotonic clock)."""
        if self._process is None:
            return
        end(self._process, max(0.1, deadline - time.monotonic()))


def _how(status: int) -> str:
    if status < 0:
        return signal.Signals(-status).name
    return f"exit status {status}"
