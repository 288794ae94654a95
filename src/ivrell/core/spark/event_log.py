"""What Spark's event log tells of a session: tasks, what they used, plans. Standard library only.

The log is a line of JSON an event, written by the driver into a file beside the run. What stands
behind a place in it belongs to whatever came after, so figures are differenced by reading on.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ivrell.core.records.wire import ClusterProgress, Step

FOLDER = ".spark-events"
"""In a run's folder, where its log is."""

METHOD = "task metrics of Spark's event log over the timed part"
_SQL = "org.apache.spark.sql.execution.ui.SparkListener"
_LONGEST = 64 << 20
_DETAIL = 400


@dataclass
class Used:
    """What tasks used, added up; peaks are the largest of any task or executor. Seconds, bytes."""

    executor_cpu_s: float = 0.0
    run_s: float = 0.0
    gc_s: float = 0.0
    peak_execution_bytes: int = 0
    python_memory_bytes: int = 0
    shuffle_written_bytes: int = 0
    shuffle_read_bytes: int = 0
    spilled_memory_bytes: int = 0
    spilled_disk_bytes: int = 0
    input_bytes: int = 0
    output_bytes: int = 0
    output_rows: int = 0
    tasks: int = 0
    failed_tasks: int = 0
    retried_tasks: int = 0
    held_bytes: dict[str, int] = field(default_factory=dict)
    """The most that each executor and its Python workers were seen to hold."""

    def add(self, executor: str, metrics: Mapping[str, Any], peaks: Mapping[str, Any]) -> None:
        """Take in what a task of an executor ended with."""
        self.executor_cpu_s += (
            metrics.get("Executor CPU Time", 0) + metrics.get("Executor Deserialize CPU Time", 0)
        ) / 1e9
        self.run_s += metrics.get("Executor Run Time", 0) / 1e3
        self.gc_s += metrics.get("JVM GC Time", 0) / 1e3
        peak = metrics.get("Peak Execution Memory", 0)
        self.peak_execution_bytes = max(self.peak_execution_bytes, peak)
        read = metrics.get("Shuffle Read Metrics", {})
        self.shuffle_read_bytes += read.get("Remote Bytes Read", 0)
        self.shuffle_read_bytes += read.get("Local Bytes Read", 0)
        written = metrics.get("Shuffle Write Metrics", {})
        self.shuffle_written_bytes += written.get("Shuffle Bytes Written", 0)
        self.spilled_memory_bytes += metrics.get("Memory Bytes Spilled", 0)
        self.spilled_disk_bytes += metrics.get("Disk Bytes Spilled", 0)
        self.input_bytes += metrics.get("Input Metrics", {}).get("Bytes Read", 0)
        written = metrics.get("Output Metrics", {})
        self.output_bytes += written.get("Bytes Written", 0)
        self.output_rows += written.get("Records Written", 0)
        python = peaks.get("ProcessTreePythonRSSMemory", 0)
        self.python_memory_bytes = max(self.python_memory_bytes, python)
        held = python + peaks.get("ProcessTreeJVMRSSMemory", 0)
        self.held_bytes[executor] = max(self.held_bytes.get(executor, 0), held)


INPUT_BYTES = "Spark: input bytes"
PYTHON_MEMORY = "Spark: Python workers' memory bytes"
COUNTERS = {
    "executor_cpu_s": "Spark: executor CPU seconds",
    "run_s": "Spark: executor run seconds",
    "gc_s": "Spark: garbage collection seconds",
    "peak_execution_bytes": "Spark: peak execution memory bytes",
    "python_memory_bytes": PYTHON_MEMORY,
    "shuffle_written_bytes": "Spark: shuffle written bytes",
    "shuffle_read_bytes": "Spark: shuffle read bytes",
    "spilled_memory_bytes": "Spark: spilled from memory bytes",
    "spilled_disk_bytes": "Spark: spilled to disk bytes",
    "input_bytes": INPUT_BYTES,
    "output_bytes": "Spark: output bytes",
    "tasks": "Spark: tasks",
    "failed_tasks": "Spark: failed tasks",
    "retried_tasks": "Spark: tasks run again",
}
"""What is counted, as the names of counters."""

HELD = "Spark: executors' memory bytes"
EXECUTORS, CORES = "Spark: executors", "Spark: executor cores"
"""What a session has to work with, beside what it used."""


@dataclass
class _Query:
    """A query as it was carried out: what it is called, its plan as Spark last told it."""

    root: int
    words: str
    plan: Mapping[str, Any]
    formatted: str


