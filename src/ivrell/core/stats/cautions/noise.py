"""Noise that weakens a result: few rounds, spread, drift, a busy machine."""

from collections import Counter
from collections.abc import Iterator, Sequence
from statistics import median

from ivrell.core.base.quantities import three_figures
from ivrell.core.records.findings import Caution, Dot
from ivrell.core.stats.cautions.scene import Scene, caution, share

_FEW_ROUNDS = 5
_NOISY = 0.25
_BUSY_CORES = 0.5
_WAITED_SHARE = 0.1
# A page that watches a trial uses some 0.15 of a core, which is no reason to blame others.
_OTHERS_BUSY = 0.25
_ROUNDS_FOR_DRIFT = 6
_DRIFT = 1.15


def few_rounds(scene: Scene) -> Iterator[Caution]:
    counts = [lane.elapsed.count for lane in scene.lanes if lane.elapsed]
    if counts and min(counts) < _FEW_ROUNDS:
        yield caution(
            "few rounds",
            f"Some lanes have {min(counts)} counted "
            f"{'run' if min(counts) == 1 else 'runs'}: intervals of medians are wide, and how "
            "sure ratios are rests on other lanes and earlier trials.",
            "Run at least five rounds, ten where time allows.",
        )


def noisy(scene: Scene) -> Iterator[Caution]:
    for lane in scene.lanes:
        elapsed = lane.elapsed
        if not elapsed or elapsed.count < 3:
            continue
        spread = (elapsed.quartile_3 - elapsed.quartile_1) / elapsed.median
        if spread > _NOISY:
            yield caution(
                "noisy",
                f"The middle half of {lane.name}'s runs spreads over "
                f"{three_figures(100 * spread)} % of its median.",
                "Close other programs, or run more rounds.",
                lane.id,
                share(spread),
            )


def waiting(scene: Scene) -> Iterator[Caution]:
    """Waiting for a core while other programs had it; an approach of more threads than cores
    waits for itself, which is its own affair."""
    for lane in scene.lanes:
        waited, others = lane.run_queue_wait_share, lane.others_busy or 0.0
        if waited is not None and waited > _WAITED_SHARE and others > _OTHERS_BUSY:
            yield caution(
                "run-queue wait",
                f"{lane.name} spent {three_figures(100 * waited)} % of its time ready to run "
                f"without a core to run on, while other programs kept {three_figures(others)} "
                "cores busy.",
                "Something else was running: stop it and run again.",
                lane.id,
                share(waited),
            )


def disturbed(scene: Scene) -> Iterator[Caution]:
    """Runs that count although something disturbed them, since they could not be done again."""
    for lane in scene.lanes:
        counted = [run for run in lane.runs if run.counted]
        odd = [run for run in counted if run.disturbed]
        if odd:
            part = len(odd) / len(counted)
            yield caution(
                "disturbed runs count",
                f"{len(odd)} of {lane.name}'s {len(counted)} counted runs were disturbed by "
                f"{_by(odd)} and could not be done again within what the plan allows.",
                "Run it when the machine is quiet, or allow more runs and minutes for repeats; CPU "
                "time suffers far less than elapsed time.",
                lane.id,
                share(part),
            )


def set_aside(scene: Scene) -> Iterator[Caution]:
    """Runs that were disturbed and done again: they are drawn pale and count for nothing."""
    runs = [run for lane in scene.lanes for run in lane.runs]
    again = [run for run in runs if run.set_aside]
    if again:
        kept = sum(run.counted for run in runs)
        yield caution(
            "repeated runs",
            f"{len(again)} {'run was' if len(again) == 1 else 'runs were'} disturbed by "
            f"{_by(again)} and done again, beside {kept} that count.",
            "They are kept and drawn pale. What disturbs runs costs time; stop it where you can.",
        )


def _by(runs: Sequence[Dot]) -> str:
    """By what runs were disturbed, the most frequent first."""
    return " and ".join(name for name, _ in Counter(run.disturbed for run in runs).most_common())


def busy_machine(scene: Scene) -> Iterator[Caution]:
    busy = scene.machine.busy_cores
    if busy is not None and busy > _BUSY_CORES:
        yield caution(
            "busy machine",
            f"{three_figures(busy)} of {scene.machine.cores} cores were busy before the "
            "trial began.",
            "Run it again when the machine is quiet.",
        )


def drift_over_time(scene: Scene) -> Iterator[Caution]:
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
        yield caution(
            "machine drifted",
            f"Most lanes got {word} as the trial went on, about {three_figures(factor)} times from "
            "the first half of the rounds to the second. Ratios, formed within rounds, are robust "
            "to this; medians less so.",
            "Run it again when the machine is quiet.",
        )
