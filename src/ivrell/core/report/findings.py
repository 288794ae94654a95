"""Findings: what the runs of a trial say about each lane, and the conclusion in words."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from statistics import median

from ivrell.core.comparison.model import Comparison
from ivrell.core.engines.base import Approach, Scope
from ivrell.core.engines.registry import ENGINES
from ivrell.core.measure.around import SHORT_S
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import (
    Dot,
    Findings,
    LaneFindings,
    LaneState,
    PairRatio,
    Placement,
    Ratio,
    StageMedian,
    Summary,
)
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import RunSet
from ivrell.core.records.wire import Failure
from ivrell.core.report.claims import judged_claims
from ivrell.core.report.code_lines import code_lines
from ivrell.core.report.conclusion import (
    Result,
    conclusion,
    conditions_told,
    targets_told,
    tradeoff,
)
from ivrell.core.report.measures import Values, counter_measure, row_of, values_at
from ivrell.core.report.ratios import Judge, every_way, quickest, ratios_at, until_limit
from ivrell.core.report.staircase import staircases
from ivrell.core.report.words import limit_told
from ivrell.core.spark.event_log import CORES, EXECUTORS
from ivrell.core.stats.cautions import Scene, cautions
from ivrell.core.stats.sessions import shifts


def findings(
    comparison: Comparison,
    taken: RunSet,
    agreement: Mapping[str, Agreement],
    point: Point,
    made: Sequence[MadeTable] = (),
) -> Findings:
    """What the runs at one point say.

    Args:
        taken: runs with their sessions; those at other points are left out.
        agreement: agreement of each lane at this point, by lane id.
        point: the knob values looked at.
        made: tables that were made for the trial.
    """
    taken = taken.at(point)
    everything, machine = taken.runs, taken.machine
    here = [run for run in everything if not run.memory_run]
    closely = {run.approach: run for run in everything if run.memory_run}
    baseline = [run for run in here if run.approach == comparison.baseline_id]
    of_lane = {
        approach.id: own
        for approach in comparison.approach
        if (own := [run for run in here if run.approach == approach.id])
    }
    values = values_at(comparison, everything, point)
    lanes = [
        _lane(comparison.approach_called(id_), own, agreement.get(id_), values)
        for id_, own in of_lane.items()
    ]
    judge = Judge.of(comparison, machine)
    ratios = ratios_at(comparison, values, judge, [lane.id for lane in lanes if lane.trusted])
    pairs = every_way(ratios.get("elapsed", {}))
    for lane in lanes:
        lane.baseline = lane.id == comparison.baseline_id
        lane.ratio = _ratio(baseline, of_lane[lane.id], pairs)
        _tell_memory(lane, closely.get(lane.id))
    ranked = _ranking(lanes, quickest(ratios.get("elapsed", {})))
    measures = [row_of(values[key], comparison.baseline_id, ratios[key]) for key in values]
    by_id = {lane.id: lane for lane in lanes}
    result = Result(
        [by_id[id_] for id_ in ranked],
        pairs,
        every_way(ratios.get("cpu_total", {})),
        measures,
        point,
        machine,
        comparison.targets,
    )
    return Findings(
        point=point,
        conclusion=conclusion(result),
        tradeoff=tradeoff(result),
        target=targets_told(result),
        conditions=conditions_told(
            result, _versions(comparison, lanes, machine), _settings(everything)
        ),
        lanes=lanes,
        rounds_more=_rounds_more(result),
        ranking=ranked,
        cautions=cautions(
            Scene(
                lanes,
                machine,
                point,
                *_asked_reference(comparison),
                comparison,
                made,
                _leaders(result),
                taken.changes(lane.engine for lane in lanes),
                shifts(_by_session(everything)),
            )
        ),
        measures=measures,
        pairs=pairs,
        staircases=staircases(comparison, lanes, pairs),
        claims=judged_claims(comparison.claim, ratios, point, lanes, comparison.targets),
    )


def _rounds_more(result: Result) -> int | None:
    """Rounds that would tell the quickest lane from those that are level with it."""
    if not result.trusted:
        return None
    best, *others = result.trusted
    ratios = [ratio for lane in others if (ratio := result.ratio(lane, best))]
    return max((ratio.rounds_more for ratio in ratios if ratio.rounds_more), default=None)


def _by_session(runs: Sequence[RunRecord]) -> dict[int, dict[str, list[float]]]:
    """Times of counted runs by session and lane."""
    found: dict[int, dict[str, list[float]]] = {}
    for run in runs:
        if run.counted and run.elapsed_s:
            lanes = found.setdefault(run.session, {})
            lanes.setdefault(run.approach, []).append(run.elapsed_s)
    return found


def _leaders(result: Result) -> list[str]:
    """The quickest lane that may win, and those that are no slower as far as anyone can tell."""
    if not result.trusted:
        return []
    best, *others = result.trusted
    level = []
    for lane in others:
        ratio = result.ratio(lane, best)
        if ratio is None or ratio.verdict != "faster":
            level.append(lane.id)
    return [best.id, *level]


def _settings(runs: Sequence[RunRecord]) -> dict[str, str]:
    """Conditions that all runs had and that no knob tells: the cache, and threads where libraries
    were given a number."""
    found = {}
    caches = {run.cache.asked for run in runs if run.cache}
    if len(caches) == 1:
        found["cache"] = caches.pop()
    threads = {n for run in runs for n in run.threads.values()}
    if len(threads) == 1:
        found["threads"] = str(threads.pop())
    return found


def _versions(comparison: Comparison, lanes: Sequence[LaneFindings], machine: Machine) -> list[str]:
    """What the lanes ran on: of engines what they are made of, of libraries those that the code of
    a lane names."""
    found: dict[str, None] = {}
    for lane in lanes:
        approach = comparison.approach_called(lane.id)
        engine, text = machine.engines.get(lane.engine), approach.text()
        library = ENGINES[lane.engine].language == "python"
        for package, version in (engine.versions if engine else {}).items():
            if package in text if library else package != "pyarrow":
                found[f"{package} {version}"] = None
    return list(found)


def _ratio(
    baseline: Sequence[RunRecord], own: Sequence[RunRecord], pairs: Sequence[PairRatio]
) -> Ratio | None:
    """Times faster than the baseline, from the rounds in which both have a run; a bound where
    one of the two was ended at a limit."""
    if not baseline:
        return None
    base, lane = baseline[0].approach, own[0].approach
    if base == lane:
        rounds = sum(run.counted and bool(run.elapsed_s) for run in own)
        return Ratio(1.0, None, None, rounds, "not told apart") if rounds else None
    if bound := until_limit(baseline, own):
        return bound
    return next((pair.ratio for pair in pairs if (pair.base, pair.lane) == (base, lane)), None)


def _asked_reference(comparison: Comparison) -> tuple[str, str]:
    """The lane that the question wants answers held against, and its name; "" where that is a
    stored answer."""
    answer = comparison.answer
    lane = answer.reference or comparison.baseline_id
    return (
        ("", "") if answer.expected or not lane else (lane, comparison.approach_called(lane).label)
    )


def _lane(
    approach: Approach,
    runs: Sequence[RunRecord],
    agreement: Agreement | None,
    values: Mapping[str, Values],
) -> LaneFindings:
    counted = [run for run in runs if run.counted]
    state = _state(runs, counted)

    def summed_up(key: str) -> Summary | None:
        return values[key].summaries.get(approach.id) if key in values else None

    def measured(key: str) -> float | None:
        found = summed_up(key)
        return found.median if found else None

    def middle(of: Callable[[RunRecord], float | None]) -> float | None:
        return _median(value for run in counted if (value := of(run)) is not None)

    return LaneFindings(
        id=approach.id,
        name=approach.label,
        engine=approach.engine,
        input=approach.wanted.words,
        parent=approach.parent,
        baseline=False,
        state=state,
        trouble=_trouble(runs, state),
        code_lines=code_lines(approach.text(), ENGINES[approach.engine].language_of(approach)),
        answer_rows=next((run.answer_rows for run in counted), None),
        start=measured("start"),
        start_cpu=min(
            (run.start_cpu_s for run in counted if run.start_cpu_s is not None), default=None
        ),
        elapsed=summed_up("elapsed"),
        cpu_user=summed_up("cpu_user"),
        cpu_system=summed_up("cpu_system"),
        cpu_total=summed_up("cpu_total"),
        server_cpu=middle(lambda run: run.server_cpu_s),
        cores_busy=measured("cores_busy"),
        run_queue_wait_share=middle(lambda run: run.waited_share),
        others_busy=middle(_others_busy),
        inner_repeats=middle(lambda run: run.inner_repeats),
        first_call=measured("first_call"),
        cached_share=middle(lambda run: run.cache.share if run.cache else None),
        most_threads=middle(lambda run: run.most_threads),
        pinned_cores=next((run.cores for run in counted), None),
        placement=_placement(counted),
        calls=next((run.calls for run in reversed(counted) if run.calls), []),
        peak_memory=summed_up("peak_memory"),
        peak_memory_absolute=summed_up("peak_memory_absolute"),
        counters={
            name: found
            for run in counted
            for name in run.counters
            if (found := measured(counter_measure(name).key)) is not None
        },
        left_bytes=measured("left_bytes"),
        answer_bytes=measured("answer_bytes"),
        tables_s=measured("tables"),
        failure=_failure(runs),
        stages=_stages(counted),
        agreement=agreement,
        runs=[_dot(run) for run in runs],
    )


def _placement(counted: Sequence[RunRecord]) -> Placement | None:
    """What the lane's sessions of Spark had to work with, in its last run that tells."""
    for run in reversed(counted):
        if cores := run.counters.get(CORES):
            here = run.scope == Scope.RUN.value
            return Placement(executors=int(run.counters[EXECUTORS]), cores=int(cores), here=here)
    return None


