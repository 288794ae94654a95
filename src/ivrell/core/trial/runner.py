"""The runner: a small process that starts one worker after another and measures each.

It stays small (standard library only) because a process's recorded peak includes what its
launcher held when it was started. It takes runs as lines of JSON on standard input and
tells events as lines of JSON on standard output; every event that matters is in the
journal, on disk, before it is told.

It is the subreaper of all that a run starts: orphans and daemons become its children, are
reaped here, and their CPU time is counted.
"""

import ctypes
import json
import mmap
import os
import resource
import select
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

sys.path.append(str(Path(__file__).resolve().parents[3]))

from ivrell.core.measure import proc
from ivrell.core.measure.curve import Curve
from ivrell.core.measure.group import RunGroup, sweep
from ivrell.core.measure.proc import Cpu
from ivrell.core.trial.stages import BOARD_BYTES, shown_stage

SAMPLE_S = 0.025
_PROGRESS_S = 0.4
_KEPT_OUTPUT = 32 * 1024
_PR_SET_PDEATHSIG = 1
_PR_SET_CHILD_SUBREAPER = 36
_WORKER = Path(__file__).with_name("worker.py")
_GRACE_S = 5.0
_GROUP_MARGIN = 1.01
_GROUP_GRAIN_S = 0.003


def _prctl(option: int, value: int) -> None:
    if ctypes.CDLL(None, use_errno=True).prctl(option, value, 0, 0, 0):
        raise OSError(ctypes.get_errno(), "prctl")


class Output:
    """What a run printed: its beginning, its end, and how much there was."""

    def __init__(self) -> None:
        self.size = 0
        self._head = b""
        self._tail = b""

    def add(self, data: bytes) -> None:
        self.size += len(data)
        room = _KEPT_OUTPUT - len(self._head)
        self._head += data[:room]
        self._tail = (self._tail + data[room:])[-_KEPT_OUTPUT:]

    def text(self) -> str:
        left_out = self.size - len(self._head) - len(self._tail)
        gap = f"\n… {left_out:,} bytes left out …\n" if left_out > 0 else ""
        shown = self._head.decode("utf-8", "replace") + gap + self._tail.decode("utf-8", "replace")
        return shown.replace("\0", "\ufffd")


