"""What a program and Ivrell say to each other in lines, for any language that can print.

The program prints, each on a line of its own and at once (flushed):

``::ready``
    once it is set up, where it is kept for several calls;
``::stage read``
    where a part of a call begins, which lasts until the next one or the end;
``::done``
    at the end of a call, where it is kept.

A program that is kept reads a line from its standard input before each call, and ends where there
is none. What else it prints is the answer; that of the last call counts. Times are Ivrell's own:
when a line came, not when a program says that it was. Standard library only.
"""

import subprocess
from contextlib import AbstractContextManager, ExitStack
from pathlib import Path
from typing import IO

from ivrell.core.measure.proc import cpu_of, descendants
from ivrell.core.tasks.task import ApproachFailed, Stage

READY, STAGE, DONE = b"::ready", b"::stage", b"::done"
_CALL = b"call\n"
_KEPT = 4000
_ENDS_S = 5.0
_FIRST = "program"


def ended(argv: list[str], status: int, said: bytes) -> ApproachFailed:
    """What is told of a program that ended with a status other than nought."""
    words = said.decode("utf-8", "replace")[-_KEPT:].strip()
    return ApproachFailed("program failed", f"{argv[0]} ended with status {status}. {words}")


class Lines:
    """A program that tells of itself in lines.

    Args:
        argv: its command line.
        folder: where it works.
        given: the file that is its standard input.
        calls: whether it is kept for several calls; then it is started now, and set up when this
            returns.

    Raises ApproachFailed where it ends before it is set up.
    """

    def __init__(self, argv: list[str], folder: Path, given: Path | None, *, calls: bool) -> None:
        self._argv, self._folder, self._given, self._calls = argv, folder, given, calls
        self._errors = folder / ".said"
        self._program: subprocess.Popen[bytes] | None = None
        if calls:
            self._program = self._started(subprocess.PIPE)
            for line in self._said(self._program):
                if line.strip() == READY:
                    return
            raise self._failure(self._program, "before it printed ::ready")

    def _started(self, given: int | IO[bytes] | None) -> "subprocess.Popen[bytes]":
        with self._errors.open("wb") as errors:
            return subprocess.Popen(
                self._argv,
                cwd=self._folder,
                stdin=given,
                stdout=subprocess.PIPE,
                stderr=errors,
            )

    def call(self, stage: Stage, out: Path | None) -> None:
        """One call; what it prints besides goes to ``out`` where that is given. Raises
        ApproachFailed."""
        with ExitStack() as opened:
            answer = opened.enter_context(out.open("wb")) if out else None
            if self._calls:
                assert self._program and self._program.stdin
                try:
                    self._program.stdin.write(_CALL)
                    self._program.stdin.flush()
                except OSError:
                    raise self._failure(self._program, "between two calls") from None
                self._listen(self._program, stage, answer)
                return
            given = opened.enter_context(self._given.open("rb")) if self._given else None
            program = self._program = self._started(given)
            self._listen(program, stage, answer)
            if program.wait():
                raise self._failure(program, "")

    def _listen(
        self, program: "subprocess.Popen[bytes]", stage: Stage, answer: IO[bytes] | None
    ) -> None:
        part: AbstractContextManager[None] = stage(_FIRST)
        part.__enter__()
        try:
            for line in self._said(program):
                if not line.startswith(b"::"):
                    if answer:
                        answer.write(line)
                elif line.startswith(STAGE):
                    part.__exit__(None, None, None)
                    name = line[len(STAGE) :].strip().decode("utf-8", "replace")
                    part = stage(name or _FIRST)
                    part.__enter__()
                elif self._calls and line.strip() == DONE:
                    return
                elif answer:
                    answer.write(line)
        finally:
            part.__exit__(None, None, None)
        if self._calls:
            raise self._failure(program, "before it printed ::done")

    def living_cpu(self) -> float:
        """CPU seconds of the program and of those below it, while it lives."""
        program = self._program
        if program is None or program.returncode is not None:
            return 0.0
        return sum(cpu_of(pid).total for pid in (program.pid, *descendants(program.pid)))

    @staticmethod
    def _said(program: "subprocess.Popen[bytes]") -> IO[bytes]:
        assert program.stdout
        return program.stdout

    def _failure(self, program: "subprocess.Popen[bytes]", when: str) -> ApproachFailed:
        status = program.wait()
        said = self._errors.read_bytes()
        if status or not when:
            return ended(self._argv, status, said)
        return ApproachFailed("program ended", f"{self._argv[0]} ended {when}.")

    def close(self) -> None:
        """Let a program that is kept end by itself, and end it where it does not."""
        if not self._calls or not self._program or not self._program.stdin:
            return
        self._program.stdin.close()
        try:
            self._program.wait(_ENDS_S)
        except subprocess.TimeoutExpired:
            self._program.kill()
            self._program.wait()
