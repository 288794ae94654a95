"""A control group for one run, where the system lets Ivrell make one.

Only version 2 of the kernel's interface is used, and only ``cpu.stat`` and ``cgroup.kill``,
which every group has whatever controllers are enabled. Standard library only: the runner
uses this.
"""

import os
import time
from pathlib import Path
from typing import Self

from ivrell.core.measure.proc import Cpu, read

_REMOVE_S = 2.0


def _own_group() -> Path | None:
    """The folder of the group that this process is in, or None without version 2."""
    mounts = [line.split() for line in read("/proc/mounts").splitlines()]
    mounted = next((fields[1] for fields in mounts if fields[2] == "cgroup2"), None)
    inside = next(
        (line[3:] for line in read("/proc/self/cgroup").splitlines() if line.startswith("0::")),
        None,
    )
    if mounted is None or inside is None:
        return None
    return Path(mounted) / inside.strip().lstrip("/")


def sweep() -> None:
    """Remove the groups of runners that died: kill what is left in them first."""
    own = _own_group()
    for path in own.glob("ivrell-*-*") if own else ():
        pid = path.name.split("-")[1]
        if pid.isdigit() and not Path(f"/proc/{pid}").exists():
            group = RunGroup(path)
            group.kill()
            group.remove()


class RunGroup:
    """One run's control group: counts the CPU time of all that the run starts, waited for or
    not, and can end all of it at once."""

    def __init__(self, path: Path) -> None:
        self._path = path

    @classmethod
    def make(cls, name: str) -> Self | None:
        """A new group below this process's own, or None where that is not allowed."""
        own = _own_group()
        if own is None:
            return None
        path = own / name
        try:
            path.mkdir()
        except OSError:
            return None
        group = cls(path)
        if group.cpu() is None or not os.access(path / "cgroup.procs", os.W_OK):
            group.remove()
            return None
        return group

    def join(self) -> None:
        """Move the calling process in; called in the child between fork and exec."""
        with open(self._path / "cgroup.procs", "w") as file:  # noqa: PTH123 - after a fork
            file.write("0")

    def cpu(self) -> Cpu | None:
        """CPU time of everything that ever ran in the group, or None when it is not told."""
        values = dict(
            line.split() for line in read(str(self._path / "cpu.stat")).splitlines() if " " in line
        )
        if "user_usec" not in values:
            return None
        return Cpu(int(values["user_usec"]) / 1e6, int(values["system_usec"]) / 1e6)

    def kill(self) -> None:
        """End every process in the group."""
        try:
            (self._path / "cgroup.kill").write_text("1")
        except OSError:
            pass

    def remove(self) -> None:
        """Remove the group once its last process is gone."""
        deadline = time.monotonic() + _REMOVE_S
        while time.monotonic() < deadline:
            try:
                self._path.rmdir()
            except FileNotFoundError:
                return
            except OSError:
                time.sleep(0.005)
            else:
                return
