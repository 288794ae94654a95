"""The run record from the end of a run as the runner told it."""

from collections.abc import Iterable, Sequence
from dataclasses import replace
from statistics import median
from typing import Any

from ivrell.core.measure import proportional
from ivrell.core.records.run import Call, RunRecord
from ivrell.core.records.wire import (
    FAILED,
    LIMIT,
    STOPPED,
    Export,
    Figures,
    RemoteUse,
    RunEnd,
    TimedPart,
)
from ivrell.core.trial.plan import PlannedRun

SHARED_MEMORY = (
    "several processes share memory, which cannot be told apart while they are timed; the lane's "
    "memory run tells it"
)
_REMOTE = "with what remote processes report of themselves"
_HIDDEN_MEMORY = "the system shows no proportional set sizes of the run's processes here"
_PER_REPEAT = (
    "cpu_user_s",
    "cpu_system_s",
    "read_bytes",
    "written_bytes",
    "page_faults",
    "context_switches",
    "run_queue_wait_s",
    "held_up_s",
    "others_cpu_s",
    "stolen_s",
    "throttled_s",
    "swapped_bytes",
    "server_cpu_s",
    "client_cpu_s",
)
"""Figures that add up over repeats."""

_COUNTS = {"read_bytes", "written_bytes", "swapped_bytes", "page_faults", "context_switches"}
_NOT_TOLD = "the system does not tell it here"
_WHY = {
    "peak_memory_bytes": "the high-water mark of memory could not be set back here",
    "start_memory_bytes": "the high-water mark of memory could not be set back here",
    "held_up_s": "no control group of version 2 could be made here",
    "pressure": "the kernel keeps no pressure figures here",
    "throttled_s": "no control group above Ivrell tells",
}
_WHY_ENDED = {
    FAILED: "the run failed before it could be measured",
    LIMIT: "the run was ended at a limit",
    STOPPED: "the run was stopped",
}
_NOT_OF_ALL = {
    "cpu_method", "memory_method", "server_cpu_s", "server_memory_bytes", "client_cpu_s",
    "others_around",
}  # fmt: skip
"""Figures that only some runs have, whose absence needs no reason."""


def run_record(planned: PlannedRun, engine: str, end: RunEnd) -> RunRecord:
    """The record of a run: figures that were not measured are None, with a reason.

    Of a process that stayed for several calls the figures are those of the call with the
    median time among all but the first; of repeats too short to be timed alone they are per
    repeat. A memory run's figures of time count for nothing.
    """
    parts = [_per_repeat(_with_remote(part)) for part in _joined(end.parts)]
    part = _headline(parts)
    figures = part.figures if part else Figures()
    several = len(parts) > 1
    export = end.export or Export(0, 0, 0)
    why = _WHY_ENDED.get(end.state)
    measured: dict[str, Any] = {
        **vars(figures), "elapsed_s": part.elapsed_s if part else None, "start_s": end.start_s,
        "start_cpu_s": end.start_cpu_s,
    }  # fmt: skip
    client = measured.pop("client_cpu_s")
    by_client = {} if client is None else {"client: CPU seconds": client}
    stages = parts[0].stages if part and part.repeats > 1 else part.stages if part else []
    return RunRecord(
        run=planned.number,
        approach=planned.approach,
        engine=engine,
        point=planned.point,
        round=planned.round,
        position=planned.position,
        warm_up=planned.warm_up,
        memory_run=planned.memory_alone,
        repeat_of=planned.repeat_of,
        stage=planned.stage,
        state=end.state,
        **measured,
        elapsed_at_least_s=end.elapsed_at_least_s,
        quiet_wait_s=end.quiet_wait_s,
        inner_repeats=part.repeats if part else 1,
        first_elapsed_s=parts[0].elapsed_s if several else None,
        calls=[_call(part) for part in parts] if several else [],
        stages=stages,
        spans=part.spans if part else [],
        threads=export.threads,
        most_threads=end.most_threads,
        several_processes=any(part.several_processes for part in parts),
        counters={**(part.counters if part else {}), **by_client},
        answer_rows=end.export.rows if end.export else None,
        answer_bytes=end.export.bytes if end.export else None,
        left_bytes=end.left_bytes,
        limit=end.limit,
        error=end.failure,
        output=end.output,
        output_bytes=end.output_bytes,
        plans=export.plans,
        hot=export.hot,
        not_measured={
            name: why or _why(name, part)
            for name, value in measured.items()
            if value is None and name not in _NOT_OF_ALL
        }
        | (part.unknown if part else {}),
    )


