"""Reading a tree of processes straight from /proc.

Standard library only, and few reads: this runs beside the timed part. A process may end
between two reads; whatever is gone then counts as nothing.
"""

import os
import re
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

_STATUS = re.compile(
    r"^(VmHWM|VmRSS|RssAnon|RssShmem|Threads|(?:non)?voluntary_ctxt_switches):\s*(\d+)", re.M
)
TICKS = os.sysconf("SC_CLK_TCK")
_PAGE = os.sysconf("SC_PAGE_SIZE")


@dataclass(frozen=True)
class Status:
    """Memory of one process in bytes, its threads, and how often it was switched off its core.

    ``resident`` now, ``peak`` the kernel's high-water mark of it, ``private`` the part
    that is neither file nor shared, ``shared`` the shared-memory part.
    """

    resident: int
    peak: int
    private: int
    shared: int
    switches: int
    threads: int = 1


def read(path: str) -> str:
    """Contents of a small file of /proc, or an empty text when it is gone."""
    try:
        with open(path, "rb", buffering=0) as file:  # noqa: PTH123 - the cheapest way
            return file.read(65536).decode("utf-8", "replace")
    except OSError:
        return ""


def program(pid: int) -> str:
    """Name of the file that a process runs, without its folder; "" where that is hidden."""
    try:
        return os.path.basename(os.readlink(f"/proc/{pid}/exe"))  # noqa: PTH119, PTH115
    except OSError:
        return ""


def children(pid: int) -> list[int]:
    """Processes started by any thread of a process and not yet reaped."""
    found: list[int] = []
    try:
        threads = os.listdir(f"/proc/{pid}/task")  # noqa: PTH208 - the cheapest way
    except OSError:
        return found
    for thread in threads:
        found += map(int, read(f"/proc/{pid}/task/{thread}/children").split())
    return found


def descendants(pid: int) -> Iterator[int]:
    """All processes below a process, parents before children."""
    waiting = children(pid)
    while waiting:
        child = waiting.pop()
        yield child
        waiting += children(child)


def cpu_clock(pid: int) -> float:
    """CPU seconds used so far by all threads of a process, to the nanosecond, or 0.

    The kernel's per-process clock, as clock_getcpuclockid(3) derives it from the pid.
    """
    try:
        return time.clock_gettime((~pid << 3) | 2)
    except OSError:
        return 0.0


@dataclass(frozen=True)
class Cpu:
    """CPU seconds, split as the kernel splits them."""

    user: float = 0.0
    system: float = 0.0

    @property
    def total(self) -> float:
        return self.user + self.system

    def __add__(self, other: "Cpu") -> "Cpu":
        return Cpu(self.user + other.user, self.system + other.system)

    def __sub__(self, other: "Cpu") -> "Cpu":
        return Cpu(max(0.0, self.user - other.user), max(0.0, self.system - other.system))


def cpu_of(pid: int) -> Cpu:
    """CPU of a live process or of one not yet reaped, with its reaped children's.

    The process's own total comes from its clock where it still has one; /proc/PID/stat
    counts in ticks of 10 ms and gives the split.
    """
    fields = read(f"/proc/{pid}/stat").rpartition(")")[2].split()
    if len(fields) < 15:
        return Cpu()
    user, system, child_user, child_system = (int(f) / TICKS for f in fields[11:15])
    own = Cpu(user, system)
    if exact := cpu_clock(pid):
        share = user / own.total if own.total else 1.0
        own = Cpu(exact * share, exact * (1 - share))
    return own + Cpu(child_user, child_system)


def status(pid: int) -> Status | None:
    """Memory and switches of a process, or None when it is gone."""
    values = {name: int(word) for name, word in _STATUS.findall(read(f"/proc/{pid}/status"))}
    if "VmRSS" not in values:
        return None
    return Status(
        resident=values["VmRSS"] * 1024,
        peak=values["VmHWM"] * 1024,
        private=values["RssAnon"] * 1024,
        shared=values["RssShmem"] * 1024,
        threads=values.get("Threads", 1),
        switches=values["voluntary_ctxt_switches"] + values["nonvoluntary_ctxt_switches"],
    )


