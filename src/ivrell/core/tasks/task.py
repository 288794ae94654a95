"""A run as the process sees it that does it. Standard library only.

What the worker needs for an approach in Python can be read by other interpreters too, from
Python 3.9 on.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pyarrow as pa

Stage = Callable[[str], contextlib.AbstractContextManager[None]]
"""``with stage("read"):`` names a part of the timed run."""


@dataclass(frozen=True)
class Job:
    """One run as the worker sees it.

    Attributes:
        approach: fields of the approach, as in the comparison file.
        tables: path of each table in the form the approach asked for, or paths of its parts.
        knobs: value of each knob at this point.
        folder: the run's own working folder.
        threads: how many threads its libraries may use, or None for their own choice.
        database: where tables are loaded: ``place`` (a file; ``pristine`` is the one that it
            was copied from where the approach writes) or ``address`` (a connection string);
            empty for forms that are files.
        service: address of the remote service, for approaches that ask one.
        styles: how each table's csv is written, see CsvStyle; empty for other forms.
        shapes: of each table its ``rows`` and its Arrow ``schema`` in hexadecimal digits, for
            engines that lay tables out themselves.
    """

    approach: Mapping[str, Any]
    tables: Mapping[str, str | list[str]]
    form: str
    knobs: Mapping[str, Any]
    folder: Path
    threads: int | None = None
    database: Mapping[str, str] = field(default_factory=dict)
    service: str = ""
    styles: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    shapes: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)


ARROW = ".answer.arrow"
"""The file in a run's folder that its answer is handed over in."""


class ApproachFailed(Exception):
    """The approach's own code failed, with the line of it where that is known."""

    def __init__(self, kind: str, message: str, line: int | None = None, trace: str = "") -> None:
        super().__init__(message)
        self.kind = kind
        self.message = message
        self.line = line
        self.trace = trace


@dataclass(frozen=True)
class Counted:
    """What an engine counted during one call, or several.

    Attributes:
        values: figures by plain names.
        unknown: names of figures that could not be told apart from other work, each with the
            reason.
    """

    values: Mapping[str, float] = field(default_factory=dict)
    unknown: Mapping[str, str] = field(default_factory=dict)


class Task:
    """An approach made ready to run in this process; engines say how."""

    sets_up_each = False
    """Whether something is to be set up before each call."""

    hands_over_as_is = True
    """Whether ``hand_over`` only makes a table of the answer, reading nothing more."""

    renews = False
    """Whether each call after the first needs a fresh session or its tables as they were; such
    calls are timed one by one."""

    def renew(self, restore: Callable[[], None]) -> None:
        """Bring session and tables back to what the first call found; outside the clock.

        ``restore`` has whoever started the run put a server's tables back, and returns when they
        are; no session may be open on them then.
        """

    def before_each(self) -> None:
        """Set up for one call; outside the clock."""

    def run(self, stage: Stage) -> object:
        """Produce the whole answer; called between two readings of the clock."""
        raise NotImplementedError

    def run_many(self, stage: Stage, times: int) -> object:
        """The same several times with as little between as can be; the last answer."""
        answer: object = None
        for _ in range(times):
            answer = self.run(stage)
        return answer

    def explained(self) -> list[dict[str, Any]]:
        """Run once and tell how: a statement's ``text``, the ``line`` it starts on and its
        ``plan`` (see explain.Step), or None for one that has none.

        Raises ApproachFailed where the engine has no plans to tell.
        """
        raise ApproachFailed("no plan", "Only engines of SQL tell how they carry out an approach.")

    def hand_over(self, answer: object) -> pa.Table:
        """The answer as an Arrow table; untimed."""
        from ivrell.core.tasks.answers import to_arrow

        return to_arrow(answer)

    def counted(self) -> Counted:
        """What the engine counted since ``before_each``; asked after the clock has stopped."""
        return Counted()

    def threads(self) -> dict[str, int]:
        """What the engine says of the threads that it works with."""
        return {}

    def engine_process(self) -> str:
        """Name of a child process that does the work in this one's stead: then its CPU time and
        memory are the run's, and this process's own are told apart. "" where there is none."""
        return ""

    def close(self) -> None:
        """Let go of everything."""
