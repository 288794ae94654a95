"""A declared background load: busy cores, memory traffic, disk traffic. Standard library only.

Started before a run's clock and stopped after it, as processes of their own beside the run's
tree, so that none of it is counted as the run's.
"""

import os
import re
import signal
import subprocess
import sys
from pathlib import Path
from typing import Self

QUIET = "quiet"
KNOWN = (QUIET, "1 busy core", "2 busy cores", "memory", "disk")
"""Loads to choose from; more cores and several at once can be written."""

_WORDS = re.compile(r"(?:(\d+) busy cores?|memory|disk)")
_CORE = "while True: pass"
_MEMORY = """
block = bytearray(256 << 20)
while True:
    block[:128 << 20] = block[128 << 20:]
"""
_DISK = """
import os, sys
with open(sys.argv[1], "wb", buffering=0) as file:
    while True:
        file.seek(0)
        for _ in range(64):
            file.write(bytes(1 << 20))
        os.fsync(file.fileno())
"""


def loads_in(text: str) -> list[str]:
    """Programs of a load such as ``"1 busy core"``, ``"memory"`` or ``"2 busy cores, disk"``.

    Raises ValueError for words that name no load.
    """
    if text == QUIET:
        return []
    found: list[str] = []
    for word in text.split(","):
        named = _WORDS.fullmatch(word.strip())
        if not named:
            raise ValueError(
                f'"{word.strip()}" is no background load; write "quiet", "1 busy core", "memory", '
                '"disk", or several with commas between'
            )
        if named[1]:
            found += [_CORE] * int(named[1])
        else:
            found.append(_MEMORY if word.strip() == "memory" else _DISK)
    return found


class Background:
    """A load that runs as long as the context."""

    def __init__(self, text: str, folder: Path) -> None:
        self._programs = loads_in(text)
        self._file = folder / ".traffic"
        self._processes: list[subprocess.Popen[bytes]] = []

    def __enter__(self) -> Self:
        for program in self._programs:
            self._processes.append(
                subprocess.Popen(
                    [sys.executable, "-I", "-S", "-c", program, str(self._file)],
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                    preexec_fn=_die_with_parent,
                )
            )
        return self

    @property
    def pids(self) -> set[int]:
        """Its processes."""
        return {process.pid for process in self._processes}

    def __exit__(self, *_: object) -> None:
        for process in self._processes:
            process.kill()
        for process in self._processes:
            process.wait()
        self._file.unlink(missing_ok=True)


def _die_with_parent() -> None:
    import ctypes

    ctypes.CDLL(None).prctl(1, signal.SIGKILL, 0, 0, 0)
    if os.getppid() == 1:
        os._exit(1)
