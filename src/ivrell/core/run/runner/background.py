"""A declared background load beside a run. Standard library only.

Started before a run's clock and stopped after it, as processes of their own beside the run's
tree, so that none of it is counted as the run's.
"""

import os
import signal
import subprocess
import sys
from pathlib import Path
from typing import Self

from ivrell.core.base.waits import end
from ivrell.core.records.loads import QUIET as QUIET
from ivrell.core.records.loads import loads_in


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

    @property
    def complete(self) -> bool:
        """Whether all of it still runs."""
        return all(process.poll() is None for process in self._processes)

    def __exit__(self, *_: object) -> None:
        for process in self._processes:
            process.kill()
        for process in self._processes:
            end(process)
        self._file.unlink(missing_ok=True)


def _die_with_parent() -> None:
    import ctypes

    ctypes.CDLL(None).prctl(1, signal.SIGKILL, 0, 0, 0)
    if os.getppid() == 1:
        os._exit(1)
