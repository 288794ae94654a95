"""What to look at next: from measured figures only, never from a rule of thumb."""

import re
from collections.abc import Iterator, Sequence

from ivrell.core.base.quantities import format_seconds, three_figures
from ivrell.core.comparison.model import Comparison
from ivrell.core.engines.registry import ENGINES
from ivrell.core.records.findings import Findings, LaneFindings, TrialFindings
from ivrell.core.records.next_steps import NextStep
from ivrell.core.records.plan import Plan
from ivrell.core.records.points import Value

_READS = re.compile(r"\b(read|load|pars|scan|import|open)(e|ing)?\b", re.IGNORECASE)
_SPILLS = ("temporary bytes", "temporary files", "temporary tables on disk")
_MUCH = 0.3
_LESS = 0.5
_ONE_CORE = 1.3
_CACHED = 0.9
_TIMES = 10
_FEWEST_ROWS = 100
_LONG_S = 0.05


def next_steps(
    comparison: Comparison, plan: Plan, trial: TrialFindings, found: Findings, cores: int
) -> list[NextStep]:
    """What to look at next.

    Args:
        comparison: as it ran.
        plan: of the trial.
        trial: what it says.
        found: at the point looked at.
        cores: that runs may have on its machine.
    """
    lanes = [lane for lane in found.ranked if lane.trusted and lane.elapsed]
    if not lanes:
        return []
    return [
        *_reading(lanes), *_spilling(lanes), *_threads(plan, lanes, cores),
        *_sizes(comparison, plan, trial, found, lanes), *_cold(plan, lanes),
        *_unnamed(comparison, lanes),
    ]  # fmt: skip


def _reads(lane: LaneFindings) -> tuple[str, float] | None:
    """The name of the stage in which a lane reads, and its seconds."""
    for stage in lane.stages:
        if stage.name and not stage.overlaps and _READS.search(stage.name):
            return stage.name, stage.elapsed_s
    return None


def _median(lane: LaneFindings) -> float:
    return lane.elapsed.median if lane.elapsed else 0.0


def _reading(lanes: Sequence[LaneFindings]) -> Iterator[NextStep]:
    """Lanes that mostly read, where another one reads the same rows in another form much sooner."""
    reading = {lane.id: told for lane in lanes if (told := _reads(lane))}
    for lane in lanes:
        if lane.id not in reading:
            continue
        name, took = reading[lane.id]
        share = took / _median(lane) if _median(lane) else 0.0
        others = [x for x in lanes if x.id in reading and x.input != lane.input]
        best = min(others, key=lambda x: reading[x.id][1], default=None)
        if share < _MUCH or best is None or reading[best.id][1] > _LESS * took:
            continue
        sooner = reading[best.id][1]
        part = f"{three_figures(100 * sooner / took)} % of that" if took else "less"
        yield NextStep(
            kind="reading", lane=lane.id,
            words=(
                f"{100 * share:.0f} % of the time of {lane.name} is in its stage {name}. "
                f"{best.name} reads the same rows as {best.input} in {part}: branch {lane.name} "
                f"and let it read {best.input}."
            ),
            evidence=[
                f"{lane.name}, {lane.input}: {format_seconds(took)} of "
                f"{format_seconds(_median(lane))}",
                f"{best.name}, {best.input}: {format_seconds(sooner)}",
            ],
        )  # fmt: skip


def _spilling(lanes: Sequence[LaneFindings]) -> Iterator[NextStep]:
    """Lanes whose engine says that it put aside what its memory did not hold."""
    for lane in lanes:
        counted = [name for name in _SPILLS if lane.counters.get(name, 0) > 0]
        if counted:
            figures = [f"{name}: {lane.counters[name]:,.0f}" for name in counted]
            yield NextStep(
                kind="spilling", lane=lane.id, evidence=figures,
                words=(
                    f"{lane.name} puts aside what its working memory does not hold "
                    f"({', '.join(figures)}). Branch it with more of it in its settings."
                ),
            )  # fmt: skip


