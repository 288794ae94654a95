"""What machine this is, and what it is doing before a trial."""

import datetime
import importlib.metadata
import os
import platform
import shutil
from pathlib import Path

import psutil

from ivrell.core.base.folders import data_folder
from ivrell.core.contain.sandbox import why_not
from ivrell.core.engines.base import state_of
from ivrell.core.engines.registry import ENGINES
from ivrell.core.measure import constraints, noise
from ivrell.core.measure.group import RunGroup
from ivrell.core.records.machine import InstalledEngine, Machine, Methods, SandboxState
from ivrell.core.stats.history import usual_spreads

_SECONDS_OF_LOOKING = 0.5


def processor() -> str:
    """Name of the processor as the kernel gives it."""
    for line in Path("/proc/cpuinfo").read_text().splitlines():
        if line.startswith("model name"):
            return line.partition(":")[2].strip()
    return platform.processor() or platform.machine()


def pressure() -> dict[str, float] | None:
    """Share of the last 10 s in which something waited for a core, memory or disk, in
    percent; None where the kernel does not tell."""
    found = {}
    for kind in ("cpu", "memory", "io"):
        path = Path("/proc/pressure") / kind
        try:
            words = path.read_text().split()
        except OSError:
            return None
        found[kind] = float(words[1].removeprefix("avg10="))
    return found


def groups_allowed() -> bool:
    """Whether a run can have a control group of its own here."""
    group = RunGroup.make(f"ivrell-look-{os.getpid()}")
    if group:
        group.remove()
    return group is not None


def busy_cores() -> float:
    """How many cores are busy now, measured over half a second."""
    return round(sum(psutil.cpu_percent(interval=_SECONDS_OF_LOOKING, percpu=True)) / 100, 2)


def snapshot(folder: Path) -> Machine:
    """The machine as it is now: kept with every trial.

    ``busy_cores`` takes half a second to measure and is left to the caller.
    """
    memory = psutil.virtual_memory()
    disk = shutil.disk_usage(folder)
    engines = {name: state_of(engine) for name, engine in ENGINES.items()}
    reason = why_not()
    return Machine(
        host=platform.node(),
        taken_at=datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds"),
        processor=processor(),
        architecture=platform.machine(),
        cores=len(os.sched_getaffinity(0)),
        memory_bytes=memory.total,
        free_memory_bytes=memory.available,
        free_disk_bytes=disk.free,
        kernel=platform.release(),
        system=_system(),
        python=platform.python_version(),
        load=list(os.getloadavg()),
        noise=noise.kept(data_folder()),
        usual_spreads=usual_spreads(data_folder()),
        sandbox=SandboxState(works=reason is None, why_not=reason),
        pressure=pressure(),
        quota_cores=constraints.quota_cores(),
        cache_bytes=constraints.cache_bytes(),
        on_battery=constraints.on_battery(),
        engines={
            name: InstalledEngine(installed=state.installed, versions=state.versions)
            for name, state in engines.items()
        },
        ivrell=importlib.metadata.version("ivrell"),
        methods=Methods(
            cpu="sum of the worker's usage and of every process below it, "
            "orphans reaped by a subreaper; "
            + (
                "a control group a run catches what that sum cannot see"
                if groups_allowed()
                else "no control groups here: children whose end is ignored are not seen"
            ),
            memory="kernel high-water mark of the worker, set back at the start; "
            "with children also the sampled sum of their private memory; the kernel counts to some "
            "0.3 MB",
        ),
    )


def _system() -> str:
    try:
        return platform.freedesktop_os_release().get("PRETTY_NAME", platform.system())
    except OSError:
        return platform.system()
