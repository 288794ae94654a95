"""A machine that was held back while the trial went on: swapping, quota, heat, battery."""

from collections.abc import Iterator

from ivrell.core.base.quantities import format_bytes, format_seconds, three_figures
from ivrell.core.records.findings import Caution
from ivrell.core.stats.cautions.scene import Scene, caution, times

_SWAPPED = 10_000_000
_THROTTLED_S = 0.1
_MOST_CHANGES = 4


def mixed_versions(scene: Scene) -> Iterator[Caution]:
    """Whether runs that are held against each other were made with other versions."""
    if scene.changes:
        told = "; ".join(str(change) for change in scene.changes[:_MOST_CHANGES])
        more = len(scene.changes) - _MOST_CHANGES
        yield caution(
            "mixed versions",
            f"These runs are of several sessions, and not all was the same: {told}"
            f"{f'; and {more} more' if more > 0 else ''}.",
            "Run all of them anew with the versions of one session.",
        )


def shifted(scene: Scene) -> Iterator[Caution]:
    """Whether all lanes together took longer or shorter in a later session."""
    for shift in scene.shifts:
        apart = max(shift.value, 1 / shift.value)
        if shift.told and apart > 1 + scene.matters:
            span = f"{three_figures(shift.low)} to {three_figures(shift.high)}"
            lanes = f"{shift.lanes} lane{'' if shift.lanes == 1 else 's'}"
            yield caution(
                "sessions apart",
                f"Runs of session {shift.after} took {three_figures(shift.value)} times ({span}) "
                f"what those of session {shift.before} took, by {lanes} that ran in both: medians "
                "mix the two, ratios are formed within rounds of one session.",
                "Go by the ratios; or run all of them anew.",
                extent=times(apart),
            )


def swapping(scene: Scene) -> Iterator[Caution]:
    """Whether memory ran so short that pages went to disk and back."""
    swapped = scene.machine.swapped_bytes
    if swapped is not None and swapped > _SWAPPED:
        yield caution(
            "swapping",
            f"{format_bytes(swapped)} were swapped while the trial ran: memory was short, and "
            "times are those of the disk in part.",
            "Close other programs, or compare at a smaller size.",
        )


def throttled(scene: Scene) -> Iterator[Caution]:
    """Whether cores were taken away, by a quota or for heat."""
    held, heat = scene.machine.throttled_s, scene.machine.heat_throttles
    if held is not None and held > _THROTTLED_S:
        quota = scene.machine.quota_cores
        allowed = f" of {three_figures(quota)} cores" if quota else ""
        yield caution(
            "held by a quota",
            f"A quota{allowed} held tasks back for {format_seconds(held)} while the trial ran.",
            "Give the control group more cores, or pin lanes to as many as it allows.",
        )
    if heat:
        yield caution(
            "slowed for heat",
            f"Cores were slowed for heat {heat:,} times while the trial ran.",
            "Let the machine cool, and run longer rounds with pauses.",
        )


def on_battery(scene: Scene) -> Iterator[Caution]:
    """Whether the machine saved its battery."""
    if scene.machine.on_battery:
        yield caution(
            "on battery",
            "The machine ran from its battery, when processors are often slowed to spare it.",
            "Plug it in and run again.",
        )
