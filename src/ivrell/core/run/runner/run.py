"""One run from start to end: its worker watched, measured, and its tree reaped.

Standard library only: this is part of the runner, whose size weighs on every worker's memory
figures.
"""

import os
import select
import signal
import sys
import time
from collections.abc import Callable

from ivrell.core.measure import proc, proportional
from ivrell.core.measure.around import SHORT_S, Around
from ivrell.core.measure.proc import Cpu
from ivrell.core.measure.quiet import QuietMoment
from ivrell.core.measure.reading import Tree
from ivrell.core.records.wire import (
    DONE,
    FAILED,
    LIMIT,
    STOPPED,
    Counted,
    Export,
    Failure,
    LimitReached,
    Progress,
    Ready,
    Restore,
    RunEnd,
    RunSpec,
    Stopped,
    TimedPart,
    WorkerSays,
)
from ivrell.core.run.runner.bounds import Bounds, left_bytes
from ivrell.core.run.runner.output import Output
from ivrell.core.run.runner.protocol_validation import LONGEST_LINE, Garbled, heard_from
from ivrell.core.run.runner.run_end import spoke_out_of_turn, sudden_end, with_last_lines
from ivrell.core.run.runner.sampling import Sampler
from ivrell.core.run.runner.spawn import spawn
from ivrell.core.run.runner.words import GONE, Words
from ivrell.core.run.stages import shown_stage

SAMPLE_S = 0.025
_SAMPLING_SHARE = 0.012
_LONGEST_GAP_S = 0.25
_PROGRESS_S = 0.4
_MEMORY_LOOK_S = 0.008
_GRACE_S = 5.0
_QUIET_LOOK_S = 0.04
_SANDBOX = "bwrap"

PREPARING, WAITING, RUNNING, EXPORT = (
    "preparing", "waiting for a quiet moment", "running", "result export",
)  # fmt: skip


