"""Figures that are smaller than what they are measured with can show."""

from collections.abc import Iterator
from itertools import pairwise

from ivrell.core.base.quantities import format_bytes, format_seconds
from ivrell.core.records.findings import Caution
from ivrell.core.stats.cautions.scene import Scene, caution

GRAIN_BYTES = 1_000_000
"""Peaks of less say little: the kernel keeps some 0.3 MB of a process uncounted at a time."""

TICK_S = 0.01
"""The kernel counts the CPU time of a server's processes that have ended in these steps, and how
all of it splits into user and system."""

_TICKS = 5
_STEP_S = 1e-6


def memory_grain(scene: Scene) -> Iterator[Caution]:
    """Whether peaks of memory are too small to be compared."""
    small = [
        lane for lane in scene.lanes if lane.peak_memory and lane.peak_memory.median < GRAIN_BYTES
    ]
    known = [lane for lane in scene.lanes if lane.peak_memory]
    if small and len(known) > 1:
        names = ", ".join(lane.name for lane in small)
        yield caution(
            "memory below resolution",
            f"{names}: a peak below {format_bytes(GRAIN_BYTES)} above the start is near what the "
            "kernel can tell (some 0.3 MB).",
            "Compare memory at a larger size.",
        )


def below_the_clock(scene: Scene) -> Iterator[Caution]:
    """Whether two lanes are apart by less than the clock around one call can show."""
    quick = sorted(
        (lane for lane in scene.lanes if lane.trusted and lane.elapsed),
        key=lambda lane: lane.elapsed.median if lane.elapsed else 0.0,
    )
    for first, second in pairwise(quick):
        assert first.elapsed and second.elapsed
        apart = second.elapsed.median - first.elapsed.median
        repeats = min(first.inner_repeats or 1, second.inner_repeats or 1)
        if 0 < apart < _STEP_S / repeats:
            yield caution(
                "below the clock",
                f"{first.name} and {second.name} are {format_seconds(apart)} apart, less than the "
                f"clock around a call can show ({format_seconds(_STEP_S / repeats)}).",
                "Compare at a larger size, or let the plan repeat short calls.",
                first.id,
            )


def server_ticks(scene: Scene) -> Iterator[Caution]:
    """Whether CPU time that was counted in steps of a hundredth of a second is too short for it."""
    for lane in scene.lanes:
        cpu = lane.cpu_total
        if cpu and lane.server_cpu and cpu.median < _TICKS * TICK_S:
            yield caution(
                "CPU time near its step",
                f"Of {lane.name}'s CPU time ({format_seconds(cpu.median)} in all) what the "
                "server's processes used that ended meanwhile is counted in steps of "
                f"{format_seconds(TICK_S)}.",
                "Compare CPU time at a larger size.",
                lane.id,
            )
