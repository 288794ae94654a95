"""What one timed part used: counters of the run's tree, read when it starts and when it stops.

Standard library only: the runner uses this.
"""

from dataclasses import dataclass, field
from pathlib import Path

from ivrell.core.measure import proc
from ivrell.core.measure.constraints import HostConstraints
from ivrell.core.measure.group import RunGroup, stalled
from ivrell.core.measure.proc import Cpu
from ivrell.core.records.wire import Figures

_GROUP_MARGIN = 1.01
_GROUP_GRAIN_S = 0.003
_PRESSURES = ("cpu", "memory", "io")


@dataclass
class Tree:
    """The processes of one run as its launcher sees them.

    Attributes:
        launcher: the process below which all of the run's processes hang.
        worker: the process that the approach runs in.
        group: the run's control group, where there is one.
        besides: processes below the launcher that are not the run's.
        shell: processes between launcher and worker, such as a sandbox's.
        server: the main process of a server that works for the run alone, if there is one.
        reaped: CPU time of the processes that the launcher has reaped so far.
    """

    launcher: int
    worker: int
    group: RunGroup | None
    besides: set[int] = field(default_factory=set)
    shell: set[int] = field(default_factory=set)
    server: int | None = None
    reaped: Cpu = field(default_factory=Cpu)

    def others(self) -> list[int]:
        """Every process of the run but the worker."""
        found = proc.descendants(self.launcher)
        return [pid for pid in found if pid != self.worker and pid not in self.besides]

    def server_cpu(self) -> Cpu:
        """CPU time of the server's processes, living and ended, since it was started."""
        if self.server is None:
            return Cpu()
        used = proc.cpu_of(self.server)
        for pid in proc.descendants(self.server):
            used = used + proc.cpu_of(pid)
        return used

    def server_memory(self) -> int:
        """Bytes that the server's processes hold for themselves, its shared buffers aside."""
        if self.server is None:
            return 0
        found = (proc.status(pid) for pid in (self.server, *proc.descendants(self.server)))
        return sum(status.private for status in found if status)

    def children(self) -> list[int]:
        """The run's processes but worker and shell, found as cheaply as can be: from its group
        where there is one, since walking a tree of many threads takes many reads."""
        known = self.group.pids() if self.group else None
        found = known if known is not None else self.others()
        return [pid for pid in found if pid != self.worker and pid not in self.shell]

    def memory(self, children: list[int]) -> tuple[int, int]:
        """Bytes held now, and threads: all that the worker holds, and of its children what is
        theirs alone, with what they share counted once."""
        worker = proc.status(self.worker)
        private = shared = 0
        threads = worker.threads if worker else 0
        for pid in children:
            if found := proc.status(pid):
                private += found.private
                shared = max(shared, found.shared - (worker.shared if worker else 0))
                threads += found.threads
        return (worker.resident if worker else 0) + private + shared, threads