@dataclass
class Tally:
    """What a stretch of the log says; ``read`` goes on where it last ended."""

    path: Path
    at: int = 0
    used: Used = field(default_factory=Used)
    by_group: dict[str, Used] = field(default_factory=dict)
    executors: dict[str, int] = field(default_factory=dict)
    """Cores of each executor that is there now."""
    lost: list[str] = field(default_factory=list)
    """What was heard of each executor that was lost in this stretch."""
    _stages: dict[tuple[int, int], int] = field(default_factory=dict)
    _groups: dict[int, str] = field(default_factory=dict)
    _started: int = 0
    _ended: int = 0
    _running: set[int] = field(default_factory=set)
    _queries: dict[int, _Query] = field(default_factory=dict)
    _sums: dict[int, float] = field(default_factory=dict)

    def read(self) -> Tally:
        """Take in what was written since; what is no whole line yet waits."""
        try:
            with self.path.open("rb") as file:
                file.seek(self.at)
                data = file.read(_LONGEST)
        except OSError:
            return self
        whole, _, _ = data.rpartition(b"\n")
        if whole:
            self.at += len(whole) + 1
            for line in whole.split(b"\n"):
                self._take(line)
        return self

    def begin(self) -> None:
        """Forget what was counted: what comes from here on is another stretch."""
        self.used, self.by_group = Used(), {}
        self._queries, self._sums, self.lost = {}, {}, []

    def group_of(self, stage: int) -> str:
        """The stage of the approach's that a stage of Spark's belongs to; "" where it has none."""
        return self._groups.get(stage, "")

    def _take(self, line: bytes) -> None:
        try:
            event = json.loads(line)
            kind = str(event["Event"])
        except (ValueError, TypeError, KeyError):
            return
        name = kind.removeprefix(_SQL).removeprefix("SparkListener")
        take = getattr(self, f"_{name}", None)
        if take:
            try:
                take(event)
            except (KeyError, TypeError, ValueError, AttributeError):
                # Another version's event, or none of Spark's: what it would tell is not known.
                return

    def _ExecutorAdded(self, event: Mapping[str, Any]) -> None:
        self.executors[event["Executor ID"]] = int(event["Executor Info"]["Total Cores"])

    def _ExecutorRemoved(self, event: Mapping[str, Any]) -> None:
        if self.executors.pop(event["Executor ID"], None) is not None:
            self.lost.append(str(event.get("Removed Reason") or ""))

    def _JobStart(self, event: Mapping[str, Any]) -> None:
        group = (event.get("Properties") or {}).get("spark.jobGroup.id", "")
        for stage in event["Stage IDs"]:
            self._groups[int(stage)] = group

    def _StageSubmitted(self, event: Mapping[str, Any]) -> None:
        info = event["Stage Info"]
        self._stages[int(info["Stage ID"]), int(info["Stage Attempt ID"])] = int(
            info["Number of Tasks"]
        )

    def _StageCompleted(self, event: Mapping[str, Any]) -> None:
        info = event["Stage Info"]
        self._stages.pop((int(info["Stage ID"]), int(info["Stage Attempt ID"])), None)

    def _TaskStart(self, event: Mapping[str, Any]) -> None:
        info = event["Task Info"]
        self._running.add(int(info["Task ID"]))
        place = int(event["Stage ID"]), int(event["Stage Attempt ID"])
        if place in self._stages:
            self._stages[place] -= 1
        if int(info["Attempt"]) or place[1]:
            self.used.retried_tasks += 1

    def _TaskEnd(self, event: Mapping[str, Any]) -> None:
        self._running.discard(int(event["Task Info"]["Task ID"]))
        group = self._groups.get(int(event["Stage ID"]), "")
        for used in (self.used, self.by_group.setdefault(group, Used())):
            used.tasks += 1
            if event["Task End Reason"]["Reason"] != "Success":
                used.failed_tasks += 1
            used.add(
                str(event["Task Info"].get("Executor ID", "")),
                event.get("Task Metrics") or {},
                event.get("Task Executor Metrics") or {},
            )
        for found in event["Task Info"].get("Accumulables", ()):
            if found.get("Metadata") == "sql" and "Update" in found:
                self._sum(int(found["ID"]), float(found["Update"]))

    def _sum(self, number: int, value: float) -> None:
        self._sums[number] = self._sums.get(number, 0.0) + value

    def _DriverAccumUpdates(self, event: Mapping[str, Any]) -> None:
        for number, value in event["accumUpdates"]:
            self._sum(int(number), float(value))

    def _SQLExecutionStart(self, event: Mapping[str, Any]) -> None:
        number = int(event["executionId"])
        self._queries[number] = _Query(
            int(event.get("rootExecutionId", number)), str(event["description"]),
            event["sparkPlanInfo"], str(event.get("physicalPlanDescription", "")),
        )  # fmt: skip

    def _SQLAdaptiveExecutionUpdate(self, event: Mapping[str, Any]) -> None:
        if query := self._queries.get(int(event["executionId"])):
            query.plan = event["sparkPlanInfo"]
            query.formatted = str(event.get("physicalPlanDescription", query.formatted))

    def progress(self) -> ClusterProgress:
        """The session now: executors and their cores, tasks waiting, running and done, and what
        was shuffled and spilled until now."""
        return ClusterProgress(
            executors=len(self.executors),
            cores=sum(self.executors.values()),
            waiting=max(0, sum(self._stages.values())),
            running=len(self._running),
            done=self.used.tasks,
            shuffle_bytes=self.used.shuffle_written_bytes,
            spilled_bytes=self.used.spilled_disk_bytes,
        )

    def counters(self) -> dict[str, float]:
        """What was counted, by the names of counters; of stages, where there are several, what
        their tasks used and shuffled."""
        found = {words: float(getattr(self.used, name)) for name, words in COUNTERS.items()}
        if held := sum(self.used.held_bytes.values()):
            found[HELD] = float(held)
        found[EXECUTORS] = float(len(self.executors))
        found[CORES] = float(sum(self.executors.values()))
        named = {group: used for group, used in self.by_group.items() if group}
        if len(named) > 1:
            for group, used in named.items():
                found[f"Spark, {group}: tasks"] = float(used.tasks)
                found[f"Spark, {group}: executor CPU seconds"] = used.executor_cpu_s
                found[f"Spark, {group}: shuffle written bytes"] = float(used.shuffle_written_bytes)
        return found

    def plans(self) -> Iterator[tuple[str, Step]]:
        """How each query was carried out: what Spark calls it, and its plan with rows and times."""
        for number, query in self._queries.items():
            if query.root == number:
                yield query.words, _step(query.plan, self._sums, _details(query.formatted))