def _with_remote(part: TimedPart) -> TimedPart:
    """The part with what remote processes report of themselves."""
    if part.remote is None:
        return part
    figures = replace(part.figures)
    if figures.cpu_user_s is not None and figures.cpu_system_s is not None:
        figures.cpu_user_s += part.remote.cpu_user_s
        figures.cpu_system_s += part.remote.cpu_system_s
        figures.cpu_method = f"{figures.cpu_method}; {_REMOTE}"
    if figures.peak_memory_bytes is not None:
        figures.peak_memory_bytes += part.remote.peak_memory_bytes
        figures.memory_method = f"{figures.memory_method}; {_REMOTE}"
    return replace(part, figures=figures)


def _why(name: str, part: TimedPart | None) -> str:
    if part and part.several_processes and name in ("peak_memory_bytes", "start_memory_bytes"):
        closely = part.figures.memory_method == proportional.METHOD
        return _HIDDEN_MEMORY if closely else SHARED_MEMORY
    return _WHY.get(name, _NOT_TOLD)


def _joined(parts: Sequence[TimedPart]) -> list[TimedPart]:
    """The parts, those that stand for repeats of one call as one: sums of what adds up, the
    largest of what does not."""
    single = [part for part in parts if not part.joined]
    repeats = [part for part in parts if part.joined]
    if not repeats:
        return single
    figures = replace(repeats[-1].figures)
    for name in _PER_REPEAT:
        values = [value for part in repeats if (value := getattr(part.figures, name)) is not None]
        setattr(figures, name, sum(values) if len(values) == len(repeats) else None)
    peaks = [peak for part in repeats if (peak := part.figures.peak_memory_bytes)]
    figures.peak_memory_bytes = max(peaks, default=None)
    unknown = {name: why for part in repeats for name, why in part.unknown.items()}
    names = {name for part in repeats for name in part.counters} - unknown.keys()
    counters = {
        name: sum(part.counters.get(name, 0.0) for part in repeats) / len(repeats)
        for name in sorted(names)
    }
    whole = TimedPart(
        elapsed_s=sum(part.elapsed_s for part in repeats),
        repeats=len(repeats),
        joined=True,
        several_processes=any(part.several_processes for part in repeats),
        stages=repeats[-1].stages,
        spans=[],
        figures=figures,
        counters=counters,
        unknown=unknown,
        remote=_summed(part.remote for part in repeats if part.remote),
    )
    return [*single, whole]


def _summed(uses: Iterable[RemoteUse]) -> RemoteUse | None:
    some = list(uses)
    if not some:
        return None
    return RemoteUse(
        sum(use.cpu_user_s for use in some),
        sum(use.cpu_system_s for use in some),
        max(use.peak_memory_bytes for use in some),
    )


def _per_repeat(part: TimedPart) -> TimedPart:
    if part.repeats == 1:
        return part
    figures = replace(part.figures)
    for name in _PER_REPEAT:
        if (value := getattr(figures, name)) is not None:
            each = value / part.repeats
            setattr(figures, name, round(each) if name in _COUNTS else each)
    return replace(part, figures=figures, elapsed_s=part.elapsed_s / part.repeats)


def _headline(parts: Sequence[TimedPart]) -> TimedPart | None:
    """The call that stands for the run."""
    if len(parts) <= 1:
        return parts[0] if parts else None
    later = parts[1:]
    middle = median(part.elapsed_s for part in later)
    return min(later, key=lambda part: abs(part.elapsed_s - middle))


def _call(part: TimedPart) -> Call:
    user, system = part.figures.cpu_user_s, part.figures.cpu_system_s
    return Call(
        elapsed_s=part.elapsed_s,
        cpu_s=None if user is None or system is None else user + system,
        repeats=part.repeats,
        counters=part.counters,
    )
