"""What weakens a result, said unasked: each with its reason and what would help.

A new caution is a function and a line in CAUTIONS.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from statistics import median

from ivrell.core.quantities import format_seconds, three_figures
from ivrell.core.records.findings import Caution, LaneFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point

_FEW_ROUNDS = 5
_NOISY = 0.25
_FIRST_SLOWER = 1.5
_BUSY_CORES = 0.5
_WAITED_SHARE = 0.1
# A page that watches a trial uses some 0.15 of a core, which is no reason to blame others.
_OTHERS_BUSY = 0.25
_ROUNDS_FOR_DRIFT = 6
_DRIFT = 1.15
_CALLS_FOR_CACHE = 2
_CACHED = 20
_TOO_SHORT_S = 0.002
_STILL_CACHED = 0.1
_OVER_THREADS = 0.3
_MORE_CORES = 1.5
_MORE_CPU = 1.1


@dataclass(frozen=True)
class Scene:
    """What cautions look at: lanes of one point as findings hold them, the machine, and the
    lane that the question names as the reference, with its name ("" for none, or a stored
    answer)."""

    lanes: list[LaneFindings]
    machine: Machine
    point: Point = field(default_factory=dict)
    reference: str = ""
    reference_name: str = ""


def _caution(word: str, reason: str, hint: str, lane: str | None = None) -> Caution:
    return Caution(word=word, reason=reason, hint=hint, lane=lane)


def _few_rounds(scene: Scene) -> Iterator[Caution]:
    counts = [lane.elapsed.count for lane in scene.lanes if lane.elapsed]
    if counts and min(counts) < _FEW_ROUNDS:
        yield _caution(
            "few rounds",
            f"Some lanes have {min(counts)} counted "
            f"{'run' if min(counts) == 1 else 'runs'}: intervals are wide and cover less "
            "than 95 %.",
            "Run at least five rounds, ten where time allows.",
        )


def _reference(scene: Scene) -> Iterator[Caution]:
    """Whether answers were held against another lane than asked, or against none."""
    held = [lane for lane in scene.lanes if lane.agreement and lane.agreement.reference]
    itself = [lane for lane in held if lane.agreement and lane.agreement.itself]
    if held and len(held) == len(itself):
        yield _caution(
            "answer not checked",
            f"{itself[0].name} alone gave an answer: there was none to hold it against.",
            "Run the baseline or another lane beside it, or keep an expected answer.",
            itself[0].id,
        )
    elif itself and scene.reference and itself[0].id != scene.reference:
        yield _caution(
            "other reference",
            f"{scene.reference_name} gave no answer here: the others were held against "
            f"{itself[0].name}.",
            f"Let {scene.reference_name} run to its end, or name another lane as the reference.",
            itself[0].id,
        )


def _disagreement(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        found = lane.agreement
        if found and found.unstable:
            yield _caution(
                "answer varies",
                f"{lane.name} does not give the same answer every time: "
                f"{'; '.join(found.reasons)}.",
                "Find what it leaves to chance before trusting its time.",
                lane.id,
            )
        elif found and found.verdict == "different":
            yield _caution(
                "different answer",
                f"{lane.name} does not give the same answer: {'; '.join(found.reasons)}.",
                "Look at the rows that differ on the step Agreement before trusting its time.",
                lane.id,
            )


def _drift(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        found = lane.agreement
        if found and found.verdict == "same values, other types":
            yield _caution(
                "type drift",
                f"{lane.name} gives the right values in other types: {'; '.join(found.reasons)}.",
                "Cast those columns if what comes after relies on their types.",
                lane.id,
            )


def _unfinished(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        if lane.state == "limit":
            yield _caution(
                "limit reached",
                f"{lane.name} {lane.trouble}.",
                "Raise the limit, or compare at a smaller size.",
                lane.id,
            )
        elif lane.state == "failed":
            yield _caution(
                "failed",
                f"{lane.name} failed: {lane.trouble}",
                "Mend its code and run again.",
                lane.id,
            )


def _noise(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        elapsed = lane.elapsed
        if not elapsed or elapsed.count < 3:
            continue
        spread = (elapsed.quartile_3 - elapsed.quartile_1) / elapsed.median
        if spread > _NOISY:
            yield _caution(
                "noisy",
                f"The middle half of {lane.name}'s runs spreads over "
                f"{three_figures(100 * spread)} % of its median.",
                "Close other programs, or run more rounds.",
                lane.id,
            )


def _waiting(scene: Scene) -> Iterator[Caution]:
    """Waiting for a core while other programs had it; an approach of more threads than cores
    waits for itself, which is its own affair."""
    for lane in scene.lanes:
        share, others = lane.run_queue_wait_share, lane.others_busy or 0.0
        if share is not None and share > _WAITED_SHARE and others > _OTHERS_BUSY:
            yield _caution(
                "run-queue wait",
                f"{lane.name} spent {three_figures(100 * share)} % of its time ready to run "
                f"without a core to run on, while other programs kept {three_figures(others)} "
                "cores busy.",
                "Something else was running: stop it and run again.",
                lane.id,
            )


def _busy_machine(scene: Scene) -> Iterator[Caution]:
    busy = scene.machine.busy_cores
    if busy is not None and busy > _BUSY_CORES:
        yield _caution(
            "busy machine",
            f"{three_figures(busy)} of {scene.machine.cores} cores were busy before the "
            "trial began.",
            "Run it again when the machine is quiet.",
        )


def _drift_over_time(scene: Scene) -> Iterator[Caution]:
    """Whether most lanes got slower, or quicker, from the first half of the rounds to the
    second: the machine's doing, not an approach's."""
    changes = []
    for lane in scene.lanes:
        times = [run.elapsed_s for run in lane.runs if run.counted and run.elapsed_s]
        if len(times) >= _ROUNDS_FOR_DRIFT:
            half = len(times) // 2
            changes.append(median(times[-half:]) / median(times[:half]))
    if not changes:
        return
    change = median(changes)
    slower = sum(c > _DRIFT for c in changes) > len(changes) / 2
    quicker = sum(c < 1 / _DRIFT for c in changes) > len(changes) / 2
    if slower or quicker:
        word, factor = ("slower", change) if slower else ("quicker", 1 / change)
        yield _caution(
            "machine drifted",
            f"Most lanes got {word} as the trial went on, about {three_figures(factor)} times from "
            "the first half of the rounds to the second. Ratios, formed within rounds, bear it; "
            "medians bear it less.",
            "Run it again when the machine is quiet.",
        )


def _first_slower(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        times = [run.elapsed_s for run in lane.runs if run.counted and run.elapsed_s]
        if len(times) < 3:
            continue
        rest = sorted(times[1:])[len(times[1:]) // 2]
        if times[0] > _FIRST_SLOWER * rest:
            yield _caution(
                "first run slower",
                f"{lane.name}'s first counted run took {three_figures(times[0] / rest)} times "
                "its later ones.",
                "Add a warm-up.",
                lane.id,
            )


def _result_cache(scene: Scene) -> Iterator[Caution]:
    """Calls in a kept process that cost next to nothing after the first."""
    for lane in scene.lanes:
        first, *later = [call.elapsed_s for call in lane.calls] or [0.0]
        if len(later) < _CALLS_FOR_CACHE or not median(later):
            continue
        if first > _CACHED * median(later):
            yield _caution(
                "repeats suspiciously quick",
                f"{lane.name}'s first call in a process took "
                f"{three_figures(first / median(later))} times its later ones: something kept "
                "the result, or did its work once for all.",
                "Look whether the approach, its library or its engine keeps results; a fresh "
                "process for each run measures the whole work.",
                lane.id,
            )


def _too_short(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        elapsed = lane.elapsed
        if elapsed and elapsed.median < _TOO_SHORT_S and (lane.inner_repeats or 1) <= 1:
            yield _caution(
                "very short",
                f"One call of {lane.name} takes {format_seconds(elapsed.median)}: what lies "
                "around it weighs as much as it does.",
                "Let the plan repeat short calls until a run lasts 50 ms.",
                lane.id,
            )


def _not_cold(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        share = lane.cached_share
        if scene.point.get("cache") == "cold" and share is not None and share > _STILL_CACHED:
            yield _caution(
                "cache not cold",
                f"{three_figures(100 * share)} % of {lane.name}'s input was still in memory "
                "when its runs began.",
                "Close whatever else reads these files.",
                lane.id,
            )


def _unequal_threads(scene: Scene) -> Iterator[Caution]:
    asked = scene.point.get("threads")
    if not isinstance(asked, int):
        return
    for lane in scene.lanes:
        busy = lane.cores_busy
        if busy is not None and busy > asked + _OVER_THREADS:
            yield _caution(
                "more threads than asked",
                f"{lane.name} kept {three_figures(busy)} cores busy where {asked} "
                f"{'thread was' if asked == 1 else 'threads were'} asked for.",
                "Give its library the number of threads in the code, or pin the cores.",
                lane.id,
            )


def _more_cores(scene: Scene) -> Iterator[Caution]:
    """Whether the quickest is so by keeping more cores busy while another works less for it."""
    sure = [lane for lane in scene.lanes if lane.trusted and lane.elapsed and lane.cpu_total]
    if len(sure) < 2:
        return
    quickest = min(sure, key=lambda lane: lane.elapsed.median if lane.elapsed else 0.0)
    frugal = min(sure, key=lambda lane: lane.cpu_total.median if lane.cpu_total else 0.0)
    assert quickest.cpu_total and frugal.cpu_total
    cores, fewer = quickest.cores_busy, frugal.cores_busy
    if frugal is quickest or cores is None or fewer is None or cores < _MORE_CORES * fewer:
        return
    if quickest.cpu_total.median > _MORE_CPU * frugal.cpu_total.median:
        yield _caution(
            "quicker by more cores",
            f"{quickest.name} is the quickest with {three_figures(cores)} cores busy and "
            f"{format_seconds(quickest.cpu_total.median)} of CPU time; {frugal.name} does it with "
            f"{three_figures(fewer)} and {format_seconds(frugal.cpu_total.median)}. Where cores "
            "are shared or paid for, the order may be the other way round.",
            "Compare CPU time, the fairer measure here, or give every lane the same threads.",
            quickest.id,
        )


CAUTIONS: tuple[Callable[[Scene], Iterator[Caution]], ...] = (
    _disagreement,
    _reference,
    _drift,
    _unfinished,
    _few_rounds,
    _noise,
    _waiting,
    _busy_machine,
    _drift_over_time,
    _first_slower,
    _result_cache,
    _too_short,
    _not_cold,
    _unequal_threads,
    _more_cores,
)


def cautions(scene: Scene) -> list[Caution]:
    """All that weakens the result, the gravest kinds first."""
    return [caution for look in CAUTIONS for caution in look(scene)]
