"""Work that is not what it seems: kept results, warm caches, more cores, code outside the clock."""

from collections.abc import Iterator
from statistics import median

from ivrell.core.base.quantities import format_seconds, three_figures
from ivrell.core.records.findings import Caution
from ivrell.core.stats.cautions.scene import Scene, caution, seconds, share, times

_FIRST_SLOWER = 1.5
_CALLS_FOR_CACHE = 2
_KEPT = 20
_FIRST_CALL = 1.5
_FIRST_CALL_S = 0.01
_TOO_SHORT_S = 0.002
_STILL_CACHED = 0.1
_OVER_THREADS = 0.3
_MORE_CORES = 1.5
_MORE_CPU = 1.1


def first_slower(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        took = [run.elapsed_s for run in lane.runs if run.counted and run.elapsed_s]
        if len(took) < 3:
            continue
        rest = sorted(took[1:])[len(took[1:]) // 2]
        if took[0] > _FIRST_SLOWER * rest:
            yield caution(
                "first run slower",
                f"{lane.name}'s first counted run took {three_figures(took[0] / rest)} times "
                "its later ones.",
                "Add a warm-up.",
                lane.id,
                times(took[0] / rest),
            )


def result_cache(scene: Scene) -> Iterator[Caution]:
    """Calls in a kept process that cost next to nothing after the first."""
    for lane in scene.lanes:
        first, *later = [call.elapsed_s for call in lane.calls] or [0.0]
        if len(later) < _CALLS_FOR_CACHE or not median(later):
            continue
        if first > _KEPT * median(later):
            yield caution(
                "repeats suspiciously quick",
                f"{lane.name}'s first call in a process took "
                f"{three_figures(first / median(later))} times its later ones: a cache, or "
                "a one-time set-up such as compilation or a library loaded on first use.",
                "Look which it is: a cache would give the old answer to changed data. A fresh "
                "process for each run measures the whole work.",
                lane.id,
                times(first / median(later)),
            )


def too_short(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        elapsed = lane.elapsed
        if elapsed and elapsed.median < _TOO_SHORT_S and (lane.inner_repeats or 1) <= 1:
            yield caution(
                "very short",
                f"One call of {lane.name} takes {format_seconds(elapsed.median)}: what lies "
                "around it weighs as much as it does.",
                "Let the plan repeat short calls until a run lasts 50 ms.",
                lane.id,
                seconds(elapsed.median),
            )


def not_cold(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        cached = lane.cached_share
        if scene.point.get("cache") == "cold" and cached is not None and cached > _STILL_CACHED:
            yield caution(
                "cache not cold",
                f"{three_figures(100 * cached)} % of {lane.name}'s input was still in memory "
                "when its runs began.",
                "Close whatever else reads these files.",
                lane.id,
                share(cached),
            )


def unequal_threads(scene: Scene) -> Iterator[Caution]:
    asked = scene.point.get("threads")
    if not isinstance(asked, int):
        return
    for lane in scene.lanes:
        busy = lane.cores_busy
        if busy is not None and busy > asked + _OVER_THREADS:
            yield caution(
                "more threads than asked",
                f"{lane.name} kept {three_figures(busy)} cores busy where {asked} "
                f"{'thread was' if asked == 1 else 'threads were'} asked for.",
                "Give its library the number of threads in the code, or pin the cores.",
                lane.id,
            )


def more_cores(scene: Scene) -> Iterator[Caution]:
    """Whether the quickest is so by keeping more cores busy while another works less for it."""
    sure = [lane for lane in scene.lanes if lane.trusted and lane.elapsed and lane.cpu_total]
    if len(sure) < 2:
        return
    quickest = min(sure, key=lambda lane: lane.elapsed.median if lane.elapsed else 0.0)
    frugal = min(sure, key=lambda lane: lane.cpu_total.median if lane.cpu_total else 0.0)
    assert quickest.cpu_total and frugal.cpu_total
    cores, fewer = quickest.cores_busy, frugal.cores_busy
    if frugal is quickest or cores is None or fewer is None:
        return
    # What waits most of its time keeps no core busy: more than one is what makes it quicker.
    if cores < _MORE_CORES * max(1.0, fewer):
        return
    if quickest.cpu_total.median > _MORE_CPU * frugal.cpu_total.median:
        yield caution(
            "quicker by more cores",
            f"{quickest.name} is the quickest with {three_figures(cores)} cores busy and "
            f"{format_seconds(quickest.cpu_total.median)} of CPU time; {frugal.name} does it with "
            f"{three_figures(fewer)} and {format_seconds(frugal.cpu_total.median)}. Where cores "
            "are shared or paid for, the order may be the other way round.",
            "Compare CPU time, the fairer measure here, or give every lane the same threads.",
            quickest.id,
        )


def unequal_placement(scene: Scene) -> Iterator[Caution]:
    """Whether one of the quickest had more cores to work with than another lane."""
    there = scene.machine.cores
    cores = {}
    for lane in scene.lanes:
        if not lane.trusted:
            continue
        found = lane.placement.cores if lane.placement else lane.pinned_cores or there
        if found:
            cores[lane.id] = found
    if not any(lane.placement for lane in scene.lanes) or len(cores) < 2:
        return
    fewest = min(cores, key=lambda lane: cores[lane])
    names = {lane.id: lane.name for lane in scene.lanes}
    for lane in scene.lanes:
        if cores.get(lane.id, 0) > cores[fewest]:
            words = lane.placement.words if lane.placement else f"{cores[lane.id]} cores"
            yield caution(
                "more cores",
                f"{lane.name} had {words} to work with, {names[fewest]} had {cores[fewest]}.",
                "Compare CPU time, or give both the same: cores and executors of a session are "
                "settings of its lane.",
                lane.id,
            )


def first_call_compiles(scene: Scene) -> Iterator[Caution]:
    """Whether the first call of a process takes longer than those that follow."""
    for lane in scene.lanes:
        first, elapsed = lane.first_call, lane.elapsed
        if first is None or not elapsed or first - elapsed.median < _FIRST_CALL_S:
            continue
        slower = first / elapsed.median
        if _FIRST_CALL < slower <= _KEPT:
            yield caution(
                "first call slower",
                f"{lane.name}'s first call in a process takes {three_figures(slower)} times its "
                "later ones: it compiles, plans or opens something then.",
                "Whoever calls once pays the first call: it stands among the measures.",
                lane.id,
                times(slower),
            )


def engine_kept_answer(scene: Scene) -> Iterator[Caution]:
    """Whether runs after the first, each in a process of its own, cost next to nothing."""
    for lane in scene.lanes:
        took = [run.elapsed_s for run in lane.runs if run.state == "done" and run.elapsed_s]
        if lane.calls or len(took) < 3:
            continue
        first, later = took[0], sorted(took[1:])[len(took[1:]) // 2]
        if first > _KEPT * later:
            yield caution(
                "answer kept by the engine",
                f"{lane.name}'s first run took {three_figures(first / later)} times its later "
                "ones, each in a new process: the engine may have kept the answer.",
                "Turn its cache of results off, or change the question a little every time.",
                lane.id,
                times(first / later),
            )
