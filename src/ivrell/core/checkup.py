"""A look at this machine: what is there, what it allows, what that means for the figures."""

import importlib.util
import os
import shutil
import time
from collections.abc import Iterator
from pathlib import Path

from ivrell.core.base.quantities import format_bytes
from ivrell.core.contain import sandbox
from ivrell.core.engines.registry import states
from ivrell.core.machine import groups_allowed
from ivrell.core.measure.constraints import on_battery, quota_cores
from ivrell.core.records.checkup import Check, CheckState, Checkup
from ivrell.core.report.document.paper import browser

_CLOCK = Path("/sys/devices/system/clocksource/clocksource0/current_clocksource")
_SLOW_CLOCKS = ("hpet", "acpi_pm", "jiffies", "refined-jiffies")
_CPUINFO = Path("/proc/cpuinfo")
_PEAK = Path("/proc/self/clear_refs")
_LITTLE_DISK = 5 * 10**9
_LITTLE_MEMORY = 2 * 10**9
_NEEDED_BY_SERVER = ("django", "rest_framework", "procrastinate", "uvicorn")


def checkup(folder: Path) -> Checkup:
    """Look at this machine.

    Args:
        folder: where data and results are to lie.
    """
    return Checkup(
        checks=[
            _sandbox(), _groups(), _peak(), _clock(), _cores(), _guest(), _power(), *_room(folder),
            *_engines(), _application(), _history(), _browser(),
        ]
    )  # fmt: skip


def _sandbox() -> Check:
    reason = sandbox.why_not()
    if reason is None:
        return Check(area="safety", about="sandbox", state="good",
                     found="lanes run in one: no network, no files but their own")  # fmt: skip
    return Check(
        area="safety", about="sandbox", state="missing", found=reason,
        means="Code of lanes runs with the rights of this account; a bundle's is not run at all.",
        remedy="Install bubblewrap and allow user namespaces: docs/security.md.",
    )  # fmt: skip


def _groups() -> Check:
    if groups_allowed():
        return Check(area="figures", about="control groups", state="good",
                     found="each run has a control group of its own")  # fmt: skip
    return Check(
        area="figures", about="control groups", state="limited",
        found="no control group can be made",
        means="CPU time of children whose end is ignored is not seen, and memory limits are "
        "watched for by sampling; elapsed time is as good.",
        remedy="Run it as root, or within: systemd-run --user --scope -p Delegate=yes",
    )  # fmt: skip


def _peak() -> Check:
    if os.access(_PEAK, os.W_OK):
        return Check(area="figures", about="peak memory", state="good",
                     found="the kernel's high-water mark can be set back")  # fmt: skip
    return Check(
        area="figures", about="peak memory", state="limited",
        found="the kernel's high-water mark cannot be set back",
        means="Peaks below what a process held before its clock started are not seen.",
        remedy="A kernel with CONFIG_PROC_PAGE_MONITOR has it; containers may hide it.",
    )  # fmt: skip


def _clock() -> Check:
    source = _first_line(_CLOCK)
    slow = source in _SLOW_CLOCKS
    resolution = time.get_clock_info("perf_counter").resolution
    return Check(
        area="figures", about="clock", state="limited" if slow else "good",
        found=f"{source or 'unknown source'}, {resolution * 1e9:.0f} ns apart",
        means="Each look at it takes a microsecond or more: lanes below a millisecond look longer."
        if slow else "",
        remedy="Let the kernel use the processor's own clock (clocksource=tsc)." if slow else "",
    )  # fmt: skip


def _cores() -> Check:
    cores = len(os.sched_getaffinity(0))
    quota = quota_cores()
    told = f"{cores} {'core' if cores == 1 else 'cores'}"
    if quota is not None and quota < cores:
        return Check(
            area="figures", about="cores", state="limited",
            found=f"{told}, of which a control group allows {quota:g}",
            means="Lanes of several threads are held back when the quota is used up, and times "
            "jump; the findings name it.",
            remedy="Raise the quota, or say so many threads in the plan.",
        )  # fmt: skip
    if cores < 2:
        return Check(
            area="figures", about="cores", state="limited", found=told,
            means="Ivrell's own work and a lane's share it.", remedy="Two cores or more.",
        )  # fmt: skip
    return Check(area="figures", about="cores", state="good", found=told)