def _others_busy(run: RunRecord) -> float | None:
    if run.others_cpu_s is None or not run.elapsed_s or run.elapsed_s < SHORT_S:
        return None
    return run.others_cpu_s / run.elapsed_s


def _tell_memory(lane: LaneFindings, closely: RunRecord | None) -> None:
    """Of a lane that is several processes the memory is that of its memory run."""
    if closely is None or closely.state != "done":
        return
    lane.memory_run, lane.memory_method = closely.run, closely.memory_method


def _failure(runs: Sequence[RunRecord]) -> Failure | None:
    """The error of the lane's first run that failed, with what it printed last."""
    return next((run.error for run in runs if run.state == "failed" and run.error), None)


def _dot(run: RunRecord) -> Dot:
    """What a single run shows as: enough to draw it and to find it again."""
    return Dot(
        run=run.run,
        round=run.round,
        warm_up=run.warm_up,
        state=run.state,
        counted=run.counted,
        disturbed=run.disturbed_by,
        set_aside=run.set_aside,
        elapsed_s=run.elapsed_s,
        at_least_s=run.elapsed_at_least_s,
        cpu_user_s=run.cpu_user_s,
        cpu_system_s=run.cpu_system_s,
        peak_above_start_bytes=run.peak_above_start_bytes,
    )