def _threads(plan: Plan, lanes: Sequence[LaneFindings], cores: int) -> Iterator[NextStep]:
    """What the quickest does with another number of cores, where that was not measured."""
    first = lanes[0]
    busy = first.cores_busy
    measured = [n for n in plan.threads if n is not None]
    if busy is None or cores < 2 or len(set(measured)) > 1 or _median(first) < _LONG_S:
        return
    if busy < _ONE_CORE:
        words = (
            f"{first.name}, the quickest, keeps {three_figures(busy)} of {cores} cores busy. "
            "Whether others would pass it with more threads, or with one alone, was not measured."
        )
    else:
        words = (
            f"{first.name}, the quickest, keeps {three_figures(busy)} of {cores} cores busy. Where "
            "only one is free it may lead no more: that was not measured."
        )
    yield NextStep(
        kind="threads", lane=first.id, words=words,
        evidence=[
            f"{lane.name}: {three_figures(lane.cores_busy)} cores busy"
            for lane in lanes if lane.cores_busy is not None
        ],
        plan=plan.model_copy(update={"threads": [1, cores]}),
        label=f"Run with 1 and {cores} threads", arguments=f"--threads 1,{cores}",
    )  # fmt: skip


def _sizes(
    comparison: Comparison, plan: Plan, trial: TrialFindings, found: Findings,
    lanes: Sequence[LaneFindings],
) -> Iterator[NextStep]:  # fmt: skip
    """Other sizes, where only one was measured."""
    if plan.points or plan.search or len(lanes) < 2:
        return
    for knob, value in found.point.items():
        if not comparison.data.counted_by(knob) or not isinstance(value, int):
            continue
        if len({str(point.point.get(knob)) for point in trial.points}) > 1:
            continue
        sizes: list[Value] = [value // _TIMES, value, value * _TIMES]
        sizes = [size for size in sizes if isinstance(size, int) and size >= _FEWEST_ROWS]
        ahead = _median(lanes[1]) / _median(lanes[0]) if _median(lanes[0]) else 1.0
        leads = f"Whether {lanes[0].name} stays the quickest"
        if found.rounds_more is not None:
            leads = "Who is the quickest"
        yield NextStep(
            kind="sizes",
            words=(
                f"It was measured at {knob} = {value:,} alone. {leads} with fewer or more, and how "
                "each grows, is not known."
            ),
            evidence=[
                f"{lanes[0].name} is {three_figures(ahead)} times ahead of {lanes[1].name} here"
            ],
            plan=plan.model_copy(update={"knobs": {**plan.knobs, knob: sizes}, "step_up": True}),
            label=f"Run at {', '.join(f'{size:,}' for size in sizes)}",
            arguments=f"--set {knob}={','.join(map(str, sizes))} --step-up",
        )  # fmt: skip


def _cold(plan: Plan, lanes: Sequence[LaneFindings]) -> Iterator[NextStep]:
    """Inputs that come from a disk, where all runs found them in memory."""
    cached = {lane.name: lane.cached_share for lane in lanes if lane.cached_share is not None}
    if plan.cache != ["warm"] or not cached or min(cached.values()) < _CACHED or len(lanes) < 2:
        return
    if len({lane.input for lane in lanes}) < 2:
        return
    yield NextStep(
        kind="cold",
        words=(
            "Every run found its inputs in memory. The lanes read different files: what each takes "
            "where they come from a disk was not measured."
        ),
        evidence=[f"at least {100 * min(cached.values()):.0f} % of each lane's inputs in memory"],
        plan=plan.model_copy(update={"cache": ["warm", "cold"]}),
        label="Run warm and cold", arguments="--cache warm,cold",
    )  # fmt: skip


def _unnamed(comparison: Comparison, lanes: Sequence[LaneFindings]) -> Iterator[NextStep]:
    """The slowest lane, where nothing says what its time goes to."""
    last = lanes[-1]
    approach = comparison.approach_called(last.id)
    named = [stage for stage in last.stages if stage.name]
    spoken = ENGINES[approach.engine].language_of(approach)
    if len(lanes) < 2 or named or spoken not in ("python", "sql") or _median(last) < _LONG_S:
        return
    yield NextStep(
        kind="unnamed", lane=last.id,
        words=f"{last.name} takes the longest, and names no stages: see which lines that goes to.",
        evidence=[f"{format_seconds(_median(last))} without a stage"],
        arguments=f"ivrell hot FILE {last.id}",
    )  # fmt: skip
