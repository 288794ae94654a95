"""What the command line prints: progress on standard error, results on standard output."""

import signal
import sys
from collections.abc import Sequence
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Any, Self

from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, TextColumn, TimeElapsedColumn
from rich.progress import Progress as Bars

from ivrell.cli.drawing import Line, drawing
from ivrell.cli.tables import Heading, table
from ivrell.core.quantities import (
    counted,
    format_bytes,
    format_limit,
    format_seconds,
    three_figures,
)
from ivrell.core.records.agreement import Row
from ivrell.core.records.events import DataProgress, RunEnded, RunStarted, TrialEvent
from ivrell.core.records.findings import Caution, Findings, LaneFindings, Staircase, TrialFindings
from ivrell.core.records.machine import Machine, Noise
from ivrell.core.records.sweep import SweepFindings
from ivrell.core.records.tries import InterruptionOutcome, TryOutcome
from ivrell.core.records.wire import Step
from ivrell.core.report.sweep.along import told_bounds
from ivrell.core.report.words import common_cautions, limit_told, ratio_told

if TYPE_CHECKING:
    from ivrell.core.engines.base import EngineState
    from ivrell.core.recipe.databases.store import Loaded
    from ivrell.core.recipe.store import Made
    from ivrell.core.runtimes import Runtime
    from ivrell.core.servers import Server
    from ivrell.core.spark.clusters import SparkCluster
    from ivrell.core.trial.measured import PointMeasures

_out = Console(highlight=False, markup=False, soft_wrap=True)
_err = Console(stderr=True, highlight=False, markup=False)


class DataBar:
    """One line on standard error for what goes on: the table that is being made. Where standard
    error is no terminal there is none."""

    def __init__(self) -> None:
        self._bars = Bars(
            TextColumn("{task.description}", markup=False),
            BarColumn(),
            MofNCompleteColumn(),
            TimeElapsedColumn(),
            console=_err,
            # The bar repaints in a thread of its own; rarely, so as not to disturb runs.
            refresh_per_second=2,
            transient=True,
            disable=not _err.is_terminal,
        )
        self._task = self._bars.add_task("", total=None)

    def data(self, table: str, form: str, rows: int, total: int) -> None:
        self.show(f"making {table} as {form}", rows, total)

    def show(self, what: str, done: int, total: int) -> None:
        self._bars.update(self._task, description=what, completed=done, total=max(total, done))

    def __enter__(self) -> Self:
        self._bars.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._bars.stop()


class Progress(DataBar):
    """Progress of a trial in one line. The first Ctrl-C, or a signal to terminate, stops it
    cleanly; a second one at once.

    Attributes:
        asked: the signal that asked it to stop, if one did.
    """

    def __init__(self) -> None:
        super().__init__()
        self.asked: signal.Signals | None = None
        self._planned = self._done = 0
        self._before: dict[signal.Signals, Any] = {}

    def planned(self, runs: int) -> None:
        """Say how many runs there are to be."""
        self._planned = runs

    def listen(self, event: TrialEvent) -> None:
        if isinstance(event, DataProgress):
            self.data(event.table, event.form, event.rows, event.total)
        elif isinstance(event, RunStarted):
            point = ", ".join(f"{knob} {value}" for knob, value in event.point.items())
            what = f"{event.approach}{f' ({point})' if point else ''}"
            self.show(what, self._done, self._planned)
        elif isinstance(event, RunEnded) and not (
            event.record.memory_run or event.record.set_aside
        ):
            self._done += 1

    def stop_all(self) -> bool:
        return self.asked is not None

    def stop_run(self, number: int) -> bool:
        return False

    def dropped(self) -> set[str]:
        return set()

    def __enter__(self) -> Self:
        for one in (signal.SIGINT, signal.SIGTERM):
            self._before[one] = signal.signal(one, self._ask)
        super().__enter__()
        return self

    def __exit__(self, *_: object) -> None:
        super().__exit__()
        self._as_before()

    def _ask(self, number: int, frame: FrameType | None) -> None:
        self.asked = signal.Signals(number)
        self._as_before()

    def _as_before(self) -> None:
        for one, handler in self._before.items():
            signal.signal(one, handler)