class Run:
    """One run from start to end: starts the worker, watches it, reaps its tree."""

    def __init__(self, spec: dict[str, Any], tell: Callable[..., None]) -> None:
        self.spec = spec
        self.limits = spec["limits"]
        self.tell = tell
        self.output = Output()
        self.curve = Curve()
        self.reaped = Cpu()
        self.exit_status: int | None = None
        self.group: RunGroup | None = None
        self.measured: dict[str, Any] = {}
        self.handed: dict[str, Any] | None = None
        self.failed: dict[str, Any] | None = None
        self.limit: dict[str, Any] | None = None
        self.asked_to_stop = False
        self.phase = "preparing"
        self.go_at = self.next_sample = self.next_progress = 0.0
        self.sampled_peak = 0
        self.memory_now = 0
        self.single = True
        self._before: dict[int, Cpu] = {}
        self._reaped_at_go = Cpu()
        self._partial = b""

    def start(self) -> None:
        folder = Path(self.spec["job"]["folder"])
        (folder / "tmp").mkdir(parents=True, exist_ok=True)
        job_path = folder / ".job.json"
        job_path.write_text(json.dumps(self.spec["job"]))
        board_fd = os.memfd_create("ivrell-stage")
        os.ftruncate(board_fd, BOARD_BYTES)
        self.board = mmap.mmap(board_fd, BOARD_BYTES)
        self.events, events_end = os.pipe()
        words_end, self.words = os.pipe()
        self.printed, printed_end = os.pipe()
        self.group = RunGroup.make(f"ivrell-{os.getpid()}-{self.spec['run']}")
        self.started_at = time.monotonic()
        process = subprocess.Popen(
            [
                self.spec["interpreter"],
                "-u",
                str(_WORKER),
                str(job_path),
                str(events_end),
                str(words_end),
                str(board_fd),
            ],
            stdin=subprocess.DEVNULL,
            stdout=printed_end,
            stderr=printed_end,
            cwd=folder,
            env=self.spec["environment"],
            pass_fds=(events_end, words_end, board_fd),
            start_new_session=True,
            preexec_fn=self._enter,
        )
        self.pid = process.pid
        # Reaped here by wait4 alone, so that its usage is not lost to Popen.
        process.returncode = 0
        for fd in (events_end, words_end, printed_end, board_fd):
            os.close(fd)

    def _enter(self) -> None:
        """In the child, before the worker is loaded."""
        _prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
        if self.group:
            self.group.join()

    def watch(self, heard: Callable[[], str]) -> None:
        """See the run through to its end; ``heard`` gives words from the conductor."""
        cores = proc.core_times()
        open_fds = {self.events, self.printed}
        while self.exit_status is None:
            now = time.monotonic()
            wait = SAMPLE_S if self.phase == "running" else 0.1
            wait = max(0.0, min(wait, self.next_sample - now if self.phase == "running" else wait))
            ready, _, _ = select.select([*open_fds, sys.stdin], [], [], wait)
            for fd in open_fds & set(ready):
                self._read(fd, open_fds)
            if sys.stdin in ready and (word := heard()) in ("stop", "gone"):
                self.asked_to_stop = True
                self.end_tree()
                if word == "gone":
                    sys.exit("the conductor is gone")
            now = time.monotonic()
            if self.phase == "running" and now >= self.next_sample:
                self._sample(now)
                self.next_sample = now + SAMPLE_S
                if now >= self.next_progress:
                    self.next_progress = now + _PROGRESS_S
                    before, cores = cores, proc.core_times()
                    self._tell_progress(now, before, cores)
            self._check_limits(now)
            self._reap()
        self.end_tree()
        self._drain(open_fds)
        for fd in (self.events, self.printed, self.words):
            os.close(fd)
        if self.group:
            self.group.remove()

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
            event = json.loads(line)
            kind = event.pop("event")
            if kind == "ready":
                self._go(event["start_s"])
            elif kind == "stopped":
                self._stopped(event)
            elif kind == "handed":
                self.handed = event
            elif kind == "failed":
                self.failed = event

    def _go(self, start_s: float) -> None:
        self.measured["start_s"] = start_s
        self._reap()
        # What the preparation left running is charged only with what it uses from here on.
        self._before = {pid: proc.cpu_of(pid) for pid in self._others()}
        self._reaped_at_go = self.reaped
        self.worker_before = proc.cpu_of(self.pid)
        self.group_before = self.group.cpu() if self.group else None
        self.io_before = proc.disk_io(self.pid)
        self.wait_before = proc.wait_for_core(self.pid)
        before = proc.status(self.pid)
        self.peak_was_reset = proc.reset_peak(self.pid)
        at_start = proc.status(self.pid) or before
        self.start_memory = at_start.resident if at_start else 0
        self.switches_before = at_start.switches if at_start else 0
        self.phase = "running"
        self.go_at = time.monotonic()
        # Nothing is told at the start: whoever listens would work beside the run.
        self.next_sample = self.go_at + SAMPLE_S
        self.next_progress = self.go_at + _PROGRESS_S
        os.write(self.words, b"go\n")

    def _stopped(self, event: dict[str, Any]) -> None:
        at_end = proc.status(self.pid)
        self._sample(time.monotonic())
        self._reap()
        used, method = self._cpu_used(Cpu(event["used"]["user"], event["used"]["system"]))
        self.measured.update(
            elapsed_s=event["elapsed_s"],
            stages=event["stages"],
            spans=event["spans"],
            cpu_user_s=used.user,
            cpu_system_s=used.system,
            cpu_method=method,
            page_faults=int(event["used"]["faults"]),
        )
        self._measure_memory(at_end.peak if at_end else None)
        if at_end:
            self.measured["context_switches"] = at_end.switches - self.switches_before
        self._measure_io()
        waited = proc.wait_for_core(self.pid)
        if waited is not None and self.wait_before is not None:
            self.measured["core_wait_s"] = waited - self.wait_before
        self.phase = "handing over"
        self.stopped_at = time.monotonic()
        os.write(self.words, b"hand over\n")

    def _cpu_used(self, by_worker: Cpu) -> tuple[Cpu, str]:
        """CPU since go, and how it was found.

        The worker's own account is exact but knows only children it waited for; the group
        knows all, but also what the worker used to report. So the group's figure is taken
        when it holds clearly more.
        """
        summed = by_worker + self._cpu_of_others()
        after = self.group.cpu() if self.group else None
        if after is None or self.group_before is None:
            return summed, "sum of the worker and of all processes reaped or alive"
        grouped = after - self.group_before
        if grouped.total > summed.total * _GROUP_MARGIN + _GROUP_GRAIN_S:
            return grouped, "control group of the run"
        return summed, "sum over the tree, borne out by its control group"

    def _measure_memory(self, high_water: int | None) -> None:
        """Peak of the timed part: the kernel's mark, or with children the larger of it
        and the sampled sum over the tree."""
        if high_water is None or not self.peak_was_reset:
            return
        peak = high_water
        method = "kernel high-water mark"
        if not self.single:
            peak = max(peak, self.sampled_peak)
            method = "sampled sum over the tree, private memory of children"
        self.measured.update(
            start_memory_bytes=self.start_memory,
            peak_memory_bytes=peak,
            memory_method=method,
        )

    def _measure_io(self) -> None:
        now = proc.disk_io(self.pid)
        if self.io_before and now:
            self.measured["read_bytes"] = now[0] - self.io_before[0]
            self.measured["written_bytes"] = now[1] - self.io_before[1]

    def _others(self) -> list[int]:
        """Every process of the run but the worker."""
        return [pid for pid in proc.descendants(os.getpid()) if pid != self.pid]

    def _cpu_of_others(self) -> Cpu:
        """CPU since go of processes that the worker has not waited for: orphans reaped
        here, and those that still live."""
        used = self.reaped - self._reaped_at_go
        for pid in self._others():
            used = used + (proc.cpu_of(pid) - self._before.get(pid, Cpu()))
        for pid, before in self._before.items():
            if not Path(f"/proc/{pid}").exists():
                used = used - before
        return used

    def _sample(self, now: float) -> None:
        """Add a point to the curve: what the worker holds, and what its children hold
        besides that is theirs alone."""
        worker = proc.status(self.pid)
        shared_by_worker = worker.shared if worker else 0
        private = shared = 0
        used = self.reaped.total - self._reaped_at_go.total
        for pid in proc.descendants(os.getpid()):
            used += proc.cpu_of(pid).total - self._before.get(pid, Cpu()).total
            if pid != self.pid and (found := proc.status(pid)):
                self.single = False
                private += found.private
                shared = max(shared, found.shared - shared_by_worker)
        self.memory_now = (worker.resident if worker else 0) + private + shared
        self.sampled_peak = max(self.sampled_peak, self.memory_now)
        self.cpu_now = max(0.0, used - self.worker_before.total)
        self.curve.add(now - self.go_at, self.cpu_now, self.memory_now)

    def _tell_progress(
        self, now: float, before: list[tuple[int, int]], after: list[tuple[int, int]]
    ) -> None:
        cores = [
            round((b1 - b0) / (a1 - a0), 3) if a1 > a0 else 0.0
            for (b0, a0), (b1, a1) in zip(before, after, strict=True)
        ]
        self.tell(
            "progress",
            elapsed_s=round(now - self.go_at, 3),
            cpu_s=round(self.cpu_now, 3),
            memory_bytes=self.memory_now - self.start_memory,
            stage=shown_stage(self.board),
            cores=cores,
        )

    def _check_limits(self, now: float) -> None:
        reached: tuple[str, float] | None = None
        if self.phase == "running" and now - self.go_at > self.limits["seconds"]:
            reached = ("elapsed", self.limits["seconds"])
        elif self.phase == "preparing" and now - self.started_at > self.limits["prepare_seconds"]:
            reached = ("preparing", self.limits["prepare_seconds"])
        elif (
            self.phase == "handing over" and now - self.stopped_at > self.limits["prepare_seconds"]
        ):
            reached = ("handing over", self.limits["prepare_seconds"])
        elif self.phase == "running" and self.memory_now > self.limits["memory_bytes"]:
            reached = ("memory", self.limits["memory_bytes"])
        elif self.output.size > self.limits["output_bytes"]:
            reached = ("output", self.limits["output_bytes"])
        if reached and not self.limit:
            self.limit = {"kind": reached[0], "value": reached[1]}
            if self.phase == "running":
                self.measured["elapsed_at_least_s"] = now - self.go_at
            self.end_tree()

    def _reap(self) -> None:
        while True:
            try:
                pid, status, usage = os.wait4(-1, os.WNOHANG)
            except ChildProcessError:
                return
            if pid == 0:
                return
            if pid == self.pid:
                self.exit_status = os.waitstatus_to_exitcode(status)
            else:
                self.reaped = self.reaped + Cpu(usage.ru_utime, usage.ru_stime)

    def end_tree(self) -> None:
        """Kill everything the run started, whatever group or session it moved to."""
        deadline = time.monotonic() + _GRACE_S
        while time.monotonic() < deadline:
            if self.group:
                self.group.kill()
            living = list(proc.descendants(os.getpid()))
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
            "measured": self.measured,
            "handed": self.handed,
            "failed": self.failed if state == "failed" else None,
            "limit": self.limit,
            "curve": self.curve.finished(),
            "output": self.output.text(),
            "output_bytes": self.output.size,
        }

    def _sudden_end(self) -> dict[str, Any]:
        code = self.exit_status or 0
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


