"""Findings: what the runs of a trial say about each lane, and the conclusion in words."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict
from typing import Any

import numpy as np

from ivrell.core.comparison.model import Comparison
from ivrell.core.engines.registry import ENGINES
from ivrell.core.measure.noise import floor
from ivrell.core.quantities import format_bytes, format_seconds, three_figures
from ivrell.core.report.code_lines import code_lines
from ivrell.core.report.measures import BY_KEY, Ground, measured, peak_above_start
from ivrell.core.report.words import conditions, limit_told, times_told
from ivrell.core.stats.cautions import Scene, cautions
from ivrell.core.stats.ratio import Ratio, bounded, ratio
from ivrell.core.stats.summary import summarize

Run = Mapping[str, Any]
"""One line of runs.jsonl."""

_TICKS_S = 0.05
"""Shorter runs say nothing of what else was busy: the kernel tells that in ticks of 10 ms."""

_NO_GROUND = Ground(None, 0)

_SUMMED_UP = (
    "elapsed", "cpu_user", "cpu_system", "cpu_total", "peak_memory", "peak_memory_absolute",
)  # fmt: skip
"""Measures that a lane's findings hold with quartiles and an interval."""


def findings(
    comparison: Comparison,
    runs: Sequence[Run],
    agreement: Mapping[str, Mapping[str, Any]],
    machine: Mapping[str, Any],
    point: Mapping[str, Any],
) -> dict[str, Any]:
    """What the runs at one point say.

    Args:
        runs: run objects as in runs.jsonl; those at other points are left out.
        agreement: agreement of each lane at this point, by lane id.
        machine: the machine snapshot of the trial.
        point: the knob values looked at.

    Returns plain data: ``lanes`` in the file's order, ``ranking`` of lane ids (quickest
    first; lanes that disagree or did not finish last), ``conclusion``, ``cautions`` and
    ``measures`` (see measures.MeasureRow).
    """
    everything = [run for run in runs if run["point"] == point]
    here = [run for run in everything if not run.get("memory_run")]
    closely = {run["approach"]: run for run in everything if run.get("memory_run")}
    baseline = [run for run in here if run["approach"] == comparison.baseline_id]
    lanes = []
    for approach in comparison.approach:
        own = [run for run in here if run["approach"] == approach.id]
        if own:
            lane = _lane(approach, own, agreement.get(approach.id), baseline, machine)
            lane["baseline"] = approach.id == comparison.baseline_id
            _tell_memory(lane, closely.get(approach.id))
            lanes.append(lane)
    found = {
        "point": dict(point),
        "lanes": lanes,
        "ranking": _ranking(lanes),
        "cautions": [
            asdict(c)
            for c in cautions(Scene(lanes, dict(machine), point, *_asked_reference(comparison)))
        ],
    }
    found["measures"] = [asdict(row) for row in measured(comparison, everything, point)]
    found["conclusion"] = conclusion(found, machine)
    return found


def _asked_reference(comparison: Comparison) -> tuple[str, str]:
    """The lane that the question wants answers held against, and its name; "" where that is a
    stored answer."""
    answer = comparison.answer
    lane = answer.reference or comparison.baseline_id
    return ("", "") if answer.expected or not lane else (lane, comparison.lane(lane).label)


def _counted(runs: Iterable[Run], lane: str | None) -> list[Run]:
    return [
        run
        for run in runs
        if run["approach"] == lane and not run["warm_up"] and run["state"] == "done"
    ]


def _lane(
    approach: Any,
    runs: list[Run],
    agreement: Mapping[str, Any] | None,
    baseline: list[Run],
    machine: Mapping[str, Any],
) -> dict[str, Any]:
    counted = _counted(runs, approach.id)
    lane: dict[str, Any] = {
        "id": approach.id,
        "name": approach.label,
        "engine": approach.engine,
        "input": approach.wanted.words,
        "parent": approach.parent,
        "code_lines": code_lines(approach.text(), ENGINES[approach.engine].language),
        "agreement": dict(agreement) if agreement else None,
        "state": _state(runs, counted),
        "runs": [_dot(run) for run in runs],
    }
    lane["told"] = _told(runs, lane["state"])
    lane["failure"] = _failure(runs)
    for name in _SUMMED_UP:
        lane[name] = _summed_up(name, counted)
    lane["cores_busy"] = _median(
        (run["cpu_user_s"] + run["cpu_system_s"]) / run["elapsed_s"]
        for run in counted
        if run.get("cpu_user_s") is not None and run["elapsed_s"] > 0
    )
    lane["core_wait_share"] = _median(
        share for run in counted if (share := _share_waited(run)) is not None
    )
    lane["others_busy"] = _median(
        run["others_cpu_s"] / run["elapsed_s"]
        for run in counted
        if run.get("others_cpu_s") is not None and run["elapsed_s"] > _TICKS_S
    )
    lane["answer_rows"] = next((run["answer_rows"] for run in counted), None)
    lane["start"] = _median(run["start_s"] for run in counted if run.get("start_s") is not None)
    lane["stages"] = _stages(counted)
    lane["ratio"] = _ratio(baseline, runs, machine)
    lane["counters"] = _counters(counted)
    for name in ("left_bytes", "answer_bytes", "tables_s"):
        lane[name] = _median(run[name] for run in counted if run.get(name) is not None)
    lane["inner_repeats"] = _median(run.get("inner_repeats", 1) for run in counted)
    lane["first_call"] = _median(
        run["first_elapsed_s"] for run in counted if run.get("first_elapsed_s") is not None
    )
    lane["cached_share"] = _median(
        run["cache"]["share"]
        for run in counted
        if run.get("cache") and run["cache"]["share"] is not None
    )
    lane["most_threads"] = _median(
        run["most_threads"] for run in counted if run.get("most_threads") is not None
    )
    lane["calls"] = next((run["calls"] for run in reversed(counted) if run.get("calls")), [])
    return lane


