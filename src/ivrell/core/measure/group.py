"""Control groups of one run, where the system lets Ivrell make them.

Version 2 of the kernel's interface is used where it is mounted (``cpu.stat``, ``cpu.pressure``
and ``cgroup.kill``, which every group has whatever controllers are enabled); where only version
1 is, its ``cpuacct``. A ``pids`` group of version 1 bounds the number of processes, a memory group
of either version what they hold together, whatever they hold it in. Standard library only: the
runner uses this.
"""

import os
import signal
import time
from pathlib import Path
from typing import Self

from ivrell.core.measure.proc import Cpu, read

_REMOVE_S = 2.0
_FREEZE_S = 0.1
_FREEZE_LOOK_S = 0.0002
_MEMORY_MARGIN, _MEMORY_MARGIN_BYTES = 20, 64 << 20
"""A part of the limit, at least so many bytes, is let be above it: what the kernel itself holds for
processes is theirs too, and looks that count what they hold themselves say first that it is
reached."""


def _own_groups() -> dict[str, Path]:
    """Folders of the groups that this process is in: under "" that of version 2, under the
    name of a controller those of version 1."""
    mounted: dict[str, str] = {}
    for line in read("/proc/mounts").splitlines():
        fields = line.split()
        if fields[2] == "cgroup2":
            mounted[""] = fields[1]
        elif fields[2] == "cgroup":
            for option in fields[3].split(","):
                mounted.setdefault(option, fields[1])
    found = {}
    for line in read("/proc/self/cgroup").splitlines():
        _, names, inside = line.split(":", 2)
        for name in names.split(","):
            if name in mounted:
                found[name] = Path(mounted[name]) / inside.strip().lstrip("/")
    return found


def sweep() -> None:
    """Remove the groups of runners that died: kill what is left in them first."""
    own = _own_groups()
    names = {path.name for folder in own.values() for path in folder.glob("ivrell-*-*")}
    for name in names:
        pid = name.split("-")[1]
        if pid.isdigit() and not Path(f"/proc/{pid}").exists():
            group = RunGroup({kind: folder / name for kind, folder in own.items()})
            group.kill()
            group.remove()


