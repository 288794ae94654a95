"""Starting a worker: its pipes, its control group, its hard limits, its sandbox. Standard library
only."""

import ctypes
import fcntl
import json
import mmap
import os
import signal
import subprocess
from dataclasses import dataclass
from pathlib import Path

from ivrell.core.contain.sandbox import FIRST_FREE_FD, Sandbox, give
from ivrell.core.measure.group import RunGroup
from ivrell.core.records.wire import RunSpec
from ivrell.core.run.runner.bounds import set_hard_limits
from ivrell.core.run.stages import BOARD_BYTES

_PR_SET_PDEATHSIG = 1
_SEALS = fcntl.F_SEAL_SHRINK | fcntl.F_SEAL_GROW | fcntl.F_SEAL_SEAL
_WORKER = Path(__file__).parents[1] / "worker" / "main.py"


def prctl(option: int, value: int) -> None:
    """Set a property of this process; see prctl(2)."""
    if ctypes.CDLL(None, use_errno=True).prctl(option, value, 0, 0, 0):
        raise OSError(ctypes.get_errno(), "prctl")


@dataclass(frozen=True)
class Spawned:
    """A worker that was started.

    Attributes:
        child: the process that was started: the worker, or its sandbox.
        group: its control group, where there can be one.
        board: the page of memory that shows the current stage.
        events: descriptor that its events come from.
        printed: descriptor that what it prints comes from.
        words: descriptor that words to it go to.
    """

    child: int
    group: RunGroup | None
    board: mmap.mmap
    events: int
    printed: int
    words: int

    def say(self, word: str) -> None:
        """Tell the worker something."""
        try:
            os.write(self.words, word.encode() + b"\n")
        except BrokenPipeError:
            # It closed its end; that it gives no answer will be told by its end.
            pass

    def close(self) -> None:
        """Let go of descriptors and group once it has ended."""
        for fd in (self.events, self.printed, self.words):
            os.close(fd)
        if self.group:
            self.group.remove()


def _high(fd: int) -> int:
    """The same descriptor with a number that the shell before a sandbox has no use for."""
    other = fcntl.fcntl(fd, fcntl.F_DUPFD_CLOEXEC, FIRST_FREE_FD)
    os.close(fd)
    return other


def spawn(spec: RunSpec) -> Spawned:
    """Start the worker of a run, in its group, within its hard limits, in its sandbox."""
    folder = spec.order.job.folder
    (folder / "tmp").mkdir(parents=True, exist_ok=True)
    job_path = folder / ".job.json"
    job_path.write_text(json.dumps(spec.order.as_json()))
    board_fd = _high(os.memfd_create("ivrell-stage", os.MFD_CLOEXEC | os.MFD_ALLOW_SEALING))
    os.ftruncate(board_fd, BOARD_BYTES)
    # Cut shorter by the run, it would end whoever reads it.
    fcntl.fcntl(board_fd, fcntl.F_ADD_SEALS, _SEALS)
    board = mmap.mmap(board_fd, BOARD_BYTES)
    events, events_end = os.pipe()
    words_end, words = os.pipe()
    events_end, words_end = _high(events_end), _high(words_end)
    printed, printed_end = os.pipe()
    limits = spec.limits
    group = RunGroup.make(f"ivrell-{os.getpid()}-{spec.run}", limits.processes, limits.memory_bytes)
    ends = (events_end, words_end, board_fd)
    command = [spec.interpreter, "-u", str(_WORKER), str(job_path), *map(str, ends)]
    if walls := spec.walls:
        give(folder)
        sandbox = Sandbox(
            folder,
            walls.calls,
            ours=tuple(walls.ours),
            inputs=tuple(walls.inputs),
            hidden=tuple(walls.hidden),
            network=walls.network,
            beside=walls.beside,
            writable=tuple(walls.writable),
        )
        command = sandbox.around(command)

    def enter() -> None:
        """In the child, before the worker is loaded."""
        prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
        if spec.cores:
            os.sched_setaffinity(0, spec.cores)
        if group:
            group.join()
        set_hard_limits(spec.limits)()

    process = subprocess.Popen(
        command,
        stdin=subprocess.DEVNULL,
        stdout=printed_end,
        stderr=printed_end,
        cwd=folder,
        env=spec.environment,
        pass_fds=ends,
        start_new_session=True,
        preexec_fn=enter,
    )
    # Reaped by wait4 alone, so that its usage is not lost to Popen.
    process.returncode = 0
    for fd in (events_end, words_end, printed_end, board_fd):
        os.close(fd)
    return Spawned(process.pid, group, board, events, printed, words)