def _share_waited(run: Run) -> float | None:
    """Share of its time that a run was held up for want of a core: that in which any of its
    tasks was, else what its threads waited each, on average."""
    if not run["elapsed_s"]:
        return None
    if run.get("held_up_s") is not None:
        return min(1.0, float(run["held_up_s"] / run["elapsed_s"]))
    if run.get("core_wait_s") is None:
        return None
    return float(run["core_wait_s"] / run["elapsed_s"] / max(1, run.get("most_threads") or 1))


def _summed_up(name: str, runs: Iterable[Run]) -> dict[str, Any] | None:
    values = [v for run in runs if (v := BY_KEY[name].of(run, _NO_GROUND)) is not None]
    return asdict(summarize(values)) if values else None


def _tell_memory(lane: dict[str, Any], closely: Run | None) -> None:
    """Of a lane that is several processes the memory is that of its memory run."""
    lane["memory_run"] = lane["memory_method"] = None
    if closely is None or closely["state"] != "done":
        return
    lane["memory_run"], lane["memory_method"] = closely["run"], closely["memory_method"]
    for name in ("peak_memory", "peak_memory_absolute"):
        lane[name] = _summed_up(name, [closely])


def _failure(runs: list[Run]) -> dict[str, Any] | None:
    """The error of the lane's first run that failed, with what it printed last."""
    return next((run["error"] for run in runs if run["state"] == "failed" and run["error"]), None)


def _counters(counted: list[Run]) -> dict[str, float]:
    """Median of each counter over the runs that have it."""
    values: dict[str, list[float]] = {}
    for run in counted:
        for name, value in run.get("counters", {}).items():
            values.setdefault(name, []).append(value)
    return {name: float(np.median(found)) for name, found in values.items()}


def _dot(run: Run) -> dict[str, Any]:
    """What a single run shows as: enough to draw it and to find it again."""
    keep = ("run", "round", "warm_up", "state", "elapsed_s", "cpu_user_s", "cpu_system_s")
    dot = {key: run.get(key) for key in keep}
    dot["peak_above_start_bytes"] = peak_above_start(run)
    dot["at_least_s"] = run.get("elapsed_at_least_s")
    dot["counted"] = run["state"] == "done" and not run["warm_up"]
    return dot


def _state(runs: list[Run], counted: list[Run]) -> str:
    """The lane's state: its trouble when it had any, else whether it was measured."""
    states = [run["state"] for run in runs]
    for trouble in ("limit", "failed"):
        if trouble in states:
            return trouble
    return "done" if counted else "stopped" if "stopped" in states else "warm-up only"


def _told(runs: list[Run], state: str) -> str:
    """The lane's trouble in words, or an empty text."""
    run = next((run for run in runs if run["state"] == state), None)
    if state == "limit" and run and run["limit"]:
        return limit_told(run["limit"])
    if state == "failed" and run and run["error"]:
        error = run["error"]
        line = f" (line {error['line']})" if error.get("line") else ""
        return f"{error['kind']}: {error['message']}{line}"
    return ""


def _median(values: Iterable[float]) -> float | None:
    found = list(values)
    return float(np.median(found)) if found else None


def _stages(counted: list[Run]) -> list[dict[str, Any]]:
    """Median elapsed and CPU of each stage over the runs, and of what no stage covers."""
    names: dict[str, list[tuple[float, float]]] = {}
    rest = []
    for run in counted:
        for stage in run["stages"]:
            names.setdefault(stage["name"], []).append((stage["elapsed_s"], stage["cpu_s"]))
        rest.append(run["elapsed_s"] - sum(stage["elapsed_s"] for stage in run["stages"]))
    found = [
        {
            "name": name,
            "elapsed_s": float(np.median([elapsed for elapsed, _ in values])),
            "cpu_s": float(np.median([cpu for _, cpu in values])),
        }
        for name, values in names.items()
    ]
    if rest and (outside := float(np.median(rest))) > 0:
        found.append({"name": None, "elapsed_s": outside, "cpu_s": None})
    return found