def stopped(asked: signal.Signals, folder: Path) -> None:
    """Print what a trial that was asked to stop has left, and how to go on with it."""
    how = "Ctrl-C" if asked == signal.SIGINT else asked.name
    _err.print(
        f"ivrell: stopped by {how}. What was measured is kept; go on with: ivrell resume {folder}",
        soft_wrap=True,
    )


def missed(reasons: Sequence[str]) -> None:
    """Print what a strict command fails for."""
    for reason in reasons:
        _err.print(f"ivrell: {reason}", soft_wrap=True)


_FINDINGS = (
    Heading("lane", text=True),
    Heading("engine", text=True, dispensable=3),
    Heading("median"),
    Heading("interval", dispensable=1),
    Heading("against the baseline", text=True),
    Heading("CPU", dispensable=2),
    Heading("cores", dispensable=4),
    Heading("peak", dispensable=2),
    Heading("files left", dispensable=5),
    Heading("lines", dispensable=4),
    Heading("answer", text=True),
)
_EXAMPLES = 3


def findings(found: TrialFindings, folder: Path) -> None:
    """Print the findings of each point as a table with the conclusion above it, then what the
    engines counted, stages, rows that differ and cautions; what holds at every point once."""
    everywhere = common_cautions(found.points)
    for point in found.points:
        _out.print()
        told = (point.conclusion, point.tradeoff, point.target)
        _out.print(" ".join(filter(None, told)))
        _out.print(table(_FINDINGS, [_row(lane) for lane in point.ranked]))
        for lane in point.ranked:
            for line in _beneath(lane):
                _out.print(line)
        for stairs in point.staircases:
            _stairs(stairs)
        for claim in point.claims:
            _out.print(f"Claim, {claim.state}: {claim.text}. {claim.reason}")
        _cautions([c for c in point.cautions if c not in everywhere])
    for sweep in found.sweeps:
        _sweep(sweep, found.points)
    if everywhere:
        if len(found.points) > 1:
            _out.print("\nAt every point:")
        _cautions(everywhere)
    state = "" if found.ended == "done" else f" (trial {found.ended})"
    _out.print(f"\nEverything is in {folder}{state}.")


def _sweep(sweep: SweepFindings, points: Sequence[Findings]) -> None:
    """What is found along a knob: who leads where, how each lane's time grows, what it took."""
    names = {lane.id: lane.name for point in points for lane in point.lanes}
    at = ", ".join(f"{name} {value}" for name, value in sweep.at.items())
    _out.print(f"\nOver {sweep.knob}{f' at {at}' if at else ''}: {sweep.words}")
    if sweep.searched:
        _out.print(f"  {sweep.searched}")
    if _out.is_terminal:
        _out.print(_drawn(sweep, points))
    for lead in sweep.leads:
        if lead.measure != "elapsed":
            _out.print(f"  {lead.words}")
        elif lead.rule:
            _out.print(
                f"  Of {lead.rule.held_out} sizes, each left out in its turn, the others name a "
                f"right lane for {lead.rule.named_right}."
            )
    for growth in sweep.growths:
        if growth.measure == "elapsed" and growth.laws:
            ahead = growth.ahead[-1] if growth.ahead else None
            told = (
                f" At {ahead.size:,.0f}, extrapolated: {format_seconds(ahead.value)} "
                f"({format_seconds(ahead.low)} to {format_seconds(ahead.high)})."
                if ahead
                else ""
            )
            _out.print(f"  {names[growth.lane]} {growth.words}{told}")
    for left in sweep.left_behind:
        told = (
            f", where about {format_seconds(left.expected)} were expected" if left.expected else ""
        )
        _out.print(f"  {names[left.lane]} was dropped at {sweep.knob} {left.from_size:,.0f}{told}.")
    for wall in sweep.walls:
        _out.print(
            f"  {names[wall.lane]} would reach {format_limit(wall.limit_bytes)} of memory at "
            f"{sweep.knob} {told_bounds(wall.size, wall.low, wall.high)}."
        )
    if len({one.runs for one in sweep.spent}) > 1:
        spent = "; ".join(
            f"{one.runs} at {one.size:,.0f}{' (searched)' if one.searched else ''}"
            for one in sweep.spent
        )
        seconds = sum(one.seconds for one in sweep.spent)
        _out.print(f"  Runs by size, in {format_seconds(seconds)}: {spent}.")