def _state(runs: Sequence[RunRecord], counted: Sequence[RunRecord]) -> LaneState:
    """The lane's state: its trouble when it had any, else whether it was measured."""
    states = {run.state for run in runs}
    if "limit" in states:
        return "limit"
    if "failed" in states:
        return "failed"
    return "done" if counted else "stopped" if "stopped" in states else "warm-up only"


def _trouble(runs: Sequence[RunRecord], state: LaneState) -> str:
    """The lane's trouble in words, or an empty text."""
    run = next((run for run in runs if run.state == state), None)
    if state == "limit" and run and run.limit:
        return limit_told(run.limit)
    if state == "failed" and run and run.error:
        line = f" (line {run.error.line})" if run.error.line else ""
        return f"{run.error.kind}: {run.error.message}{line}"
    return ""


def _median(values: Iterable[float]) -> float | None:
    known = list(values)
    return float(median(known)) if known else None


def _stages(counted: Sequence[RunRecord]) -> list[StageMedian]:
    """Median elapsed and CPU of each stage over the runs, and of what no stage covers, unless
    stages overlap."""
    names: dict[str, list[tuple[float, float]]] = {}
    rest = []
    beside = {stage.name for run in counted for stage in run.stages if stage.overlaps}
    for run in counted:
        for stage in run.stages:
            names.setdefault(stage.name, []).append((stage.elapsed_s, stage.cpu_s))
        if run.elapsed_s is not None and not beside:
            rest.append(run.elapsed_s - sum(stage.elapsed_s for stage in run.stages))
    stages = [
        StageMedian(
            name=name,
            elapsed_s=float(median([elapsed for elapsed, _ in values])),
            cpu_s=float(median([cpu for _, cpu in values])),
            overlaps=name in beside,
        )
        for name, values in names.items()
    ]
    if rest and (outside := float(median(rest))) > 0:
        stages.append(StageMedian(name=None, elapsed_s=outside, cpu_s=None))
    return stages


def _ranking(lanes: Sequence[LaneFindings], quickest: str | None) -> list[str]:
    """Lanes by their median; the one that is told to be the quickest before all others, should its
    lead within rounds and its median disagree."""

    def key(lane: LaneFindings) -> tuple[bool, bool, float]:
        middle = lane.elapsed.median if lane.elapsed else float("inf")
        return not lane.trusted, lane.id != quickest, middle

    return [lane.id for lane in sorted(lanes, key=key)]
