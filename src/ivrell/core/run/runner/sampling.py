"""What a run's tree uses and holds while it goes on, looked at again and again. Standard library
only."""

import time

from ivrell.core.contain.sandbox import held_in_memory
from ivrell.core.measure import proc, proportional
from ivrell.core.measure.curve import Curve
from ivrell.core.measure.proc import Cpu
from ivrell.core.measure.reading import Reading, Tree
from ivrell.core.run.runner.bounds import tree_memory

_HELD_BYTES = 1 << 20
_LEAST_GAP_S = 0.05


class Sampler:
    """Samples of one run.

    Args:
        tree: the run's processes.
        memory_alone: whether memory is looked at closely at every turn, whatever time that costs.

    Attributes:
        curve: samples of the first timed part.
        memory: bytes held when it was last looked.
        cpu: CPU seconds since the clock started.
        processes: how many there are.
        most_threads: that were seen at once.
        single: whether no other process than the worker was seen in this part.
        peak: the most bytes that were seen in this part.
        server_peak: the most that a server's processes held above their start.
    """

    def __init__(self, tree: Tree, *, memory_alone: bool) -> None:
        self.tree = tree
        self.curve = Curve()
        self.memory = self.peak = self.server_peak = 0
        self.cpu = 0.0
        self.processes = 1
        self.most_threads = 0
        self.single = True
        self.start_closely = self.most_unmapped = self._unmapped_before = 0
        self._memory_alone = memory_alone
        self._closely_at = 0.0
        self._reading: Reading | None = None
        self._cores = proc.core_times()

    @property
    def reading(self) -> Reading:
        """The counters at the start of the timed part."""
        assert self._reading
        return self._reading

    def begin(self) -> None:
        """A timed part begins now."""
        self.single = True
        self.peak = self.server_peak = self.most_unmapped = 0
        self._reading = Reading(self.tree)
        self.start_closely = 0
        if self._memory_alone:
            pids = [self.tree.worker, *self.tree.children()]
            self.start_closely = proportional.sum_of(pids, self.tree.group)

    def sample(self, since: float, *, drawn: bool) -> None:
        """Look at all of it, ``since`` seconds after the start; ``drawn`` adds it to the curve."""
        reading = self.reading
        used = self.tree.reaped.total - reading.reaped.total
        used += proc.cpu_of(self.tree.worker).total - reading.worker_cpu.total
        children = self.tree.children()
        for pid in children:
            used += proc.cpu_of(pid).total
            used -= reading.before.get(pid, Cpu()).total
        self.processes = 1 + len(children)
        self.memory, threads = self.tree.memory(children)
        if self._memory_alone:
            self.memory = proportional.sum_of([self.tree.worker, *children], self.tree.group)
        self.peak = max(self.peak, self.memory)
        if self.tree.server is not None:
            used += (self.tree.server_cpu() - reading.server_cpu).total
            by_server = self.tree.server_memory() - reading.server_memory
            self.server_peak = max(self.server_peak, by_server)
            self.memory += max(0, by_server)
        if children:
            self.single = False
        self.most_threads = max(self.most_threads, threads)
        self.cpu = max(0.0, used)
        if drawn:
            self.curve.add(since, self.cpu, self.memory)

    def glance(self) -> None:
        """Look at memory and number of processes alone."""
        children = self.tree.children()
        self.processes = 1 + len(children)
        self.memory = tree_memory(self.tree.worker, children)

    def look_closely(self, now: float, limit: int) -> None:
        """Before a tree is held to have reached its memory limit: pages that its processes share
        count once only. Such a look takes milliseconds, so it is not taken at every turn."""
        if self.memory <= limit or self.processes <= 1:
            return
        if now < self._closely_at:
            self.memory = min(self.memory, limit)
            return
        began = time.monotonic()
        pids = [self.tree.worker, *self.tree.children()]
        self.memory = sum(map(proportional.proportional, pids))
        if self.tree.server is not None and self._reading:
            self.memory += max(0, self.tree.server_memory() - self._reading.server_memory)
        # The nearer it is to the limit the sooner another look, a twentieth of the time at most.
        self._closely_at = now + max(20 * (time.monotonic() - began), _LEAST_GAP_S)

    def add_unmapped(self) -> None:
        """Add files in the memory of a sandboxed run that no process of it maps."""
        unmapped = self._unmapped()
        self.memory += unmapped
        self.most_unmapped = max(self.most_unmapped, unmapped - self._unmapped_before)

    def note_unmapped(self) -> None:
        """Such files that are there as a timed part begins are none of its."""
        self._unmapped_before = self._unmapped()

    def _unmapped(self) -> int:
        """Bytes of files in the sandbox's places of memory and of those that lie in no folder,
        besides what of them processes map, which counts with them."""
        pids = (self.tree.worker, *self.tree.children())
        held = held_in_memory(self.tree.worker) + proc.memory_files(pids)
        if held < _HELD_BYTES:
            return 0
        return max(0, held - sum(state.shared for pid in pids if (state := proc.status(pid))))

    def busy(self) -> list[float]:
        """How busy each core of the machine was since this was last asked, from 0 to 1."""
        before, self._cores = self._cores, proc.core_times()
        return [
            round((b1 - b0) / (a1 - a0), 3) if a1 > a0 else 0.0
            for (b0, a0), (b1, a1) in zip(before, self._cores, strict=True)
        ]
