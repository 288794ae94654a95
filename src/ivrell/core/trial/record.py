"""Run objects: one line of runs.jsonl from what the runner told."""

from collections.abc import Mapping, Sequence
from statistics import median
from typing import Any

from ivrell.core.measure import proportional
from ivrell.core.trial.plan import PlannedRun

_FIGURES = (
    "elapsed_s",
    "cpu_user_s",
    "cpu_system_s",
    "peak_memory_bytes",
    "start_memory_bytes",
    "read_bytes",
    "written_bytes",
    "start_s",
    "page_faults",
    "context_switches",
    "core_wait_s",
    "held_up_s",
    "others_cpu_s",
    "pressure",
)
SHARED_MEMORY = (
    "several processes share memory, which cannot be told apart while they are timed; the lane's "
    "memory run tells it"
)
_HIDDEN_MEMORY = "the system shows no proportional set sizes of the run's processes here"
_PER_REPEAT = (
    "elapsed_s",
    "cpu_user_s",
    "cpu_system_s",
    "read_bytes",
    "written_bytes",
    "page_faults",
    "context_switches",
    "core_wait_s",
    "held_up_s",
    "others_cpu_s",
    "server_cpu_s",
    "client_cpu_s",
)
_COUNTS = {"read_bytes", "written_bytes", "page_faults", "context_switches"}
_NOT_TOLD = "the system does not tell it here"
_WHY = {
    "peak_memory_bytes": "the high-water mark of memory could not be set back here",
    "start_memory_bytes": "the high-water mark of memory could not be set back here",
    "held_up_s": "no control group of version 2 could be made here",
    "pressure": "the kernel keeps no pressure figures here",
}


def run_record(planned: PlannedRun, engine: str, ended: Mapping[str, Any]) -> dict[str, Any]:
    """The run object of FORMAT: figures that were not measured are null, with a reason.

    Of a process that was kept for several calls the figures are those of the call with the
    median time among all but the first; of repeats too short to be timed alone they are per
    repeat. A memory run's figures of time count for nothing.
    """
    parts = [_per_repeat(part) for part in _joined(ended["parts"])]
    measured = {**_headline(parts), "start_s": ended["start_s"]}
    why = {
        "failed": "the run failed before it could be measured",
        "limit": "the run was ended at a limit",
        "stopped": "the run was stopped",
    }.get(ended["state"])
    handed = ended["handed"] or {}
    return {
        "run": planned.number,
        "approach": planned.approach,
        "engine": engine,
        "point": planned.point,
        "round": planned.round,
        "position": planned.position,
        "warm_up": planned.warm_up,
        "memory_run": planned.memory_alone,
        "state": ended["state"],
        **{name: measured.get(name) for name in _FIGURES},
        "elapsed_at_least_s": ended["elapsed_at_least_s"],
        "server_cpu_s": measured.get("server_cpu_s"),
        "server_memory_bytes": measured.get("server_memory_bytes"),
        "cpu_method": measured.get("cpu_method"),
        "memory_method": measured.get("memory_method"),
        "inner_repeats": measured.get("repeats", 1),
        "first_elapsed_s": parts[0]["elapsed_s"] if len(parts) > 1 else None,
        "calls": [_call(part) for part in parts] if len(parts) > 1 else [],
        "stages": (parts[0] if measured.get("repeats", 1) > 1 else measured).get("stages", []),
        "spans": measured.get("spans", []),
        "threads": handed.get("threads", {}),
        "most_threads": ended["most_threads"],
        "several_processes": any(part.get("several_processes") for part in parts),
        "counters": {**measured.get("counters", {}), **_by_client(measured)},
        "answer_rows": handed.get("rows"),
        "answer_bytes": handed.get("bytes"),
        "answer_fingerprint": None,
        "left_bytes": ended["left_bytes"],
        "limit": ended["limit"],
        "error": ended["failed"],
        "output": ended["output"],
        "output_bytes": ended["output_bytes"],
        "not_measured": {
            name: why or _why(name, measured) for name in _FIGURES if measured.get(name) is None
        }
        | measured.get("unknown", {}),
    }


def _why(name: str, measured: Mapping[str, Any]) -> str:
    if measured.get("several_processes") and name in ("peak_memory_bytes", "start_memory_bytes"):
        closely = measured.get("memory_method") == proportional.METHOD
        return _HIDDEN_MEMORY if closely else SHARED_MEMORY
    return _WHY.get(name, _NOT_TOLD)


def _joined(parts: Sequence[Mapping[str, Any]]) -> list[Mapping[str, Any]]:
    """The parts, those that stand for repeats of one call as one: sums of what adds up, the
    largest of what does not."""
    single = [part for part in parts if not part.get("joined")]
    repeats = [part for part in parts if part.get("joined")]
    if not repeats:
        return single
    whole = {**repeats[-1], "repeats": len(repeats), "spans": []}
    for name in _PER_REPEAT:
        values = [part[name] for part in repeats if part.get(name) is not None]
        whole[name] = sum(values) if len(values) == len(repeats) else None
    peaks = [part["peak_memory_bytes"] for part in repeats if part.get("peak_memory_bytes")]
    whole["peak_memory_bytes"] = max(peaks, default=None)
    whole["several_processes"] = any(part["several_processes"] for part in repeats)
    whole["unknown"] = {k: v for part in repeats for k, v in part.get("unknown", {}).items()}
    names = {name for part in repeats for name in part.get("counters", {})}
    whole["counters"] = {
        name: sum(part.get("counters", {}).get(name, 0.0) for part in repeats) / len(repeats)
        for name in sorted(names - whole["unknown"].keys())
    }
    return [*single, whole]


def _by_client(measured: Mapping[str, Any]) -> dict[str, float]:
    """CPU time of a client that only drives the engine, where the two are told apart."""
    used = measured.get("client_cpu_s")
    return {} if used is None else {"client: CPU seconds": used}


def _per_repeat(part: Mapping[str, Any]) -> dict[str, Any]:
    repeats = part["repeats"]
    if repeats == 1:
        return dict(part)
    shared = {}
    for name in _PER_REPEAT:
        if part.get(name) is not None:
            each = part[name] / repeats
            shared[name] = round(each) if name in _COUNTS else each
    return {**part, **shared}


def _headline(parts: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """The call that stands for the run."""
    if len(parts) <= 1:
        return dict(parts[0]) if parts else {}
    later = parts[1:]
    middle = median(part["elapsed_s"] for part in later)
    return dict(min(later, key=lambda part: abs(part["elapsed_s"] - middle)))


def _call(part: Mapping[str, Any]) -> dict[str, Any]:
    user, system = part.get("cpu_user_s"), part.get("cpu_system_s")
    return {
        "elapsed_s": part["elapsed_s"],
        "cpu_s": None if user is None or system is None else user + system,
        "repeats": part["repeats"],
        "counters": part.get("counters", {}),
    }