def noise_floor(machine: Mapping[str, Any], rounds: int) -> float | None:
    """The factor that equals can be apart in so many rounds on this machine, or None."""
    noise = machine.get("noise")
    return floor(noise["logs"], rounds) if noise and rounds else None


def _ratio(
    baseline: list[Run], own: list[Run], machine: Mapping[str, Any]
) -> dict[str, Any] | None:
    """Times faster than the baseline, from the rounds in which both have a run; a bound where
    one of the two was ended at a limit."""
    if not baseline or not own:
        return None
    itself = baseline[0]["approach"] == own[0]["approach"]
    ends = _until_limit(baseline), _until_limit(own)
    baseline, counted = (_counted(runs, runs[0]["approach"]) for runs in (baseline, own))
    if not itself and ends[0] and not ends[1] and counted:
        times = [run["elapsed_s"] for run in counted]
        return asdict(bounded(ends[0], times, unfinished="baseline"))
    if not itself and ends[1] and not ends[0] and baseline:
        times = [run["elapsed_s"] for run in baseline]
        return asdict(bounded(times, ends[1], unfinished="other"))
    first = {run["round"]: run["elapsed_s"] for run in baseline}
    pairs = [
        (first[run["round"]], run["elapsed_s"])
        for run in counted
        if run["round"] in first and first[run["round"]] > 0 and run["elapsed_s"] > 0
    ]
    if not pairs:
        return None
    if itself:
        return asdict(Ratio(1.0, None, None, len(pairs), "cannot tell apart"))
    within = noise_floor(machine, len(pairs))
    return asdict(ratio([a for a, _ in pairs], [b for _, b in pairs], floor=within))


def _until_limit(runs: list[Run]) -> list[float]:
    """Seconds that runs had gone on for when they were ended at a limit."""
    return [
        run["elapsed_at_least_s"]
        for run in runs
        if run["state"] == "limit" and run.get("elapsed_at_least_s")
    ]


def trusted(lane: Mapping[str, Any]) -> bool:
    """Whether a lane may be ranked: it was measured and its answer is the right one."""
    agreement = lane["agreement"]
    agrees = agreement is None or agreement["agrees"]
    return lane["elapsed"] is not None and lane["state"] == "done" and agrees


def _ranking(lanes: list[dict[str, Any]]) -> list[str]:
    def key(lane: dict[str, Any]) -> tuple[bool, float]:
        return not trusted(lane), lane["elapsed"]["median"] if lane["elapsed"] else float("inf")

    return [lane["id"] for lane in sorted(lanes, key=key)]


def head_to_head(
    first: Mapping[str, Any], second: Mapping[str, Any], machine: Mapping[str, Any]
) -> Ratio | None:
    """How many times faster the first lane is than the second, paired by round."""
    times = {run["round"]: run["elapsed_s"] for run in first["runs"] if run["counted"]}
    pairs = [
        (run["elapsed_s"], times[run["round"]])
        for run in second["runs"]
        if run["counted"] and run["round"] in times
    ]
    if not pairs:
        return None
    within = noise_floor(machine, len(pairs))
    return ratio([a for a, _ in pairs], [b for _, b in pairs], floor=within)


def conclusion(found: Mapping[str, Any], machine: Mapping[str, Any]) -> str:
    """The result in words, with its conditions, made from the numbers."""
    lanes = {lane["id"]: lane for lane in found["lanes"]}
    ranked = [lanes[i] for i in found["ranking"] if trusted(lanes[i])]
    where = conditions(found["point"], machine)
    if not ranked:
        return f"No lane has both a counted run and an agreed answer yet ({where})."
    best, *others = ranked
    level = []
    for lane in others:
        against = head_to_head(best, lane, machine)
        if against and against.verdict == "cannot tell apart":
            level.append(lane)
    took = format_seconds(best["elapsed"]["median"])
    count = best["elapsed"]["count"]
    if level:
        names = _listed([lane["name"] for lane in level])
        text = (
            f"{best['name']} has the lowest median, {took} (of {count} runs; {where}), but "
            f"cannot be told apart from {names}"
        )
    else:
        text = f"{best['name']} is the quickest at {took} (median of {count} runs; {where})"
    base = next((lane for lane in found["lanes"] if lane["baseline"]), None)
    if base and base is not best and base not in level and best["ratio"]:
        text += f": {times_told(best['ratio'])} {base['name']}"
    elif base is best and others and not level:
        text += f"; the baseline keeps its lead, with {others[0]['name']} next"
    text += "."
    if base is None and others:
        text += " The baseline did not run here, so there is nothing to be faster than."
    if best["cores_busy"] is not None and best["peak_memory"]:
        text += (
            f" It keeps {three_figures(best['cores_busy'])} cores busy and takes "
            f"{format_bytes(best['peak_memory']['median'])} above its start."
        )
    return text


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
