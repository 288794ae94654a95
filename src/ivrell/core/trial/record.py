"""Run objects: one line of runs.jsonl from what the runner told."""

from collections.abc import Mapping
from typing import Any

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
)


def run_record(planned: PlannedRun, engine: str, ended: Mapping[str, Any]) -> dict[str, Any]:
    """The run object of FORMAT: figures that were not measured are null, with a reason."""
    measured = ended["measured"]
    why = {
        "done": "the system does not tell it here",
        "failed": "the run failed before it could be measured",
        "limit": "the run was ended at a limit",
        "stopped": "the run was stopped",
    }[ended["state"]]
    handed = ended["handed"] or {}
    return {
        "run": planned.number,
        "approach": planned.approach,
        "engine": engine,
        "point": planned.point,
        "round": planned.round,
        "position": planned.position,
        "warm_up": planned.warm_up,
        "state": ended["state"],
        **{name: measured.get(name) for name in _FIGURES},
        "elapsed_at_least_s": measured.get("elapsed_at_least_s"),
        "cpu_method": measured.get("cpu_method"),
        "memory_method": measured.get("memory_method"),
        "inner_repeats": 1,
        "stages": measured.get("stages", []),
        "spans": measured.get("spans", []),
        "counters": handed.get("counters", {}),
        "answer_rows": handed.get("rows"),
        "answer_bytes": handed.get("bytes"),
        "answer_fingerprint": None,
        "left_bytes": ended["left_bytes"],
        "limit": ended["limit"],
        "error": ended["failed"],
        "output": ended["output"],
        "output_bytes": ended["output_bytes"],
        "not_measured": {name: why for name in _FIGURES if measured.get(name) is None},
    }
