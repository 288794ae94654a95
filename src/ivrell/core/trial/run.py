"""One run from start to end: the worker started, watched, measured, and its tree reaped.

Standard library only: this is part of the runner, whose size weighs on every worker's memory
figures.
"""

import ctypes
import json
import mmap
import os
import select
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ivrell.core.contain.sandbox import SAYS, Sandbox, give, held_in_memory
from ivrell.core.measure import proc, proportional
from ivrell.core.measure.curve import Curve
from ivrell.core.measure.group import RunGroup
from ivrell.core.measure.proc import Cpu
from ivrell.core.measure.reading import Reading, Tree
from ivrell.core.trial.bounds import Bounds, left_bytes, set_hard_limits, tree_memory
from ivrell.core.trial.hearsay import GARBLED, heard_from
from ivrell.core.trial.output import Output
from ivrell.core.trial.stages import BOARD_BYTES, shown_stage
from ivrell.core.trial.words import GONE, Words

SAMPLE_S = 0.025
_SAMPLING_SHARE = 0.012
_LONGEST_GAP_S = 0.25
_PROGRESS_S = 0.4
_MEMORY_LOOK_S = 0.008
_PRINTED_LINES = 12
_PRINTED_CHARACTERS = 2000
_PR_SET_PDEATHSIG = 1
_WORKER = Path(__file__).with_name("worker.py")
_GRACE_S = 5.0
_HELD_BYTES = 1 << 20


def prctl(option: int, value: int) -> None:
    """Set a property of this process; see prctl(2)."""
    if ctypes.CDLL(None, use_errno=True).prctl(option, value, 0, 0, 0):
        raise OSError(ctypes.get_errno(), "prctl")