def memory_files(pids: Iterable[int]) -> int:
    """Bytes of files in memory that processes hold open and that lie in no folder (memfd_create),
    each file once."""
    held: dict[tuple[int, int], int] = {}
    for pid in pids:
        folder = f"/proc/{pid}/fd"
        try:
            names = os.listdir(folder)  # noqa: PTH208 - the cheapest way
        except OSError:
            continue
        for name in names:
            try:
                if os.readlink(f"{folder}/{name}").startswith("/memfd:"):  # noqa: PTH115
                    state = os.stat(f"{folder}/{name}")  # noqa: PTH116
                    held[state.st_dev, state.st_ino] = state.st_blocks * 512
            except OSError:
                continue
    return sum(held.values())


def reset_peak(pid: int) -> bool:
    """Set a process's memory high-water mark back to what it holds now."""
    try:
        with open(f"/proc/{pid}/clear_refs", "w") as file:  # noqa: PTH123
            file.write("5")
    except OSError:
        return False
    return True


def disk_io(pid: int) -> tuple[int, int] | None:
    """Bytes a process read from and wrote to disk so far, or None where it is hidden."""
    values = dict(line.split(": ") for line in read(f"/proc/{pid}/io").splitlines() if ": " in line)
    if "read_bytes" not in values:
        return None
    return int(values["read_bytes"]), int(values["write_bytes"])


def waits_for_core(pid: int) -> dict[str, float] | None:
    """For each living thread of a process the seconds that it was ready to run but had no
    core, or None where the kernel does not tell."""
    found = {}
    try:
        threads = os.listdir(f"/proc/{pid}/task")  # noqa: PTH208 - the cheapest way
    except OSError:
        return None
    for thread in threads:
        fields = read(f"/proc/{pid}/task/{thread}/schedstat").split()
        if len(fields) > 1:
            found[thread] = int(fields[1]) / 1e9
    return found or None


def resident(pid: int) -> int:
    """Bytes that a process holds now, read as cheaply as can be; 0 when it is gone."""
    fields = read(f"/proc/{pid}/statm").split()
    return int(fields[1]) * _PAGE if len(fields) > 1 else 0


def busy_seconds() -> float | None:
    """CPU seconds that all cores of the machine were busy since it started, in ticks of 10 ms,
    or None where it is not told."""
    times = core_times()
    return sum(busy for busy, _ in times) / TICKS if times else None


def core_times() -> list[tuple[int, int]]:
    """For each core of the machine: ticks busy and ticks in all, since it started. What the host
    of a virtual machine took is not busy."""
    return [
        (sum(ticks) - ticks[3] - ticks[4] - _stolen(ticks), sum(ticks)) for ticks in _core_ticks()
    ]


def stolen_seconds() -> float | None:
    """Seconds that the host of a virtual machine gave its cores to others while they were wanted
    here, of all cores together, or None where it is not told."""
    cores = _core_ticks()
    return sum(map(_stolen, cores)) / TICKS if cores else None


def running_tasks() -> int | None:
    """Tasks that run or could run now on the whole machine, or None where it is not told."""
    for line in reversed(read("/proc/stat").splitlines()):
        if line.startswith("procs_running"):
            return int(line.split()[1])
    return None


def _core_ticks() -> list[list[int]]:
    """For each core ticks: user, nice, system, idle, waiting for disks, interrupts, stolen."""
    return [
        [int(field) for field in line.split()[1:9]]
        for line in read("/proc/stat").splitlines()
        if line.startswith("cpu") and line[3].isdigit()
    ]


def _stolen(ticks: list[int]) -> int:
    return ticks[7] if len(ticks) > 7 else 0