class RunGroup:
    """One run's control groups: they count the CPU time of all that the run starts, waited for
    or not, bound how many processes it is, and can end all of it at once."""

    def __init__(self, paths: dict[str, Path]) -> None:
        self._paths = paths

    @classmethod
    def make(
        cls, name: str, most_processes: int | None = None, most_bytes: int | None = None
    ) -> Self | None:
        """New groups below this process's own, or None where CPU time cannot be counted so.

        Args:
            name: of the groups.
            most_processes: that may be in them, where the system can keep them to it.
            most_bytes: that they may hold: memory of their own, files in places of memory, what
                the kernel holds for them. The kernel takes its cache of files back first.
        """
        wanted = ["", "cpuacct"] if most_processes is None else ["", "cpuacct", "pids"]
        wanted += [] if most_bytes is None else ["memory"]
        made: dict[str, Path] = {}
        for kind, own in _own_groups().items():
            path = own / name
            try:
                if kind in wanted:
                    path.mkdir()
                    made[kind] = path
            except OSError:
                continue
        group = cls(made)
        if group.cpu() is None or not all(
            os.access(path / "cgroup.procs", os.W_OK) for path in made.values()
        ):
            group.remove()
            return None
        if most_processes is not None and "pids" in made:
            try:
                # One more: the shell of the sandbox is there too.
                (made["pids"] / "pids.max").write_text(str(most_processes + 2))
            except OSError:
                pass
        if most_bytes is not None:
            group._bound_memory(most_bytes)
        return group

    def _bound_memory(self, most_bytes: int) -> None:
        room = most_bytes + max(most_bytes // _MEMORY_MARGIN, _MEMORY_MARGIN_BYTES)
        for path in self._paths.values():
            for name in ("memory.max", "memory.limit_in_bytes"):
                if (path / name).exists():
                    try:
                        (path / name).write_text(str(room))
                    except OSError:
                        continue

    def out_of_memory(self) -> bool:
        """Whether the kernel ended something of the group since it held more than it may."""
        return any(
            _pairs(path / name).get("oom_kill", 0) > 0
            for path in self._paths.values()
            for name in ("memory.events", "memory.oom_control")
        )

    @property
    def bounds_processes(self) -> bool:
        """Whether the kernel itself refuses more processes than allowed."""
        return "pids" in self._paths

    def join(self) -> None:
        """Move the calling process in; called in the child between fork and exec."""
        for path in self._paths.values():
            with open(path / "cgroup.procs", "w") as file:  # noqa: PTH123 - after a fork
                file.write("0")

    def cpu(self) -> Cpu | None:
        """CPU time of everything that ever ran in the group, or None when it is not told."""
        if path := self._paths.get(""):
            values = _pairs(path / "cpu.stat")
            if "user_usec" in values:
                return Cpu(values["user_usec"] / 1e6, values["system_usec"] / 1e6)
        if path := self._paths.get("cpuacct"):
            user, system = (read(str(path / f"cpuacct.usage_{kind}")) for kind in ("user", "sys"))
            if user.strip() and system.strip():
                return Cpu(int(user) / 1e9, int(system) / 1e9)
        return None

    def pids(self) -> list[int] | None:
        """Every process in the group, or None when it is not told."""
        path = self._paths.get("")
        return [int(pid) for pid in read(str(path / "cgroup.procs")).split()] if path else None

    def stalled(self) -> float | None:
        """Seconds in which some task of the group was ready to run but had no core, or None."""
        path = self._paths.get("")
        return stalled(read(str(path / "cpu.pressure"))) if path else None

    def refused(self) -> int:
        """How often the kernel refused another process."""
        path = self._paths.get("pids")
        return int(_pairs(path / "pids.events").get("max", 0)) if path else 0

    def freeze(self) -> bool:
        """Hold every process of the group still; False where the group cannot."""
        path = self._paths.get("")
        if path is None:
            return False
        try:
            (path / "cgroup.freeze").write_text("1")
        except OSError:
            return False
        deadline = time.monotonic() + _FREEZE_S
        while time.monotonic() < deadline:
            if _pairs(path / "cgroup.events").get("frozen"):
                return True
            time.sleep(_FREEZE_LOOK_S)
        self.thaw()
        return False

    def thaw(self) -> None:
        """Let them go on."""
        if path := self._paths.get(""):
            try:
                (path / "cgroup.freeze").write_text("0")
            except OSError:
                pass

    def kill(self) -> None:
        """End every process in the group."""
        if path := self._paths.get(""):
            try:
                (path / "cgroup.kill").write_text("1")
            except OSError:
                pass
            return
        for path in self._paths.values():
            for pid in read(str(path / "cgroup.procs")).split():
                try:
                    os.kill(int(pid), signal.SIGKILL)
                except OSError:
                    pass

    def remove(self) -> None:
        """Remove the groups once their last process is gone."""
        deadline = time.monotonic() + _REMOVE_S
        left = list(self._paths.values())
        while left and time.monotonic() < deadline:
            left = [path for path in left if not _removed(path)]
            if left:
                time.sleep(0.005)


def _removed(path: Path) -> bool:
    try:
        path.rmdir()
    except FileNotFoundError:
        return True
    except OSError:
        return False
    return True


def _pairs(path: Path) -> dict[str, int]:
    """Lines of a name and a number."""
    lines = (line.split() for line in read(str(path)).splitlines())
    return {line[0]: int(line[1]) for line in lines if len(line) == 2 and line[1].isdigit()}


def stalled(pressure: str) -> float | None:
    """Seconds that some task was held up, from the text of a pressure file, or None."""
    for line in pressure.splitlines():
        if line.startswith("some "):
            return int(line.rpartition("total=")[2]) / 1e6
    return None