def _guest() -> Check:
    flags = next(
        (line for line in _lines(_CPUINFO) if line.startswith(("flags", "Features"))), ""
    ).split()
    if "hypervisor" in flags:
        return Check(
            area="figures", about="virtual machine", state="limited",
            found="this is a guest; others may take its cores",
            means="Rounds differ more, by what nobody here can see; ratios within rounds suffer "
            "least, CPU time little.",
            remedy="More rounds; a machine of its own for what is to be told below 10 %.",
        )  # fmt: skip
    return Check(area="figures", about="virtual machine", state="good",
                 found="none that the processor tells of")  # fmt: skip


def _power() -> Check:
    if on_battery():
        return Check(
            area="figures", about="power", state="limited", found="on battery",
            means="The processor is slowed, and not evenly.", remedy="Plug it in.",
        )  # fmt: skip
    return Check(area="figures", about="power", state="good", found="not on battery")


def _room(folder: Path) -> Iterator[Check]:
    there = next(path for path in (folder, *folder.parents) if path.exists())
    disk = shutil.disk_usage(there).free
    few = disk < _LITTLE_DISK
    yield Check(
        area="figures", about="disk", state="limited" if few else "good",
        found=f"{format_bytes(disk)} free for {folder}",
        means="Large data cannot be made, and a full disk ends a trial." if few else "",
        remedy="Set IVRELL_DATA to a folder with more room." if few else "",
    )  # fmt: skip
    memory = os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    cached = next(
        (int(line.split()[1]) * 1024 for line in _lines(Path("/proc/meminfo"))
         if line.startswith("MemAvailable")),
        memory,
    )  # fmt: skip
    little = cached < _LITTLE_MEMORY
    yield Check(
        area="figures", about="memory", state="limited" if little else "good",
        found=f"{format_bytes(cached)} free",
        means="Lanes may swap or be killed at sizes that fit elsewhere." if little else "",
        remedy="End other programs, or say a memory limit in the plan." if little else "",
    )  # fmt: skip


def _engines() -> Iterator[Check]:
    for one in states():
        if one.installed and not one.problem:
            told = ", ".join(f"{name} {version}" for name, version in one.versions.items())
            yield Check(area="engines", about=one.name, state="good", found=told or "there")
            continue
        state: CheckState = "limited" if one.arriving else "missing"
        lacks = one.problem or f"{', '.join(one.missing) or 'it'} is not installed"
        yield Check(
            area="engines", about=one.name, state=state,
            found="being installed" if one.arriving else lacks,
            means="Its lanes are left out, and the findings say so.", remedy=one.hint,
        )  # fmt: skip


def _application() -> Check:
    lacks = [name for name in _NEEDED_BY_SERVER if importlib.util.find_spec(name) is None]
    if lacks:
        return Check(
            area="application", about="packages", state="missing",
            found=f"{', '.join(lacks)} not installed",
            means="The command line and the library work; the application in a browser does not.",
            remedy="pip install 'ivrell[server]'",
        )  # fmt: skip
    return Check(area="application", about="packages", state="good", found="all that it needs")


def _history() -> Check:
    if shutil.which("git"):
        return Check(area="application", about="git", state="good", found="there")
    return Check(
        area="application", about="git", state="missing", found="git is not installed",
        means="A gate cannot be held against a version of the repository.", remedy="Install git.",
    )  # fmt: skip


def _browser() -> Check:
    if found := browser():
        return Check(area="reports", about="PDF", state="good", found=Path(found).name)
    return Check(
        area="reports", about="PDF", state="missing", found="no browser that can print",
        means="Reports are pages and Markdown, and no PDF.", remedy="Install chromium.",
    )  # fmt: skip


def _lines(path: Path) -> list[str]:
    try:
        return path.read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return []


def _first_line(path: Path) -> str:
    return next(iter(_lines(path)), "")
