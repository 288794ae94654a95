"""Those who watch a trial: what they may ask for, and what they hear."""

from collections.abc import Callable
from typing import Protocol

from ivrell.core.records.events import TrialEvent


class Control(Protocol):
    """What the person who watches may ask for while a trial goes on."""

    def stop_all(self) -> bool:
        """Whether the trial is to end now."""

    def stop_run(self, number: int) -> bool:
        """Whether the run of that number is to end now."""

    def dropped(self) -> set[str]:
        """Lanes that are to run no more."""

    def between_runs(self) -> None:
        """Called before each run; the trial waits until it returns, and what it takes is no time
        of the trial's."""


class NoControl:
    """Nobody asks for anything."""

    def stop_all(self) -> bool:
        return False

    def stop_run(self, number: int) -> bool:
        return False

    def dropped(self) -> set[str]:
        return set()

    def between_runs(self) -> None:
        pass


Listener = Callable[[TrialEvent], None]
"""Called with what happens in a trial."""


def ignore_event(event: TrialEvent) -> None:
    """Hears nothing."""
