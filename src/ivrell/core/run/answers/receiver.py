"""Taking over what runs hand over, by a process that looks at it first."""

import json
import logging
import os
import re
import select
import stat
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Self

from ivrell.core.base.errors import BadInput, Stopped
from ivrell.core.base.folders import data_folder
from ivrell.core.base.waits import end
from ivrell.core.contain.calls import Filter, compiled
from ivrell.core.contain.environment import scrubbed_environment
from ivrell.core.contain.sandbox import OURS, Sandbox, as_root, give
from ivrell.core.tasks.task import ARROW

log = logging.getLogger("ivrell.trial")
_START_S = 60.0
_ASK_EVERY_S = 0.25
_OWN_BYTES = 1 << 30
"""What the process needs for itself, besides an answer."""


_LONGEST = 1 << 16
_PRINT = re.compile("[0-9a-f]{32}")


def _read(line: bytes) -> object:
    try:
        return json.loads(line)
    except (ValueError, RecursionError):
        return None


def _own(path: Path) -> None:
    """Make a file Ivrell's own: whoever wrote it has ended. Raises NotReceived where it is no
    plain file, or one that has a second name."""
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    except OSError as error:
        raise NotReceived(f"it is no plain file: {error.strerror}") from None
    try:
        state = os.fstat(handle)
        if not stat.S_ISREG(state.st_mode) or state.st_nlink != 1:
            raise NotReceived("what was handed over is no plain file")
        os.fchmod(handle, 0o600)
        if as_root():
            os.fchown(handle, 0, 0)
    finally:
        os.close(handle)


@dataclass(frozen=True)
class Received:
    """An answer that was looked at: its Arrow file, its fingerprint, its rows; ``parts`` is where
    the rows are that it only tells of, a folder or an address, "" where it holds them itself."""

    path: Path
    fingerprint: str
    rows: int
    parts: str = ""


class NotReceived(Exception):
    """What was handed over is no answer; the message says why."""


class AnswerReceiver:
    """PreviewPool at answers in a process of its own, which is started anew when one ends it.

    Args:
        scratch: the folder that runs' folders lie in.
        memory_bytes: the most memory that an answer may take to read.
        seconds: the longest that looking at one may take.
        sandboxed: whether the process is to be in a sandbox.
    """

    def __init__(
        self, scratch: Path, memory_bytes: int, seconds: float, *, sandboxed: bool
    ) -> None:
        self._scratch = scratch
        self._folder = scratch / "desk"
        self._log = scratch / "desk.log"
        self._memory = memory_bytes + _OWN_BYTES
        self._seconds = seconds
        self._sandboxed = sandboxed
        self._process: subprocess.Popen[bytes] | None = None
        self._ready = False
        (self._folder / "tmp").mkdir(parents=True, exist_ok=True)
        give(self._folder)
        self._start()

    def _start(self) -> None:
        command = [sys.executable, "-m", "ivrell.core.run.answers.process", str(self._memory)]
        if self._sandboxed:
            sandbox = Sandbox(
                self._folder,
                compiled(Filter.RUN),
                ours=OURS,
                inputs=(str(self._scratch),),
                hidden=(str(data_folder()),),
            )
            command = sandbox.around(command)
        self._ready = False
        with self._log.open("wb") as log:
            self._process = subprocess.Popen(
                command,
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=log,
                cwd=self._folder,
                env={**scrubbed_environment(self._folder), "OPENBLAS_NUM_THREADS": "1"},
                start_new_session=True,
            )

    def wait_until_ready(self, wanted_stop: Callable[[], bool] = lambda: False) -> None:
        """Wait until the process has loaded what it needs. Raises BadInput where it cannot, Stopped
        when ``wanted_stop`` says so meanwhile."""
        if not self._ready:
            began = time.monotonic()
            told = self._told(_START_S, wanted_stop)
            if told is None and time.monotonic() - began < _START_S:
                # Somebody ended it while it loaded.
                self._start()
                told = self._told(_START_S, wanted_stop)
            if told is None:
                said = self._log.read_text(errors="replace").strip()[-500:]
                raise BadInput(
                    f"The process that looks at answers did not start: {said or 'it said nothing'}",
                    hint="Run ./ivrell machine to see whether the sandbox works here; on the "
                    "command line --no-sandbox goes without it.",
                )
            self._ready = True

    def take(self, folder: Path, most_bytes: int, wanted_stop: Callable[[], bool]) -> Received:
        """Look at the answer that a run left in its folder; its file is Ivrell's own afterwards.

        Raises NotReceived where there is none that can be read, Stopped when ``wanted_stop``
        says so meanwhile.
        """
        made = self._folder / f"{folder.name}.arrow"
        asked = {"folder": str(folder), "made": str(made), "most_bytes": most_bytes}
        began = time.monotonic()
        told = self._asked(asked, wanted_stop)
        if told is None and time.monotonic() - began < self._seconds:
            # Somebody else may have ended the process: what an answer does, it does twice.
            told = self._asked(asked, wanted_stop)
        if told is None:
            raise NotReceived("looking at it ended the process that did so, or took too long")
        if "wrong" in told:
            raise NotReceived(str(told["wrong"]))
        path = made if told.get("made") is True else folder / ARROW
        print_, rows = told.get("fingerprint"), told.get("rows")
        # What was looked at may have taken the process over: nothing that it says leads anywhere.
        if not (isinstance(print_, str) and _PRINT.fullmatch(print_) and type(rows) is int):
            raise NotReceived("what was said of it is not what a look at it gives")
        _own(path)
        return Received(path, print_, rows)

    def _asked(
        self, asked: dict[str, object], wanted_stop: Callable[[], bool]
    ) -> dict[str, Any] | None:
        """What the process says of an answer; None where it ended, or took too long."""
        if self._process is not None and self._process.poll() is not None:
            self.close()
        if self._process is None:
            self._start()
        self.wait_until_ready(wanted_stop)
        assert self._process and self._process.stdin
        try:
            self._process.stdin.write(json.dumps(asked).encode() + b"\n")
            self._process.stdin.flush()
        except BrokenPipeError:
            pass
        return self._told(self._seconds, wanted_stop)

    def _told(self, seconds: float, wanted_stop: Callable[[], bool]) -> dict[str, Any] | None:
        """The next line of the process, or None where there comes none: then it is ended."""
        assert self._process and self._process.stdout
        out = self._process.stdout
        deadline = time.monotonic() + seconds
        said = b""
        while time.monotonic() < deadline:
            ready, _, _ = select.select([out], [], [], _ASK_EVERY_S)
            if ready:
                data = os.read(out.fileno(), 1 << 16)
                said += data
                if said.endswith(b"\n") and isinstance(told := _read(said), dict):
                    return told
                if not data or said.endswith(b"\n") or len(said) > _LONGEST:
                    break
            elif wanted_stop():
                self.close()
                raise Stopped("the answer")
        log.warning("the process that looks at answers ended or took too long")
        self.close()
        return None

    def close(self) -> None:
        """End the process."""
        if self._process is None:
            return
        end(self._process)
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe:
                # What could not be written any more is not written now either.
                with suppress(OSError):
                    pipe.close()
        self._process, self._ready = None, False

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
