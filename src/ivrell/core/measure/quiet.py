"""Whether the machine is quiet at this moment: nothing else runs, and its host takes no core."""

import time

from ivrell.core.measure import proc

_LOOKS = 5
_BETWEEN_S = 0.002
_STEAL_TICKS = 1


class QuietMoment:
    """Tells whether nothing but who asks is running now; asking takes some 10 ms."""

    def __init__(self) -> None:
        self._stolen = proc.stolen_seconds()
        self._at = time.monotonic()

    def __call__(self) -> bool:
        """Whether most of a few looks saw nothing else ready to run, and the host took hardly
        anything since the last call. True where the system does not tell."""
        others = 0
        for _ in range(_LOOKS):
            running = proc.running_tasks()
            # Who asks is running itself.
            others += running is not None and running > 1
            time.sleep(_BETWEEN_S)
        return not self._was_stolen() and 2 * others < _LOOKS

    def _was_stolen(self) -> bool:
        now, at = proc.stolen_seconds(), time.monotonic()
        before, self._stolen = self._stolen, now
        since, self._at = at - self._at, at
        if now is None or before is None:
            return False
        return (now - before) > max(_STEAL_TICKS / proc.TICKS, 0.05 * since)
