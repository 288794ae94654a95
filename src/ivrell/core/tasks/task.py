"""A run as the process sees it that does it. Standard library only.

What the worker needs for an approach in Python can be read by other interpreters too, from
Python 3.9 on.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from typing import TYPE_CHECKING

from ivrell.core.records.wire import Counted as Counted
from ivrell.core.records.wire import Job as Job

if TYPE_CHECKING:
    import pyarrow as pa

    from ivrell.core.records.wire import StatementPlan

Stage = Callable[[str], contextlib.AbstractContextManager[None]]
"""``with stage("read"):`` names a part of the timed run."""


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


class Task:
    """An approach made ready to run in this process; engines say how."""

    sets_up_each = False
    """Whether something is to be set up before each call."""

    hands_over_as_is = True
    """Whether ``hand_over`` only makes a table of the answer, reading nothing more."""

    works_on = False
    """Whether processes of the engine's own live on between calls, as those of a session do."""

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

    def explained(self) -> list[StatementPlan]:
        """Run once and tell how each statement was carried out.

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

    def living_cpu(self) -> float:
        """CPU seconds of child processes that live and do the work, where there are such."""
        return 0.0

    def threads(self) -> dict[str, int]:
        """What the engine says of the threads that it works with."""
        return {}

    def engine_process(self) -> str:
        """Name of a child process that does the work in this one's stead: then its CPU time and
        memory are the run's, and this process's own are told apart. "" where there is none."""
        return ""

    def close(self) -> None:
        """Let go of everything."""
