"""Drivers of Ivrell's own work in Spark: a sandboxed process each, asked and answering by files."""

import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from ivrell.core.base.folders import data_folder
from ivrell.core.base.temp_dirs import scratch
from ivrell.core.base.waits import end
from ivrell.core.contain.calls import Filter, compiled
from ivrell.core.contain.environment import scrubbed_environment
from ivrell.core.contain.sandbox import OURS, Sandbox, give, why_not
from ivrell.core.spark.places import At

ASKED, SAID = "asked.json", "said.json"
_LOG = "driver.log"
_POLL_S = 0.2
_MOST_BYTES = 64 << 20


class DriverFailed(Exception):
    """A driver said nothing that can be read; the message says why."""


@contextmanager
def driver_folder() -> Iterator[Path]:
    """A folder for one driver, gone with the block."""
    with scratch() as outer:
        folder = outer / "driver"
        (folder / "tmp").mkdir(parents=True)
        yield folder


def driven(
    module: str,
    asked: str,
    at: At,
    folder: Path,
    *,
    inputs: Iterable[str] = (),
    writable: Iterable[str] = (),
    seconds: float,
    poll: Callable[[], None] | None = None,
) -> bytes:
    """Run a module as a driver, which finds what is asked in its folder and leaves what it says.

    Args:
        module: run as ``python -m``, with the folder as its argument.
        asked: for it, as JSON.
        at: where its session is.
        inputs, writable: places of this machine that it reads and writes to.
        seconds: that it may take.
        poll: called now and then while it works; what it raises ends the driver.

    Returns what it said. Raises DriverFailed.
    """
    (folder / ASKED).write_text(asked)
    command = [sys.executable, "-m", module, str(folder)]
    if why_not() is None:
        give(folder)
        sandbox = Sandbox(
            folder, compiled(Filter.RUN), ours=OURS, inputs=tuple(inputs),
            hidden=(str(data_folder()),), network=at.network, beside=at.beside,
            writable=tuple(writable),
        )  # fmt: skip
        command = sandbox.around(command)
    deadline = time.monotonic() + seconds
    with (folder / _LOG).open("wb") as log:
        process = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=log, stderr=log, cwd=folder,
            env=scrubbed_environment(folder), start_new_session=True,
        )  # fmt: skip
        try:
            while process.poll() is None:
                if time.monotonic() > deadline:
                    raise DriverFailed(f"that took more than {seconds:.0f} s")
                if poll:
                    poll()
                time.sleep(_POLL_S)
        finally:
            end(process)
    return _said(folder)


def _said(folder: Path) -> bytes:
    try:
        with open(folder / SAID, "rb", opener=_no_link) as file:
            said = file.read(_MOST_BYTES + 1)
    except OSError:
        lines = (folder / _LOG).read_text(errors="replace").strip().splitlines()
        raise DriverFailed(_last_words(lines)) from None
    if len(said) > _MOST_BYTES:
        raise DriverFailed("what was said is too long")
    return said


def _no_link(path: str, flags: int) -> int:
    return os.open(path, flags | os.O_NOFOLLOW)


def _last_words(lines: list[str]) -> str:
    """The line of a trace that names the error, not the last of the JVM's."""
    named = [line for line in lines if line and not line[0].isspace() and ": " in line]
    found = (named or lines or ["the process said nothing"])[-1]
    return found.removeprefix(": ")[:600]