class Run:
    """One run: starts the worker, watches it, reaps its tree.

    Args:
        spec: ``run`` (number), ``interpreter``, ``environment``, ``limits``, ``cores`` (to be
            pinned to, or None), ``sandbox`` (its settings, or None), ``job`` (for the worker),
            ``memory_alone`` (whether the run is there for its memory only: looked at often and
            closely, whatever time that costs it).
        tell: called with the name of an event and its fields.
        besides: processes of Ivrell's own that are not the run's.
    """

    def __init__(
        self, spec: dict[str, Any], tell: Callable[..., None], besides: set[int] | None = None
    ) -> None:
        self.spec = spec
        self.limits = spec["limits"]
        self.folder = Path(spec["job"]["folder"])
        self.tell = tell
        self.output = Output()
        self.curve = Curve()
        self.exit_status: int | None = None
        self.parts: list[dict[str, Any]] = []
        self.start_s: float | None = None
        self.handed: dict[str, Any] | None = None
        self.failed: dict[str, Any] | None = None
        self.limit: dict[str, Any] | None = None
        self.asked_to_stop = False
        self.phase = "preparing"
        self.most_threads = 0
        self.memory_alone = bool(spec.get("memory_alone"))
        self._closely_at = 0.0
        self._besides = besides or set()
        self._reading: Reading | None = None
        self._elapsed_at_least: float | None = None
        self._memory = self._sampled_peak = self._server_peak = 0
        self._cpu = 0.0
        self._processes = 1
        self._single = True
        self._reaped_orphans = 0
        self._partial = b""
        self._client: int | None = None

    def start(self) -> None:
        """Start the worker, in its group, within its hard limits, in its sandbox."""
        (self.folder / "tmp").mkdir(parents=True, exist_ok=True)
        job_path = self.folder / ".job.json"
        job_path.write_text(json.dumps(self.spec["job"]))
        board_fd = os.memfd_create("ivrell-stage")
        os.ftruncate(board_fd, BOARD_BYTES)
        self.board = mmap.mmap(board_fd, BOARD_BYTES)
        self.events, events_end = os.pipe()
        words_end, self.words = os.pipe()
        self.printed, printed_end = os.pipe()
        name = f"ivrell-{os.getpid()}-{self.spec['run']}"
        self.group = RunGroup.make(name, self.limits["processes"])
        ends = (events_end, words_end, board_fd)
        command = [self.spec["interpreter"], "-u", str(_WORKER), str(job_path), *map(str, ends)]
        if sandbox := self.spec.get("sandbox"):
            give(self.folder)
            command = Sandbox(self.folder, **sandbox).around(command)
        self.started_at = self._phase_at = time.monotonic()
        self._bounds = Bounds(self.limits, self.folder, self.started_at)
        process = subprocess.Popen(
            command,
            stdin=subprocess.DEVNULL,
            stdout=printed_end,
            stderr=printed_end,
            cwd=self.folder,
            env=self.spec["environment"],
            pass_fds=ends,
            start_new_session=True,
            preexec_fn=self._enter,
        )
        self._child = process.pid
        self.tree = Tree(os.getpid(), process.pid, self.group, self._besides)
        self.tree.server = self.spec.get("server")
        # Reaped here by wait4 alone, so that its usage is not lost to Popen.
        process.returncode = 0
        for fd in (events_end, words_end, printed_end, board_fd):
            os.close(fd)

    def _enter(self) -> None:
        """In the child, before the worker is loaded."""
        prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
        if self.spec.get("cores"):
            os.sched_setaffinity(0, self.spec["cores"])
        if self.group:
            self.group.join()
        set_hard_limits(self.limits)()

    def watch(self, words: Words) -> None:
        """See the run through to its end; ``words`` come from the conductor."""
        self._cores = proc.core_times()
        open_fds = {self.events, self.printed}
        self._next_sample = self._next_look = self._next_progress = 0.0
        while self.exit_status is None:
            patience = 0.0 if words.waiting else self._patience()
            ready, _, _ = select.select([*open_fds, words.fd], [], [], patience)
            for fd in open_fds & set(ready):
                self._read(fd, open_fds)
            if words.waiting or words.fd in ready:
                self._hear_conductor(words.for_run(self.spec["run"]))
            self._look()
            self._reap()
        self.end_tree()
        self._drain(open_fds)
        for fd in (self.events, self.printed, self.words):
            os.close(fd)
        if self.group:
            self.group.remove()

    def _hear_conductor(self, word: str) -> None:
        if word in ("stop", GONE):
            self.asked_to_stop = True
            self.end_tree()
        if word == GONE:
            sys.exit("the conductor is gone")
        if word == "restored":
            self._phase_at = time.monotonic()
            self._say(word)

    def _patience(self) -> float:
        """Seconds until something must be looked at."""
        next_due = self._next_look
        if self.phase == "running":
            next_due = min(next_due, self._next_sample)
        return max(0.0, min(0.1, next_due - time.monotonic()))

    def _look(self) -> None:
        """Sample, tell progress, and see whether a limit is reached."""
        now = time.monotonic()
        if self.phase == "running" and now >= self._next_sample:
            self._sample(now)
            # The more processes the dearer a sample: then there are fewer of them.
            cost = time.monotonic() - now
            gap = min(max(SAMPLE_S, cost / _SAMPLING_SHARE), _LONGEST_GAP_S)
            self._next_sample = now + (cost + _MEMORY_LOOK_S if self.memory_alone else gap)
            if now >= self._next_progress:
                self._next_progress = now + _PROGRESS_S
                self._tell_progress(now)
        elif now >= self._next_look:
            children = self.tree.children()
            self._processes = 1 + len(children)
            self._memory = tree_memory(self.tree.worker, children)
        else:
            return
        self._look_closely(now)
        if self.spec.get("sandbox") and self.start_s is not None:
            self._memory += self._unmapped()
        self._next_look = now + min(SAMPLE_S, self._bounds.next_look(self._memory))
        found = self._bounds.reached(
            self.phase, now - self._phase_at, self.output.size, self._memory, self._cpu,
            self._processes,
        )  # fmt: skip
        if not found and self._processes >= self.limits["processes"] and self._refused():
            found = ("processes", self.limits["processes"])
        if found and not self.limit:
            self.limit = {"kind": found[0], "value": found[1]}
            if self.phase == "running":
                self._elapsed_at_least = now - self._phase_at
            self.end_tree()

    def _unmapped(self) -> int:
        """Bytes of files in the run's places of memory, besides those that its processes map,
        which count with them."""
        held = held_in_memory(self.tree.worker)
        if held < _HELD_BYTES:
            return 0
        states = map(proc.status, (self.tree.worker, *self.tree.children()))
        return max(0, held - sum(state.shared for state in states if state))

    def _look_closely(self, now: float) -> None:
        """Before a tree is held to have reached its memory limit: pages that its processes share
        count once only. Such a look takes milliseconds, so it is not taken at every turn."""
        limit = self.limits["memory_bytes"]
        if self._memory <= limit or self._processes <= 1:
            return
        if now < self._closely_at:
            self._memory = min(self._memory, limit)
            return
        began = time.monotonic()
        pids = [self.tree.worker, *self.tree.children()]
        self._memory = sum(map(proportional.proportional, pids))
        if self.tree.server is not None and self._reading:
            self._memory += max(0, self.tree.server_memory() - self._reading.server_memory)
        # The nearer it is to the limit the sooner another look, a twentieth of the time at most.
        self._closely_at = now + max(20 * (time.monotonic() - began), 0.05)

    def _refused(self) -> bool:
        """Whether the kernel itself refused the run another process."""
        return self.group is not None and self.group.refused() > 0

    def _read(self, fd: int, open_fds: set[int]) -> None:
        """Take what stands in one of the worker's pipes, or note that it is closed."""
        data = os.read(fd, 65536)
        if not data:
            open_fds.discard(fd)
        elif fd == self.printed:
            self.output.add(data)
        else:
            self._hear_worker(data)

    def _hear_worker(self, data: bytes) -> None:
        *lines, self._partial = (self._partial + data).split(b"\n")
        for line in lines:
            event = heard_from(line)
            kind = event.pop("event", "")
            if kind == GARBLED or not self._in_turn(kind):
                self._not_of_ours(event.get("what", f'"{kind}" while {self.phase}'))
                return
            if kind == "ready":
                self._go(event)
            elif kind == "stopped":
                self._stopped(event)
            elif kind == "counted":
                self.parts[-1] |= event
            elif kind == "restore":
                self.tell("restore")
            elif kind == "handed":
                self.handed = event
            elif kind == "failed":
                self.failed = event

    def _in_turn(self, kind: str) -> bool:
        """Whether a worker would tell this now."""
        if kind == "ready":
            return self.phase == "preparing"
        if kind == "stopped":
            return self.phase == "running"
        if kind == "restore" and not self.spec.get("restores"):
            return False
        return bool(self.parts) if kind in ("counted", "restore", "handed") else True

    def _not_of_ours(self, what: str) -> None:
        """End a run whose code spoke in its worker's place: its figures would be none."""
        self.failed = {
            "kind": "told what is not so",
            "message": f"Something in the run told Ivrell {what}, which its worker does not tell.",
            "line": None,
            "trace": "",
            "part": self.phase,
        }
        self.parts.clear()
        self.handed = None
        self.end_tree()

    def _enter_phase(self, phase: str) -> None:
        self.phase = phase
        self._phase_at = time.monotonic()

    def _go(self, event: dict[str, Any]) -> None:
        if self.start_s is None:
            self.start_s = event["start_s"]
            self.tree.worker, self.tree.shell = _worker_below(self._child)
            if event.get("engine"):
                self._measure_engine(event["engine"])
        self._reap()
        self._single, self._reaped_orphans = True, 0
        self._sampled_peak = self._server_peak = 0
        self._reading = Reading(self.tree)
        self._start_closely = 0
        if self.memory_alone:
            pids = [self.tree.worker, *self.tree.children()]
            self._start_closely = proportional.sum_of(pids, self.tree.group)
        self._enter_phase("running")
        # Nothing is told at the start: whoever listens would work beside the run.
        self._next_sample = self._phase_at + SAMPLE_S
        self._next_progress = self._phase_at + _PROGRESS_S
        self._say("go")

    def _measure_engine(self, name: str) -> None:
        """Let the child that does the work stand for the run, and the client that drives it stand
        apart. Their control group holds both, so it is not asked."""
        client = self.tree.worker
        below = [pid for pid in proc.descendants(client) if _called(pid) == name]
        if below:
            besides = self._besides | {client}
            self.tree = Tree(os.getpid(), below[0], None, besides, self.tree.shell)
            self._client = client

    def _stopped(self, event: dict[str, Any]) -> None:
        assert self._reading
        at_end = proc.status(self.tree.worker)
        self._sample(time.monotonic())
        self._reap()
        used = event.pop("used")
        set_up = Cpu(**event.pop("set_up"))
        by_worker = Cpu(used["user"], used["system"]) - set_up
        if self._client is not None:
            event["client_cpu_s"] = by_worker.total
            by_worker = proc.cpu_of(self.tree.worker) - self._reading.worker_cpu
        if used.pop("faults_of_children") or self._reaped_orphans:
            self._single = False
        figures = self._reading.finish(
            by_worker,
            event["elapsed_s"],
            at_end,
            self._single,
            self._server_peak,
            set_up,
        )
        if self.memory_alone:
            figures |= {
                # Nothing holds no memory: where nothing is seen, nothing may be looked at.
                "start_memory_bytes": self._start_closely or None,
                "peak_memory_bytes": self._sampled_peak + self._server_peak
                if self._sampled_peak
                else None,
                "memory_method": proportional.METHOD,
            }
        if self._client is not None and figures.get("others_cpu_s") is not None:
            # The client that drives the engine is no stranger.
            figures["others_cpu_s"] = max(0.0, figures["others_cpu_s"] - event["client_cpu_s"])
        self.parts.append({**event, **figures, "page_faults": int(used["faults"]),
                           "several_processes": not self._single})  # fmt: skip
        if event["more"]:
            self._enter_phase("preparing")
            self._say("on")
        else:
            self._enter_phase("handing over")
            self._say("hand over")

    def _say(self, word: str) -> None:
        try:
            os.write(self.words, word.encode() + b"\n")
        except BrokenPipeError:
            # It closed its end; that it gives no answer will be told by its end.
            pass

    def _sample(self, now: float) -> None:
        """Add a point to the curve."""
        assert self._reading
        used = self.tree.reaped.total - self._reading.reaped.total
        used += proc.cpu_of(self.tree.worker).total - self._reading.worker_cpu.total
        children = self.tree.children()
        for pid in children:
            used += proc.cpu_of(pid).total
            used -= self._reading.before.get(pid, Cpu()).total
        self._processes = 1 + len(children)
        self._memory, threads = self.tree.memory(children)
        if self.memory_alone:
            self._memory = proportional.sum_of([self.tree.worker, *children], self.tree.group)
        self._sampled_peak = max(self._sampled_peak, self._memory)
        if self.tree.server is not None:
            used += (self.tree.server_cpu() - self._reading.server_cpu).total
            by_server = self.tree.server_memory() - self._reading.server_memory
            self._server_peak = max(self._server_peak, by_server)
            self._memory += max(0, by_server)
        if children:
            self._single = False
        self.most_threads = max(self.most_threads, threads)
        self._cpu = max(0.0, used)
        if not self.parts:
            self.curve.add(now - self._phase_at, self._cpu, self._memory)

    def _tell_progress(self, now: float) -> None:
        before, self._cores = self._cores, proc.core_times()
        cores = [
            round((b1 - b0) / (a1 - a0), 3) if a1 > a0 else 0.0
            for (b0, a0), (b1, a1) in zip(before, self._cores, strict=True)
        ]
        assert self._reading
        self.tell(
            "progress",
            elapsed_s=round(now - self._phase_at, 3),
            cpu_s=round(self._cpu, 3),
            memory_bytes=self._memory - self._reading.start_memory,
            stage=shown_stage(self.board),
            cores=cores,
        )

    def _reap(self) -> None:
        while True:
            try:
                pid, status, usage = os.wait4(-1, os.WNOHANG)
            except ChildProcessError:
                return
            if pid == 0:
                return
            if pid == self._child:
                self.exit_status = os.waitstatus_to_exitcode(status)
            elif pid not in self._besides:
                self._reaped_orphans += 1
                self.tree.reaped = self.tree.reaped + Cpu(usage.ru_utime, usage.ru_stime)

    def end_tree(self) -> None:
        """Kill everything the run started, whatever group or session it moved to."""
        deadline = time.monotonic() + _GRACE_S
        while time.monotonic() < deadline:
            if self.group:
                self.group.kill()
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

    def result(self) -> dict[str, Any]:
        """The run as it is told and journalled."""
        state = "done"
        if self.asked_to_stop:
            state = "stopped"
        elif self.limit:
            state = "limit"
        elif self.failed or self.handed is None:
            state = "failed"
            self.failed = self.failed or self._sudden_end()
        return {
            "state": state,
            "start_s": self.start_s,
            "parts": self.parts,
            "elapsed_at_least_s": self._elapsed_at_least,
            "most_threads": self.most_threads or None,
            "handed": self.handed,
            "failed": self._failure() if state == "failed" else None,
            "limit": self.limit,
            "left_bytes": left_bytes(self.folder),
            "curve": self.curve.finished(),
            "output": self.output.text(),
            "output_bytes": self.output.size,
        }

    def _failure(self) -> dict[str, Any]:
        """What failed, with the last lines that were printed: why a child failed may stand
        there alone."""
        assert self.failed
        lines = self.output.text().rstrip().splitlines()[-_PRINTED_LINES:]
        return {**self.failed, "printed": "\n".join(lines)[-_PRINTED_CHARACTERS:]}

    def _sudden_end(self) -> dict[str, Any]:
        code = self.exit_status or 0
        said = self.output.text().strip()
        if self.spec.get("sandbox") and self.start_s is None and said.startswith(SAYS):
            return {
                "kind": "sandbox failed",
                "message": f"The sandbox could not start the run: {said.splitlines()[0]}. The "
                "approach itself was not reached. Run ./ivrell machine to see whether the "
                "sandbox works here; --no-sandbox runs without it.",
                "line": None,
                "trace": "",
                "part": self.phase,
            }
        if self.spec.get("sandbox") and code > 128:
            # A sandbox tells the signal that ended its process as a shell does.
            code = 128 - code
        how = f"exit status {code}" if code >= 0 else f"signal {signal.Signals(-code).name}"
        cure = (
            "It was killed, perhaps by the system for want of memory."
            if code == -signal.SIGKILL
            else "It may have called exit, or crashed in compiled code; see what it printed."
        )
        return {
            "kind": "ended early",
            "message": f"The process ended while {self.phase} ({how}), without an answer. {cure}",
            "line": None,
            "trace": "",
            "part": self.phase,
        }


def _called(pid: int) -> str:
    return proc.read(f"/proc/{pid}/comm").strip()


def _worker_below(pid: int) -> tuple[int, set[int]]:
    """The worker's process, which is the one started or the one that its sandbox started, and
    the processes of the sandbox above it."""
    shell = set()
    while proc.read(f"/proc/{pid}/comm").strip() == "bwrap" and (below := proc.children(pid)):
        shell.add(pid)
        pid = below[0]
    return pid, shell