class Reading:
    """Counters at the start of a timed part; ``finish`` gives what was used since then."""

    def __init__(self, tree: Tree) -> None:
        self._tree = tree
        # What the preparation left running is charged only with what it uses from here on.
        self.before = {pid: proc.cpu_of(pid) for pid in tree.others()}
        self.reaped = tree.reaped
        self.worker_cpu = proc.cpu_of(tree.worker)
        self._group = tree.group.cpu() if tree.group else None
        self._group_stalled = tree.group.stalled() if tree.group else None
        self._io = proc.disk_io(tree.worker)
        self._waits = proc.waits_for_core(tree.worker)
        self._pressure = _pressure()
        self._busy = proc.busy_seconds()
        self._stolen = proc.stolen_seconds()
        self._held = HostConstraints.now()
        before = proc.status(tree.worker)
        self._peak_was_reset = proc.reset_peak(tree.worker)
        self._status = proc.status(tree.worker) or before
        self.start_memory = self._status.resident if self._status else 0
        self.server_memory = tree.server_memory()
        self.server_cpu = tree.server_cpu()

    def finish(
        self,
        by_worker: Cpu,
        elapsed_s: float,
        at_end: proc.Status | None,
        single: bool,
        server_peak: int = 0,
        set_up: Cpu | None = None,
    ) -> Figures:
        """Figures of the timed part; what is None could not be measured.

        ``by_worker`` is the worker's own account of itself and of children it waited for,
        ``at_end`` its state right after the clock stopped, ``single`` whether the run was that
        one process (of several, which share pages, no memory is told), ``server_peak`` the most
        that the server's processes were seen to hold above their start, ``set_up`` CPU time of
        set-ups between repeated calls, which is no part of them.
        """
        figures = Figures()
        used, method = self._cpu(by_worker, set_up or Cpu())
        served = self._tree.server is not None
        if served:
            by_server = self._tree.server_cpu() - self.server_cpu
            figures.server_cpu_s = by_server.total
            used = used + by_server
            method += "; with all processes of the server"
        if self._busy is not None and (busy := proc.busy_seconds()) is not None:
            figures.others_cpu_s = max(0.0, busy - self._busy - used.total)
        figures.cpu_user_s, figures.cpu_system_s, figures.cpu_method = (
            used.user,
            used.system,
            method,
        )
        if at_end:
            if single and self._peak_was_reset:
                figures.start_memory_bytes = self.start_memory
                figures.peak_memory_bytes = at_end.peak
                figures.memory_method = "kernel high-water mark"
            if served:
                figures.server_memory_bytes = server_peak
            if served and figures.peak_memory_bytes is not None:
                figures.peak_memory_bytes += server_peak
                figures.memory_method = (
                    "kernel high-water mark; with what the server's processes held at most beyond "
                    "their start, sampled, shared buffers aside"
                )
            if self._status:
                figures.context_switches = at_end.switches - self._status.switches
        now = proc.disk_io(self._tree.worker)
        if self._io and now:
            figures.read_bytes = now[0] - self._io[0]
            figures.written_bytes = now[1] - self._io[1]
        figures.run_queue_wait_s = self._waited()
        figures.held_up_s = self._held_up()
        stolen = proc.stolen_seconds()
        if stolen is not None and self._stolen is not None:
            figures.stolen_s = stolen - self._stolen
        held = HostConstraints.now().since(self._held)
        figures.throttled_s, figures.swapped_bytes = held.throttled_s, held.swapped_bytes
        figures.pressure = _pressure_shares(self._pressure, _pressure(), elapsed_s)
        return figures

    def _cpu(self, by_worker: Cpu, set_up: Cpu) -> tuple[Cpu, str]:
        """CPU used, and how it was found.

        The worker's own account is exact but knows only children it waited for; the group
        knows all, but also what the worker used to report. So the group's figure is taken
        when it holds clearly more.
        """
        summed = by_worker + self.of_others()
        after = self._tree.group.cpu() if self._tree.group else None
        if after is None or self._group is None:
            return summed, "sum of the worker and of all processes reaped or alive"
        grouped = after - self._group - set_up
        if grouped.total > summed.total * _GROUP_MARGIN + _GROUP_GRAIN_S:
            return grouped, "control group of the run"
        return summed, "sum over the tree, confirmed by its control group"

    def of_others(self) -> Cpu:
        """CPU of processes that the worker has not waited for: orphans reaped by the launcher,
        and those that still live."""
        used = self._tree.reaped - self.reaped
        for pid in self._tree.others():
            used = used + (proc.cpu_of(pid) - self.before.get(pid, Cpu()))
        for pid, before in self.before.items():
            if not Path(f"/proc/{pid}").exists():
                used = used - before
        return used

    def _waited(self) -> float | None:
        """Seconds that the worker's threads were ready to run without a core, of all together."""
        now = proc.waits_for_core(self._tree.worker)
        if self._waits is None or now is None:
            return None
        return sum(
            max(0.0, waited - self._waits.get(thread, 0.0)) for thread, waited in now.items()
        )

    def _held_up(self) -> float | None:
        """Seconds in which any task of the whole tree was held up for want of a core."""
        after = self._tree.group.stalled() if self._tree.group else None
        if after is None or self._group_stalled is None:
            return None
        return after - self._group_stalled


def _pressure() -> dict[str, float | None]:
    return {kind: stalled(proc.read(f"/proc/pressure/{kind}")) for kind in _PRESSURES}


def _pressure_shares(
    before: dict[str, float | None], after: dict[str, float | None], elapsed_s: float
) -> dict[str, float] | None:
    """Share of the timed part in which something on the machine was held up for want of a
    core, of memory, of the disk; None where the kernel does not tell."""
    found = {}
    for kind in _PRESSURES:
        start, end = before[kind], after[kind]
        if start is not None and end is not None and elapsed_s > 0:
            found[kind] = round(min(1.0, (end - start) / elapsed_s), 4)
    return found or None