def _drawn(sweep: SweepFindings, points: Sequence[Findings]) -> str:
    """Elapsed time of the lanes with a right answer over a knob."""
    along = [
        point
        for point in points
        if {n: v for n, v in point.point.items() if n != sweep.knob} == sweep.at
    ]
    lines: dict[str, dict[float, float]] = {}
    for point in along:
        size = point.point[sweep.knob]
        for lane in point.lanes:
            if lane.trusted and lane.elapsed and isinstance(size, int | float):
                lines.setdefault(lane.name, {})[float(size)] = lane.elapsed.median
    lead = sweep.lead("elapsed")
    return drawing(
        [Line(name, values) for name, values in lines.items()],
        [crossing.at for crossing in lead.crossings] if lead else [],
        format_seconds,
        lambda size: f"{size:,.0f}" if size == round(size) else f"{size:g}",
        _out.width,
    )


_STEPS = (
    Heading("step", text=True),
    Heading("median"),
    Heading("against the step before", text=True),
    Heading("against the first", text=True),
    Heading("lines changed"),
    Heading("", text=True),
)


def _stairs(stairs: Staircase) -> None:
    """Lanes that descend from each other, a step a line."""
    rows = []
    for step in stairs.steps:
        words = [
            "wrong answer" if step.wrong else "",
            "slower than before" if step.slower else "",
            "first to meet the target" if step.lane == stairs.first_to_meet else "",
        ]
        rows.append([
            step.name,
            "" if step.elapsed_s is None else format_seconds(step.elapsed_s),
            ratio_told(step.gain), ratio_told(step.so_far),
            str(step.lines_changed), ", ".join(filter(None, words)),
        ])  # fmt: skip
    _out.print()
    _out.print(table(_STEPS, rows))


def _cautions(some: list[Caution]) -> None:
    for caution in some:
        _out.print(f"Caution, {caution.word}: {caution.reason} {caution.hint}")


def _beneath(lane: LaneFindings) -> list[str]:
    """What does not fit into a row: stages, counters, an error's last lines, rows that differ."""
    lines = []
    named = [stage for stage in lane.stages if stage.name is not None]
    if named:
        told = [f"{stage.name} {format_seconds(stage.elapsed_s)}" for stage in named]
        beside = "; they overlap" if any(stage.overlaps for stage in named) else ""
        lines.append(f"  {lane.name}, stages: {', '.join(told)}{beside}")
    if lane.counters:
        told = [f"{name} {counted(name, value)}" for name, value in lane.counters.items()]
        lines.append(f"  {lane.name}, counted: {', '.join(told)}")
    if lane.failure and lane.failure.printed:
        lines.append(f"  {lane.name} printed last:")
        lines += [f"    {line}" for line in lane.failure.printed.splitlines()]
    if lane.agreement and lane.agreement.broken_lines:
        lines.append(f"  {lane.name}: {lane.agreement.broken_lines}")
    if lane.agreement and not lane.agreement.agrees:
        lines.append(f"  {lane.name}, answer: {'; '.join(lane.agreement.reasons)}")
        for example in lane.agreement.examples[:_EXAMPLES]:
            sides = (("reference", example.reference), ("answer", example.answer))
            lines += [f"    {side:9} {_values(row)}" for side, row in sides]
    return lines


def _values(row: Row | None) -> str:
    if row is None:
        return "(no such row)"
    return ", ".join(f"{name} {'null' if v is None else v}" for name, v in row.items())


def answer_word(lane: LaneFindings) -> str:
    """One word on a lane's answer: the verdict, or that it is the reference itself."""
    if lane.agreement is None:
        return ""
    return "the reference" if lane.agreement.itself else lane.agreement.verdict


def agreement(found: TrialFindings) -> None:
    """Print the verdict on each lane's answer, with its reasons and what it was held against."""
    for point in found.points:
        for lane in point.lanes:
            word = answer_word(lane) or lane.state
            reasons = "; ".join(lane.agreement.reasons) if lane.agreement else ""
            told = lane.trouble or reasons
            _out.print(f"{lane.name}: {word}{f' ({told})' if told else ''}")
            agrees = lane.agreement is None or lane.agreement.agrees
            if not told.startswith(reasons) or not agrees:
                for line in _beneath(lane):
                    _out.print(line)
        _cautions([c for c in point.cautions if c.word in _OF_REFERENCES])


_OF_REFERENCES = ("other reference", "answer not checked")


