"""How far a trial is, in one line that goes when it ends: on a terminal, and in a notebook."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from html import escape
from typing import TYPE_CHECKING, Any, Protocol, Self

if TYPE_CHECKING:
    from rich.console import Console

    from ivrell.core.records.events import TrialEvent

_EVERY_S = 0.5
"""It repaints rarely, so as not to disturb runs."""


class Line(Protocol):
    """Where one line is shown."""

    def show(self, what: str, done: int, total: int) -> None:
        """Say what goes on, and how much of it is done."""

    def __enter__(self) -> Self: ...

    def __exit__(self, *_: object) -> None: ...


class TerminalLine:
    """A line with a bar on standard error; none where that is no terminal.

    Args:
        console: of rich; one on standard error unless given.
    """

    def __init__(self, console: Console | None = None) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
        from rich.progress import TimeElapsedColumn as Elapsed

        console = console or Console(stderr=True)
        self._bars = Progress(
            TextColumn("{task.description}", markup=False),
            BarColumn(),
            MofNCompleteColumn(),
            Elapsed(),
            console=console,
            refresh_per_second=1 / _EVERY_S,
            transient=True,
            disable=not console.is_terminal,
        )
        self._task = self._bars.add_task("", total=None)

    def show(self, what: str, done: int, total: int) -> None:
        self._bars.update(self._task, description=what, completed=done, total=max(total, done))

    def __enter__(self) -> Self:
        self._bars.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._bars.stop()


class NotebookLine:
    """The same below a cell of a notebook, which keeps nothing of it.

    Args:
        display: IPython's function of that name.
    """

    def __init__(self, display: Callable[..., Any]) -> None:
        self._display = display
        self._handle: Any = None

    def show(self, what: str, done: int, total: int) -> None:
        bar = f'<progress value="{done}" max="{max(total, done, 1)}"></progress>'
        self._put(f"{bar} {done} of {max(total, done)} &nbsp; {escape(what)}")

    def _put(self, html: str) -> None:
        shown = {"text/html": html, "text/plain": ""}
        if self._handle is None:
            self._handle = self._display(shown, raw=True, display_id=True)
        else:
            self._handle.update(shown, raw=True)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        if self._handle is not None:
            self._put("")


class Watched:
    """Tells a line what a trial does.

    Args:
        line: where it is told.
        planned: how many runs there are to be.
    """

    def __init__(self, line: Line, planned: int = 0) -> None:
        self.line = line
        self.planned = planned
        self._done = 0

    def listen(self, event: TrialEvent) -> None:
        """Hear what happens."""
        from ivrell.core.records.events import DataProgress, RunEnded, RunStarted

        if isinstance(event, DataProgress):
            self.line.show(f"making {event.table} as {event.form}", event.rows, event.total)
        elif isinstance(event, RunStarted):
            point = ", ".join(f"{knob} {value}" for knob, value in event.point.items())
            what = f"{event.approach}{f' ({point})' if point else ''}"
            self.line.show(what, self._done, self.planned)
        elif isinstance(event, RunEnded) and not (
            event.record.memory_run or event.record.set_aside
        ):
            self._done += 1


@contextmanager
def usual(planned: Callable[[], int]) -> Iterator[Callable[[TrialEvent], None] | None]:
    """What hears a trial where nobody else does: the line of a notebook or of a terminal, or None
    where there is neither."""
    line = _line()
    if line is None:
        yield None
        return
    with line:
        yield Watched(line, planned()).listen


def _line() -> Line | None:
    # Only where it is loaded anyway is this a notebook.
    ipython = sys.modules.get("IPython")
    shell = ipython.get_ipython() if ipython is not None else None
    if shell is not None and hasattr(shell, "kernel"):
        from importlib import import_module

        return NotebookLine(import_module("IPython.display").display)
    return TerminalLine() if sys.stderr is not None and sys.stderr.isatty() else None
