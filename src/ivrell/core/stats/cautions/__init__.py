"""What weakens a result, said unasked: each with its reason and what would help.

A new caution is a function of a Scene and a line in CAUTIONS that says how far it reaches. They
are told in that order: what could change the winner comes first.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence

from ivrell.core.base.quantities import format_seconds, three_figures
from ivrell.core.records.findings import REACHES, Caution, Extent, LaneFindings, Reach
from ivrell.core.stats.cautions import answers, fairness, machine, noise, resolution, work
from ivrell.core.stats.cautions.scene import Scene

CAUTIONS: tuple[tuple[Callable[[Scene], Iterator[Caution]], Reach], ...] = (
    (answers.disagreement, "winner"),
    (answers.reference, "winner"),
    (answers.wide_tolerance, "winner"),
    (answers.random_answer, "winner"),
    (answers.unfinished, "winner"),
    (work.result_cache, "winner"),
    (work.engine_kept_answer, "winner"),
    (fairness.unlike_inputs, "winner"),
    (fairness.sorted_beforehand, "winner"),
    (fairness.result_discarded, "winner"),
    (fairness.outside_the_clock, "winner"),
    (fairness.after_the_answer, "winner"),
    (work.more_cores, "winner"),
    (work.unequal_placement, "winner"),
    (work.unequal_threads, "winner"),
    (noise.waiting, "winner"),
    (noise.disturbed, "winner"),
    (resolution.below_the_clock, "winner"),
    (work.too_short, "winner"),
    (fairness.fits_the_cache, "winner"),
    (machine.mixed_versions, "winner"),
    (machine.shifted, "margin"),
    (machine.swapping, "winner"),
    (machine.throttled, "winner"),
    (noise.few_rounds, "margin"),
    (noise.noisy, "margin"),
    (noise.busy_machine, "margin"),
    (noise.drift_over_time, "margin"),
    (work.first_slower, "margin"),
    (work.first_call_compiles, "margin"),
    (work.not_cold, "margin"),
    (machine.on_battery, "margin"),
    (noise.set_aside, "aside"),
    (answers.drift, "aside"),
    (resolution.memory_grain, "aside"),
    (resolution.server_ticks, "aside"),
)
"""Each with how far it reaches at the most."""

_MOST_NAMED = 4
_WHOLE = 10


def cautions(scene: Scene) -> list[Caution]:
    """All that weakens the result, that first which could change the winner."""
    quickest = min(
        (lane.elapsed.median for lane in scene.lanes if lane.id in scene.leaders and lane.elapsed),
        default=None,
    )
    by_id = {lane.id: lane for lane in scene.lanes}
    found = []
    for look, reach in CAUTIONS:
        for caution in look(scene):
            near = caution.lane is None or _near(by_id[caution.lane], scene, quickest)
            held = reach if near or reach != "winner" else "margin"
            found.append(caution.model_copy(update={"reach": held}))
    kinds: dict[tuple[str, int], list[Caution]] = {}
    for place, caution in enumerate(found):
        # What is about no lane stands by itself.
        kinds.setdefault((caution.word, -1 if caution.lane else place), []).append(caution)
    names = {lane.id: lane.name for lane in scene.lanes}
    told = [one[0] if len(one) == 1 else _of_several(one, names) for one in kinds.values()]
    return sorted(told, key=lambda caution: REACHES.index(caution.reach))


def _of_several(cautions: list[Caution], names: Mapping[str, str]) -> Caution:
    """One caution for those of one kind, with the lanes and how far it goes."""
    lanes = list(dict.fromkeys(names[one.lane] for one in cautions if one.lane is not None))
    if len(lanes) == len(names):
        who = f"all {len(names)} lanes" if len(names) > 2 else "both lanes"
    elif len(lanes) > _MOST_NAMED:
        who = f"{', '.join(lanes[: _MOST_NAMED - 1])} and {len(lanes) - _MOST_NAMED + 1} others"
    else:
        who = " and ".join(filter(None, (", ".join(lanes[:-1]), lanes[-1])))
    extents = [one.extent for one in cautions if one.extent]
    span = f", {_span(extents)}" if len(extents) == len(cautions) else ""
    return Caution(
        word=cautions[0].word,
        reason=f"{who[0].upper()}{who[1:]}{span}.",
        hint=cautions[0].hint,
        reach=min((one.reach for one in cautions), key=REACHES.index),
        each=cautions,
    )


def _span(extents: Sequence[Extent]) -> str:
    """From the least to the most, the unit once."""
    low, high = min(one.value for one in extents), max(one.value for one in extents)
    if extents[0].quantity == "seconds":
        return f"{format_seconds(low)} to {format_seconds(high)}"
    scale, unit = {"share": (100, "%"), "times": (1, "times"), "cores": (1, "cores")}[
        extents[0].quantity
    ]
    ends = dict.fromkeys(
        f"{scale * value:,.0f}" if scale * value >= _WHOLE else three_figures(scale * value)
        for value in (low, high)
    )
    return f"{' to '.join(ends)} {unit}"


def _near(lane: LaneFindings, scene: Scene, quickest: float | None) -> bool:
    """Whether a lane could be the winner, or would be if it were mended: it is among those ahead,
    or no slower, or nobody knows how long it takes."""
    if lane.id in scene.leaders or quickest is None or lane.elapsed is None:
        return True
    return lane.elapsed.median <= quickest


__all__ = ["CAUTIONS", "Scene", "cautions"]