def _row(lane: LaneFindings) -> list[str]:
    name = f"{lane.name}{' (baseline)' if lane.baseline else ''}"
    elapsed = lane.elapsed
    if not elapsed or lane.state != "done":
        return [name, lane.engine, lane.trouble or lane.state]
    span = ""
    if elapsed.low is not None and elapsed.high is not None:
        span = f"{format_seconds(elapsed.low)} to {format_seconds(elapsed.high)}"
    cpu = format_seconds(lane.cpu_total.median) if lane.cpu_total else ""
    cores = three_figures(lane.cores_busy) if lane.cores_busy is not None else ""
    peak = format_bytes(lane.peak_memory.median) if lane.peak_memory else ""
    left = format_bytes(lane.left_bytes) if lane.left_bytes else ""
    return [
        name, lane.engine, format_seconds(elapsed.median), span, _against_baseline(lane),
        cpu, cores, peak, left, str(lane.code_lines), answer_word(lane),
    ]  # fmt: skip


def _against_baseline(lane: LaneFindings) -> str:
    return "" if lane.baseline else ratio_told(lane.ratio)


def measures(points: "list[PointMeasures]") -> None:
    """Print every measure at every point: a row a measure, a column a lane."""
    from ivrell.core.report.measures import measure_of

    for point in points:
        lanes = list(dict.fromkeys(lane for row in point.rows for lane in row.lanes))
        headings = [Heading("measure", text=True), *(Heading(point.names[lane]) for lane in lanes)]
        rows = []
        for row in point.rows:
            words = measure_of(row).words
            known = row.lanes
            cells = [words(known[lane].median) if lane in known else "" for lane in lanes]
            rows.append([row.label, *cells])
        _out.print()
        if point.point:
            _out.print(", ".join(f"{name} {value}" for name, value in point.point.items()))
        _out.print(table(headings, rows) if rows else "No run has been counted here.")


def made(tables: "list[Made | Loaded]") -> None:
    """Print what was made: rows, size, time, rate and where it lies."""
    from ivrell.core.recipe.databases.store import Loaded

    rows: list[list[str]] = []
    for m in tables:
        if isinstance(m, Loaded):
            for one in m.tables:
                size = "" if one.size_bytes is None else format_bytes(one.size_bytes)
                rate = three_figures(one.rows / one.seconds)
                rows.append([
                    one.table, m.engine, f"{one.rows:,}", size, format_seconds(one.seconds), rate,
                    "", m.place,
                ])  # fmt: skip
            continue
        rate = three_figures(m.rows_per_second) if m.seconds else "as it is"
        rows.append([
            m.table, m.form, f"{m.rows:,}", format_bytes(m.size_bytes), format_seconds(m.seconds),
            rate, m.bytes_hash[:16], m.paths[0],
        ])  # fmt: skip
    headings = [Heading(word, text=True) for word in ("table", "form")]
    headings += [Heading(word) for word in ("rows", "size", "took", "rows a second")]
    headings += [Heading("hash", text=True, dispensable=1), Heading("place", text=True)]
    _out.print(table(headings, rows))
    for loaded in (m for m in tables if isinstance(m, Loaded)):
        for one in loaded.tables:
            told = ", ".join(f"{name} {word}" for name, word in one.types.items())
            _out.print(f"{one.table} in {loaded.engine}: {told}")


def tried(name: str, found: TryOutcome) -> None:
    """Print what a try of a lane took and the first rows of its answer."""
    run = found.run
    if run is None or run.state != "done" or run.elapsed_s is None:
        told = run.why_in_trouble if run else ""
        if run and run.limit and not told:
            told = limit_told(run.limit)
        line = f" (line {run.error.line})" if run and run.error and run.error.line else ""
        _out.print(f"{name}: {run.state if run else 'not run'}. {told}{line}")
        printed = run.error.printed if run and run.error else ""
        for text in printed.splitlines():
            _out.print(f"    {text}")
        return
    cpu = "not measured" if run.cpu_s is None else format_seconds(run.cpu_s)
    size = "rows not told" if run.answer_rows is None else f"{run.answer_rows:,} rows"
    _out.print(f"{name}: {format_seconds(run.elapsed_s)}, CPU {cpu}, {size}")
    headings = [Heading(column.name, text=column.type == "string") for column in found.columns]
    if headings:
        rows = [["null" if v is None else v for v in row] for row in found.rows]
        _out.print(table(headings, rows))


