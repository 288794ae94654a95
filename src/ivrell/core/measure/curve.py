"""CPU and memory over the time of a run, in a bounded number of points."""

from dataclasses import dataclass, field

MOST_POINTS = 600


@dataclass
class Curve:
    """Samples ``(t_s, cpu_s, memory_bytes)``; thinned by pairs when there are too many.

    Of a pair the later time and CPU are kept and the larger memory, so that a peak once
    seen is never thinned away.
    """

    points: list[tuple[float, float, int]] = field(default_factory=list)
    _keep_every: int = 1
    _pending: list[tuple[float, float, int]] = field(default_factory=list)

    def add(self, t: float, cpu: float, memory: int) -> None:
        """Add a sample: seconds since the start, CPU seconds since then, bytes held."""
        self._pending.append((t, cpu, memory))
        if len(self._pending) < self._keep_every:
            return
        self.points.append(_joined(self._pending))
        self._pending = []
        if len(self.points) >= MOST_POINTS:
            pairs = [self.points[i : i + 2] for i in range(0, len(self.points), 2)]
            self.points = [_joined(pair) for pair in pairs]
            self._keep_every *= 2

    def finished(self) -> list[tuple[float, float, int]]:
        """All kept points, with those still waiting to be joined."""
        return self.points + ([_joined(self._pending)] if self._pending else [])


def _joined(samples: list[tuple[float, float, int]]) -> tuple[float, float, int]:
    return samples[-1][0], samples[-1][1], max(memory for _, _, memory in samples)