def main(journal_path: str) -> None:
    """Serve runs until standard input closes."""
    _prctl(_PR_SET_CHILD_SUBREAPER, 1)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    sweep()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    journal = Path(journal_path).open("a", encoding="utf-8")  # noqa: SIM115 - open for life

    def tell(event: str, **fields: Any) -> None:
        line = json.dumps({"event": event, **fields}, ensure_ascii=False)
        if event != "progress":
            journal.write(line + "\n")
            journal.flush()
            os.fsync(journal.fileno())
        sys.stdout.write(line + "\n")
        sys.stdout.flush()

    def heard() -> str:
        line = sys.stdin.readline()
        return str(json.loads(line).get("word")) if line else "gone"

    while line := sys.stdin.readline():
        spec = json.loads(line)
        if "job" not in spec:
            continue
        number = spec["run"]
        run = Run(spec, lambda event, n=number, **fields: tell(event, run=n, **fields))
        tell("started", run=number, approach=spec["job"]["approach"]["id"])
        run.start()
        run.watch(heard)
        left = Path(spec["job"]["folder"])
        tell("ended", run=number, left_bytes=_size(left), **run.result())


def _size(folder: Path) -> int:
    """Bytes in the files a run left, without Ivrell's own."""
    return sum(
        path.stat().st_size
        for path in folder.rglob("*")
        if path.is_file()
        and not path.is_symlink()
        and not path.name.startswith((".job", ".answer"))
    )


if __name__ == "__main__":
    main(sys.argv[1])