def explained(found: TryOutcome) -> None:
    """Print the plan of each statement as a tree."""
    for statement in found.plans:
        _out.print(f"line {statement.line}: {statement.text.strip().splitlines()[0]}")
        if statement.plan:
            _step(statement.plan, 1)
        else:
            _out.print("  carried out, not explained")
    if not found.plans:
        told = found.run.why_in_trouble if found.run else ""
        _out.print(told or "There is no plan.")


def _step(step: Step, depth: int) -> None:
    told = [step.what, step.detail]
    if step.rows is not None:
        expected = step.expected_rows
        told.append(f"{step.rows:,.0f} rows"
                    + (f" ({expected:,.0f} expected)" if expected is not None else ""))  # fmt: skip
    if step.own_s is not None:
        told.append(format_seconds(step.own_s))
    _out.print("  " * depth + ", ".join(filter(None, told)))
    for below in step.steps:
        _step(below, depth + 1)


def interruption(found: InterruptionOutcome) -> None:
    """Print whether a lane can be started again, and what the kill left."""
    _out.print(found.words)
    for bucket, whole in found.whole.items():
        of = f"{bucket}: " if bucket else ""
        left = found.left.get(bucket, 0)
        _out.print(f"  {of}{left:,} of {whole:,} rows were there after the kill")


def engines(states: "list[EngineState]") -> None:
    """Print which engines there are and how to get the others."""
    for state in states:
        versions = ", ".join(f"{name} {version}" for name, version in state.versions.items())
        word = "ready" if state.installed else f"not installed: {state.hint}"
        _out.print(f"{state.name:10} {word}; {versions}")
    _out.print(
        "Drivers of servers of your own and libraries of lanes go into Ivrell's environment: "
        f"{sys.executable} -m pip install NAME"
    )


def runtimes(found: "list[Runtime]") -> None:
    """Print the registered interpreters, a line each."""
    if not found:
        _out.print("No other interpreter is registered. Add one: --add NAME PATH")
    for one in found:
        word = one.problem or f"{one.implementation} {one.version}, {len(one.packages)} packages"
        _out.print(f"{one.name:16} {one.interpreter}: {word}")


def servers(found: "list[Server]") -> None:
    """Print the registered servers, a line each."""
    if not found:
        _out.print("No server of your own is registered. Add one: --add NAME ADDRESS")
    for one in found:
        where = "its work can be seen" if one.main_process else "its work cannot be seen from here"
        word = one.problem or f"{one.version}, {where}"
        _out.print(f"{one.name:16} {one.address}: {word}")


def clusters(found: "list[SparkCluster]") -> None:
    """Print the registered places of Spark, a line each."""
    if not found:
        _out.print("No cluster is registered. Add one: --add NAME standalone:2")
    for one in found:
        storage = f"; storage {one.storage}" if one.storage else ""
        _out.print(f"{one.name:16} {one.address}: {one.problem or one.words}{storage}")


def _noise(noise: Noise | None) -> str:
    if noise is None:
        return "never measured; ./ivrell machine --noise measures it"
    from ivrell.core.measure.noise import floor

    factors = {rounds: 100 * (floor(noise.logs, rounds) - 1) for rounds in (5, 10)}
    return (
        f"equals come out up to {three_figures(factors[5])} % apart in 5 rounds, "
        f"{three_figures(factors[10])} % in 10 (measured {noise.taken_at}, "
        f"{noise.busy_cores} cores busy then)"
    )


def machine(found: Machine) -> None:
    """Print the machine's facts, a line each."""
    memory, free = format_bytes(found.memory_bytes), format_bytes(found.free_memory_bytes)
    rows = {
        "processor": found.processor,
        "cores": f"{found.cores} ({found.busy_cores} busy now)",
        "memory": f"{memory} ({free} free)",
        "disk": f"{format_bytes(found.free_disk_bytes)} free",
        "system": f"{found.system}, kernel {found.kernel}",
        "load": " ".join(f"{value:.2f}" for value in found.load),
        "python": found.python,
        "sandbox": "works" if found.sandbox.works else f"no: {found.sandbox.why_not}",
        "noise": _noise(found.noise),
        "CPU time by": found.methods.cpu,
        "memory by": found.methods.memory,
    }
    for name, value in rows.items():
        _out.print(f"{name:12} {value}")