class Run:
    """One run: watches its worker, says what it may do next, reaps its tree.

    Args:
        spec: what to do.
        tell: hears of its progress, and of its wish for tables put back.
        besides: processes of Ivrell's own that are not the run's.
    """

    def __init__(
        self,
        spec: RunSpec,
        tell: Callable[[Progress | Restore], None],
        besides: set[int] | None = None,
    ) -> None:
        self.spec = spec
        self.tell = tell
        self.output = Output()
        self.exit_status: int | None = None
        self.parts: list[TimedPart] = []
        self.start_s: float | None = None
        self.start_cpu_s: float | None = None
        self.export: Export | None = None
        self.failure: Failure | None = None
        self.limit: LimitReached | None = None
        self.asked_to_stop = False
        self.phase = PREPARING
        self._besides = besides or set()
        self._elapsed_at_least: float | None = None
        self._reaped_orphans = 0
        self._partial = b""
        self._client: int | None = None
        self._around: Around | None = None
        self._quiet = QuietMoment()
        self._ready: Ready | None = None
        self._quiet_wait_s = 0.0

    def start(self) -> None:
        """Start the worker."""
        self._phase_at = time.monotonic()
        self._bounds = Bounds(self.spec.limits, self.spec.order.job.folder, self._phase_at)
        self._worker = spawn(self.spec)
        tree = Tree(os.getpid(), self._worker.child, self._worker.group, self._besides)
        tree.server = self.spec.server
        self._sampler = Sampler(tree, memory_alone=self.spec.memory_alone)

    def watch(self, words: Words) -> None:
        """See the run through to its end; ``words`` come from the conductor."""
        open_fds = {self._worker.events, self._worker.printed}
        self._next_sample = self._next_look = self._next_progress = 0.0
        while self.exit_status is None:
            patience = 0.0 if words.waiting else self._patience()
            ready, _, _ = select.select([*open_fds, words.fd], [], [], patience)
            for fd in open_fds & set(ready):
                self._read(fd, open_fds)
            if words.waiting or words.fd in ready:
                self._hear_conductor(words.for_run(self.spec.run))
            if self.phase == WAITING:
                self._wait_until_quiet()
            self._look()
            self._reap()
        self._close_around(at_end=True)
        self.end_tree()
        self._drain(open_fds)
        self.limit = self.limit or self._out_of_memory()
        self._worker.close()

    def _hear_conductor(self, word: str) -> None:
        if word in ("stop", GONE):
            self.asked_to_stop = True
            self.end_tree()
        if word == GONE:
            sys.exit("the conductor is gone")
        if word == "restored":
            self._phase_at = time.monotonic()
            self._worker.say(word)

    def _patience(self) -> float:
        """Seconds until something must be looked at."""
        next_due = self._next_look
        if self.phase == RUNNING:
            next_due = min(next_due, self._next_sample)
        if self.phase == WAITING:
            next_due = min(next_due, self._next_quiet_look)
        return max(0.0, min(0.1, next_due - time.monotonic()))

    def _look(self) -> None:
        """Sample, tell progress, and see whether a limit is reached."""
        now = time.monotonic()
        sampler = self._sampler
        if self.phase == RUNNING and now >= self._next_sample:
            self._sample(now)
            # The more processes the dearer a sample: then there are fewer of them.
            cost = time.monotonic() - now
            gap = min(max(SAMPLE_S, cost / _SAMPLING_SHARE), _LONGEST_GAP_S)
            self._next_sample = now + (cost + _MEMORY_LOOK_S if self.spec.memory_alone else gap)
            if now >= self._next_progress:
                self._next_progress = now + _PROGRESS_S
                self._tell_progress(now)
        elif now >= self._next_look:
            sampler.glance()
        else:
            return
        sampler.look_closely(now, self.spec.limits.memory_bytes)
        if self.spec.walls and self.start_s is not None:
            sampler.add_unmapped()
        self._next_look = now + min(SAMPLE_S, self._bounds.next_look(sampler.memory))
        since = 0.0 if self.phase == WAITING else now - self._phase_at
        limit = self._bounds.reached(
            self.phase, since, self.output.size, sampler.memory, sampler.cpu, sampler.processes
        )
        allowed = self.spec.limits.processes
        if not limit and sampler.processes >= allowed and self._refused():
            limit = LimitReached("processes", allowed)
        limit = limit or self._out_of_memory()
        if limit and not self.limit:
            self.limit = limit
            if self.phase == RUNNING:
                self._elapsed_at_least = now - self._phase_at
            self.end_tree()

    def _out_of_memory(self) -> LimitReached | None:
        """The limit of memory, where the kernel itself had to keep the run to it."""
        group = self._worker.group
        if group is None or not group.out_of_memory():
            return None
        return LimitReached("memory", float(self.spec.limits.memory_bytes))

    def _refused(self) -> bool:
        """Whether the kernel itself refused the run another process."""
        return self._worker.group is not None and self._worker.group.refused() > 0

    def _read(self, fd: int, open_fds: set[int]) -> None:
        """Take what stands in one of the worker's pipes, or note that it is closed."""
        data = os.read(fd, 65536)
        if not data:
            open_fds.discard(fd)
        elif fd == self._worker.printed:
            self.output.add(data)
        else:
            self._hear_worker(data)

    def _hear_worker(self, data: bytes) -> None:
        *lines, self._partial = (self._partial + data).split(b"\n")
        if len(self._partial) > LONGEST_LINE:
            self._partial = b""
            self._not_of_ours("a line without an end")
            return
        for line in lines:
            says = heard_from(line)
            if says is None:
                continue
            if isinstance(says, Garbled):
                self._not_of_ours(says.what)
                return
            if not self._in_turn(says):
                self._not_of_ours(f'"{type(says).__name__.lower()}" while {self.phase}')
                return
            self._take(says)

    def _in_turn(self, says: WorkerSays) -> bool:
        """Whether a worker would tell this now."""
        if isinstance(says, Ready):
            return self.phase == PREPARING
        if isinstance(says, Stopped):
            return self.phase == RUNNING
        if isinstance(says, Restore) and not self.spec.restores:
            return False
        return bool(self.parts) if isinstance(says, Counted | Restore | Export) else True

    def _take(self, says: WorkerSays) -> None:
        if isinstance(says, Ready):
            self._close_around()
            if self.start_s is None and self.spec.patience_s > 0:
                self._ready = says
                self._next_quiet_look = 0.0
                self._enter_phase(WAITING)
            else:
                self._go(says)
        elif isinstance(says, Stopped):
            self._stopped(says)
        elif isinstance(says, Counted):
            self.parts[-1].counters = dict(says.counters)
            self.parts[-1].unknown = dict(says.unknown)
            self.parts[-1].remote = says.remote
        elif isinstance(says, Restore):
            self.tell(says)
        elif isinstance(says, Export):
            self.export = says
        else:
            self.failure = says

    def _not_of_ours(self, what: str) -> None:
        """End a run whose code spoke in its worker's place: its figures would be none."""
        self.failure = spoke_out_of_turn(what, self.phase)
        self.parts.clear()
        self.export = None
        self.end_tree()

    def _enter_phase(self, phase: str) -> None:
        self.phase = phase
        self._phase_at = time.monotonic()

    def _wait_until_quiet(self) -> None:
        """Let the clock start in a moment in which nothing else runs, or once patience ends."""
        if time.monotonic() < self._next_quiet_look:
            return
        assert self._ready
        quiet = self._quiet()
        now = time.monotonic()
        self._next_quiet_look = now + _QUIET_LOOK_S
        if quiet or now - self._phase_at >= self.spec.patience_s:
            self._quiet_wait_s = now - self._phase_at
            self._go(self._ready)

    def _close_around(self, *, at_end: bool = False) -> None:
        """See what others had around a part that was too short to tell; at the end there is time
        to look for long enough."""
        around, self._around = self._around, None
        if around is None or not self.parts:
            return
        part = self.parts[-1]
        if part.elapsed_s >= SHORT_S:
            return
        if at_end:
            time.sleep(around.lacks_s)
        part.figures.others_around = around.others()

    def _go(self, ready: Ready) -> None:
        if self.start_s is None:
            self.start_s = ready.start_s
            tree = self._sampler.tree
            tree.worker, tree.shell = _worker_below(self._worker.child)
            if ready.engine:
                self._measure_engine(ready.engine)
        self._reap()
        self._reaped_orphans = 0
        self._sampler.begin()
        if self.spec.walls:
            self._sampler.note_unmapped()
        if self.start_cpu_s is None:
            self.start_cpu_s = self._sampler.reading.worker_cpu.total
        self._enter_phase(RUNNING)
        # Nothing is told at the start: whoever listens would work beside the run.
        self._next_sample = self._phase_at + SAMPLE_S
        self._next_progress = self._phase_at + _PROGRESS_S
        self._around = Around(self._sampler.tree, self._client)
        self._worker.say("go")

    def _measure_engine(self, name: str) -> None:
        """Let the child that does the work stand for the run, and the client that drives it stand
        apart. Their control group holds both, so it is not asked."""
        tree = self._sampler.tree
        client = tree.worker
        below = [pid for pid in proc.descendants(client) if _called(pid) == name]
        if below:
            besides = self._besides | {client}
            self._sampler.tree = Tree(os.getpid(), below[0], None, besides, tree.shell)
            self._client = client

    def _stopped(self, says: Stopped) -> None:
        sampler = self._sampler
        at_end = proc.status(sampler.tree.worker)
        self._sample(time.monotonic())
        self._reap()
        set_up = Cpu(says.set_up.user, says.set_up.system)
        by_worker = Cpu(says.used.user, says.used.system) - set_up
        by_client: float | None = None
        if self._client is not None:
            by_client = by_worker.total
            by_worker = proc.cpu_of(sampler.tree.worker) - sampler.reading.worker_cpu
        single = sampler.single and not says.used.faults_of_children and not self._reaped_orphans
        figures = sampler.reading.finish(
            by_worker, says.elapsed_s, at_end, single, sampler.server_peak, set_up
        )
        if self.spec.memory_alone:
            # Nothing holds no memory: where nothing is seen, nothing may be looked at.
            seen = sampler.peak > 0
            figures.start_memory_bytes = sampler.start_closely or None
            figures.peak_memory_bytes = sampler.peak + sampler.server_peak if seen else None
            figures.memory_method = proportional.METHOD
        if sampler.most_unmapped and figures.peak_memory_bytes is not None:
            # No process has them mapped, so no process is charged with them.
            figures.peak_memory_bytes += sampler.most_unmapped
            figures.memory_method = f"{figures.memory_method}; with files in memory, sampled"
        if by_client is not None and figures.others_cpu_s is not None:
            # The client that drives the engine is no stranger.
            figures.others_cpu_s = max(0.0, figures.others_cpu_s - by_client)
        figures.client_cpu_s = by_client
        figures.page_faults = int(says.used.faults)
        self.parts.append(
            TimedPart(
                says.elapsed_s, says.repeats, says.joined, not single, says.stages, says.spans,
                figures,
            )
        )  # fmt: skip
        if says.more:
            self._enter_phase(PREPARING)
            self._worker.say("on")
        else:
            self._enter_phase(EXPORT)
            self._worker.say("hand over")

    def _sample(self, now: float) -> None:
        self._sampler.sample(now - self._phase_at, drawn=not self.parts)

    def _tell_progress(self, now: float) -> None:
        sampler = self._sampler
        self.tell(
            Progress(
                round(now - self._phase_at, 3),
                round(sampler.cpu, 3),
                sampler.memory - sampler.reading.start_memory,
                shown_stage(self._worker.board),
                sampler.busy(),
            )
        )

    def _reap(self) -> None:
        while True:
            try:
                pid, status, usage = os.wait4(-1, os.WNOHANG)
            except ChildProcessError:
                return
            if pid == 0:
                return
            if pid == self._worker.child:
                self.exit_status = os.waitstatus_to_exitcode(status)
            elif pid not in self._besides:
                self._reaped_orphans += 1
                tree = self._sampler.tree
                tree.reaped = tree.reaped + Cpu(usage.ru_utime, usage.ru_stime)

    def end_tree(self) -> None:
        """Kill everything the run started, whatever group or session it moved to."""
        deadline = time.monotonic() + _GRACE_S
        while time.monotonic() < deadline:
            if self._worker.group:
                self._worker.group.kill()
            living = set(proc.descendants(os.getpid())) - self._besides
            for pid in living:
                try:
                    os.kill(pid, signal.SIGKILL)
                except ProcessLookupError:
                    pass
            self._reap()
            if not living:
                return
            time.sleep(0.002)

    def _drain(self, open_fds: set[int]) -> None:
        """Read what was still in the pipes when the worker ended."""
        while open_fds:
            ready, _, _ = select.select(list(open_fds), [], [], 0)
            if not ready:
                return
            for fd in ready:
                self._read(fd, open_fds)

    def end(self) -> RunEnd:
        """The run as it is told and journalled."""
        state = DONE
        if self.asked_to_stop:
            state = STOPPED
        elif self.limit:
            state = LIMIT
        elif self.failure or self.export is None:
            state = FAILED
        output = self.output.text()
        failure = None
        if state == FAILED:
            failure = self.failure or sudden_end(
                self.exit_status or 0, self.phase, output, sandboxed=bool(self.spec.walls),
                begun=self.start_s is not None,
            )  # fmt: skip
            failure = with_last_lines(failure, output)
        return RunEnd(
            state,
            self.start_s,
            self.parts,
            self._elapsed_at_least,
            self._sampler.most_threads or None,
            self.export,
            failure,
            self.limit,
            left_bytes(self.spec.order.job.folder),
            self._sampler.curve.finished(),
            output,
            self.output.size,
            self.start_cpu_s,
            self._quiet_wait_s,
        )


def _called(pid: int) -> str:
    return proc.read(f"/proc/{pid}/comm").strip()


def _is_sandbox(pid: int, above: int) -> bool:
    program = proc.program(pid)
    # Where programs are hidden names have to do, of the two processes that a sandbox is.
    return program == _SANDBOX if program or above >= 2 else _called(pid) == _SANDBOX


def _worker_below(pid: int) -> tuple[int, set[int]]:
    """The worker's process, which is the one started or the one that its sandbox started, and
    the processes of the sandbox above it. They are known by the program that they run, since any
    process may call itself as it likes."""
    shell: set[int] = set()
    while _is_sandbox(pid, len(shell)) and (below := proc.children(pid)):
        shell.add(pid)
        pid = below[0]
    return pid, shell
