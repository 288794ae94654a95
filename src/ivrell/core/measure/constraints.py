"""What holds a whole machine back while runs go on: quota, heat, swapping, a battery.

Read from the kernel: control groups (cpu.max, cpu.stat of version 2), core_throttle_count, vmstat.
What a machine does not tell is None, and nothing is said of it.
"""

import resource
from dataclasses import dataclass
from pathlib import Path

_GROUPS = Path("/sys/fs/cgroup")
_CPUS = Path("/sys/devices/system/cpu")
_VMSTAT = Path("/proc/vmstat")


def quota_cores(groups: Path = _GROUPS, own: Path = Path("/proc/self/cgroup")) -> float | None:
    """Cores that the control groups above this process allow, the least of them; None for no
    quota."""
    quotas = []
    for folder in _above(groups, own):
        try:
            limit, period = (folder / "cpu.max").read_text().split()
        except (OSError, ValueError):
            continue
        if limit != "max":
            quotas.append(float(limit) / float(period))
    return min(quotas, default=None)


def throttled_s(groups: Path = _GROUPS, own: Path = Path("/proc/self/cgroup")) -> float | None:
    """Seconds that tasks of the groups above this process were held by a quota so far, the most of
    any group; None where no group tells."""
    found = []
    for folder in _above(groups, own):
        try:
            text = (folder / "cpu.stat").read_text()
        except OSError:
            continue
        told = dict(line.split() for line in text.splitlines() if len(line.split()) == 2)
        if "throttled_usec" in told:
            found.append(int(told["throttled_usec"]) / 1e6)
    return max(found, default=None)


def _above(groups: Path, own: Path) -> list[Path]:
    """Folders of the group that this process is in and of all above it."""
    try:
        lines = own.read_text().splitlines()
    except OSError:
        return []
    path = next((line[3:] for line in lines if line.startswith("0::")), None)
    if path is None:
        return []
    at = groups / path.strip("/")
    return [at, *(above for above in at.parents if above == groups or groups in above.parents)]


def heat_throttles(cpus: Path = _CPUS) -> int | None:
    """How often cores were slowed for heat since the machine started; None where it is not told."""
    files = list(cpus.glob("cpu[0-9]*/thermal_throttle/core_throttle_count"))
    try:
        counts = [int(file.read_text()) for file in files]
    except (OSError, ValueError):
        return None
    return sum(counts) if counts else None


def swapped_bytes(vmstat: Path = _VMSTAT) -> float | None:
    """Bytes that were swapped in and out since the machine started."""
    try:
        told = dict(line.split() for line in vmstat.read_text().splitlines())
        pages = int(told["pswpin"]) + int(told["pswpout"])
    except (OSError, ValueError, KeyError):
        return None
    return float(pages * resource.getpagesize())


def on_battery() -> bool | None:
    """Whether the machine runs from its battery; None where it has none or does not tell."""
    # Loaded where it is used: the runner asks the other figures and is to stay small.
    import psutil

    look = getattr(psutil, "sensors_battery", None)
    battery = look() if look else None
    return None if battery is None or battery.power_plugged is None else not battery.power_plugged


@dataclass(frozen=True)
class HostConstraints:
    """What held the machine back since it started; None is not told."""

    throttled_s: float | None
    swapped_bytes: float | None
    heat_throttles: int | None = None

    @classmethod
    def now(cls, *, with_heat: bool = False) -> "HostConstraints":
        """As it is at this moment; heat takes a look at each core."""
        return cls(throttled_s(), swapped_bytes(), heat_throttles() if with_heat else None)

    def since(self, before: "HostConstraints") -> "HostConstraints":
        """What came since another moment."""

        def apart(now: float | None, then: float | None) -> float | None:
            return None if now is None or then is None else max(0.0, now - then)

        heat = apart(self.heat_throttles, before.heat_throttles)
        return HostConstraints(
            apart(self.throttled_s, before.throttled_s),
            apart(self.swapped_bytes, before.swapped_bytes),
            None if heat is None else int(heat),
        )


def cache_bytes(cpus: Path = _CPUS) -> int | None:
    """Size of the largest cache that a processor core has a share in; None where it is not told."""
    sizes = []
    for file in cpus.glob("cpu0/cache/index*/size"):
        text = file.read_text().strip()
        scale = {"K": 1 << 10, "M": 1 << 20}.get(text[-1:], 1)
        if (digits := text.rstrip("KM")).isdigit():
            sizes.append(int(digits) * scale)
    return max(sizes, default=None)
