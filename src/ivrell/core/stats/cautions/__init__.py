"""What weakens a result, said unasked: each with its reason and what would help.

A new caution is a function of a Scene and a line in CAUTIONS that says how far it reaches. They
are told in that order: what could change the winner comes first.
"""

from collections.abc import Callable, Iterator

from ivrell.core.records.findings import REACHES, Caution, LaneFindings, Reach
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
    (work.more_cores, "winner"),
    (work.unequal_placement, "winner"),
    (work.unequal_threads, "winner"),
    (noise.waiting, "winner"),
    (resolution.below_the_clock, "winner"),
    (work.too_short, "winner"),
    (fairness.fits_the_cache, "winner"),
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
    (answers.drift, "aside"),
    (resolution.memory_grain, "aside"),
    (resolution.server_ticks, "aside"),
)
"""Each with how far it reaches at the most."""


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
    return sorted(found, key=lambda caution: REACHES.index(caution.reach))


def _near(lane: LaneFindings, scene: Scene, quickest: float | None) -> bool:
    """Whether a lane could be the winner, or would be if it were mended: it is among those ahead,
    or no slower, or nobody knows how long it takes."""
    if lane.id in scene.leaders or quickest is None or lane.elapsed is None:
        return True
    return lane.elapsed.median <= quickest


__all__ = ["CAUTIONS", "Scene", "cautions"]