_PASSED = ("AdaptiveSparkPlan", "WholeStageCodegen", "InputAdapter", "ShuffleQueryStage",
           "BroadcastQueryStage", "ResultQueryStage", "TableCacheQueryStage")  # fmt: skip
"""Nodes that only wrap another one."""


def _details(formatted: str) -> dict[str, list[str]]:
    """Of the formatted plan, what stands under each node, by its name in order."""
    found: dict[str, list[str]] = {}
    for part in formatted.split("\n\n("):
        head, _, rest = part.partition("\n")
        _, _, name = head.partition(") ")
        if name and rest:
            found.setdefault(name.split(" [codegen")[0].strip(), []).append(
                ", ".join(line.strip() for line in rest.splitlines() if line.strip())
            )
    return found


def _step(
    node: Mapping[str, Any], sums: Mapping[int, float], details: Mapping[str, list[str]]
) -> Step:
    name = str(node["nodeName"]).strip()
    children = list(node.get("children", ()))
    if len(children) == 1 and name.startswith(_PASSED):
        inner = _step(children[0], sums, details)
        if name.startswith("WholeStageCodegen") and inner.own_s is None:
            inner.own_s = _told(node, sums, "duration", 1e3)
        return inner
    seconds = [
        _told(node, sums, metric["name"], 1e9 if metric["metricType"] == "nsTiming" else 1e3)
        for metric in node.get("metrics", ())
        if metric["metricType"] in ("timing", "nsTiming")
    ]
    own = [one for one in seconds if one is not None]
    steps = [_step(child, sums, details) for child in children]
    if own and "Aggregate" in name:
        # What Spark calls the time of an aggregation holds that of what feeds it without a shuffle.
        own = [max(0.0, sum(own) - sum(map(_pipelined, steps)))]
    detail = str(node.get("simpleString", "")).removeprefix(name).strip()
    rows = _told(node, sums, "number of output rows", 1.0)
    return Step(
        what=name,
        detail=(detail or (details.get(name) or [""])[0])[:_DETAIL],
        rows=_told(node, sums, "shuffle records written", 1.0) if rows is None else rows,
        own_s=sum(own) if own else None,
        steps=steps,
    )


def _pipelined(step: Step) -> float:
    """Seconds of a step and of those that feed it without a shuffle between."""
    if "Exchange" in step.what or "ShuffleRead" in step.what:
        return 0.0
    return (step.own_s or 0.0) + sum(map(_pipelined, step.steps))


def _told(
    node: Mapping[str, Any], sums: Mapping[int, float], name: str, over: float
) -> float | None:
    for metric in node.get("metrics", ()):
        if metric["name"] == name and (value := sums.get(int(metric["accumulatorId"]))) is not None:
            return value / over
    return None


def log_in(folder: Path) -> Path | None:
    """The log in a run's folder, where there is one; nothing that is a link."""
    events = folder / FOLDER
    if events.is_symlink() or not events.is_dir():
        return None
    found = [path for path in events.iterdir() if path.is_file() and not path.is_symlink()]
    return max(found, key=lambda path: path.stat().st_mtime, default=None)
