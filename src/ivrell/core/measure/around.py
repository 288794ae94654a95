"""What others had of the cores around a timed part that is too short for the kernel's ticks.

Standard library only: the runner uses this.
"""

import time

from ivrell.core.measure import proc
from ivrell.core.measure.reading import Tree

SHORT_S = 0.05
"""A timed part shorter than this is fewer than five ticks, which tell nothing of it."""

WINDOW_S = 0.08
"""What is looked at instead: from where the part begins, so long at the least."""

_UNSURE_S = 0.02
"""Of CPU time in so many ticks, two may be another's."""


class Around:
    """A look that begins with a timed part; ``others`` tells what others had since then.

    Args:
        tree: of the run.
        client: the process that drives it, where that is none of the tree.
    """

    def __init__(self, tree: Tree, client: int | None) -> None:
        self._tree = tree
        self._client = client
        self._at = time.monotonic()
        self._busy = proc.busy_seconds()
        self._used = self._cpu()

    @property
    def lacks_s(self) -> float:
        """Seconds until it is long enough to tell."""
        return max(0.0, self._at + WINDOW_S - time.monotonic())

    def others(self) -> float | None:
        """How many cores others kept busy since, as far as that is sure; None where it is not
        told, or was too short a time."""
        busy = proc.busy_seconds()
        if busy is None or self._busy is None or self.lacks_s > 0:
            return None
        others = busy - self._busy - (self._cpu() - self._used) - _UNSURE_S
        return max(0.0, others) / (time.monotonic() - self._at)

    def _cpu(self) -> float:
        """CPU seconds of the run's tree until now, and of who drives and watches it."""
        tree = self._tree
        own = time.process_time() + tree.server_cpu().total
        if self._client is not None:
            own += proc.cpu_of(self._client).total
        grouped = tree.group.cpu() if tree.group else None
        if grouped is not None:
            return own + grouped.total
        living = sum(proc.cpu_of(pid).total for pid in (tree.worker, *tree.others()))
        return own + living + tree.reaped.total
