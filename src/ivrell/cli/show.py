"""What the command line prints: progress on standard error, results on standard output."""

import signal
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Any, Self

from ivrell.cli.console import ERR, OUT
from ivrell.cli.tables import Heading, table
from ivrell.core.base.quantities import (
    format_bytes,
    format_seconds,
    three_figures,
)
from ivrell.core.records.machine import Machine, Noise
from ivrell.core.records.next_steps import NextSteps
from ivrell.core.records.tries import InterruptionOutcome, TryOutcome
from ivrell.core.report.explained import plan_lines
from ivrell.core.report.words import limit_told
from ivrell.progress import TerminalLine, Watched

if TYPE_CHECKING:
    from ivrell.core.engines.base import EngineState
    from ivrell.core.recipe.databases.store import Loaded
    from ivrell.core.recipe.store import Made
    from ivrell.core.records.estimate import Estimate
    from ivrell.core.runtimes import Runtime
    from ivrell.core.servers.own import Server
    from ivrell.core.spark.clusters import SparkCluster


class DataBar:
    """A line for the tables that are being made."""

    def __init__(self) -> None:
        self._line = TerminalLine(ERR)

    def data(self, table: str, form: str, rows: int, total: int) -> None:
        self._line.show(f"making {table} as {form}", rows, total)

    def __enter__(self) -> Self:
        self._line.__enter__()
        return self

    def __exit__(self, *_: object) -> None:
        self._line.__exit__()


class Progress(Watched):
    """Progress of a trial in one line. The first Ctrl-C, or a signal to terminate, stops it
    cleanly; a second one at once.

    Attributes:
        asked: the signal that asked it to stop, if one did.
    """

    def __init__(self) -> None:
        super().__init__(TerminalLine(ERR))
        self.asked: signal.Signals | None = None
        self._before: dict[signal.Signals, Any] = {}

    def stop_all(self) -> bool:
        return self.asked is not None

    def stop_run(self, number: int) -> bool:
        return False

    def dropped(self) -> set[str]:
        return set()

    def between_runs(self) -> None:
        pass

    def __enter__(self) -> Self:
        for one in (signal.SIGINT, signal.SIGTERM):
            self._before[one] = signal.signal(one, self._ask)
        self.line.__enter__()
        return self

    def __exit__(self, *_: object) -> None:
        self.line.__exit__()
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
    ERR.print(
        f"ivrell: stopped by {how}. What was measured is kept; go on with: ivrell resume {folder}",
        soft_wrap=True,
    )


def missed(reasons: Sequence[str]) -> None:
    """Print what a strict command fails for."""
    for reason in reasons:
        ERR.print(f"ivrell: {reason}", soft_wrap=True)


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
    OUT.print(table(headings, rows))
    for loaded in (m for m in tables if isinstance(m, Loaded)):
        for one in loaded.tables:
            told = ", ".join(f"{name} {word}" for name, word in one.types.items())
            OUT.print(f"{one.table} in {loaded.engine}: {told}")


_RESTS = {
    "measured": "runs like these",
    "sizes": "how it grows",
    "another size": "runs at one other size",
    "not known": "nothing",
}


def estimate(found: "Estimate", names: Mapping[str, str], minutes: float | None) -> None:
    """Print what a plan will take, by lane and in all, and what that rests on."""
    rows = [
        [
            names[lane.lane],
            *(
                ["not known", ""]
                if lane.rests_on == "not known"
                else [format_seconds(lane.seconds), _between(lane.low, lane.high)]
            ),
            _RESTS[lane.rests_on],
        ]
        for lane in found.lanes
    ]
    headings = [
        Heading("lane", text=True, wraps=True), Heading("will take"), Heading("bounds"),
        Heading("by", text=True),
    ]  # fmt: skip
    OUT.print(table(headings, rows))
    span = _between(found.low, found.high)
    OUT.print(f"About {format_seconds(found.seconds)} in all ({span}).")
    for lanes, word in ((found.breaking, "will"), (found.perhaps, "may")):
        if lanes:
            told = ", ".join(names[lane] for lane in lanes)
            OUT.print(f"{told} {word} break the limit of memory at the largest.")
    if found.rounds_in_time is not None:
        OUT.print(f"In {minutes:g} minutes: {found.rounds_in_time} rounds.")


def _between(low: float, high: float) -> str:
    return f"{format_seconds(low)} to {format_seconds(high)}"


def tried(name: str, found: TryOutcome) -> None:
    """Print what a try of a lane took and the first rows of its answer."""
    run = found.run
    if run is None or run.state != "done" or run.elapsed_s is None:
        told = run.why_in_trouble if run else ""
        if run and run.limit and not told:
            told = limit_told(run.limit)
        line = f" (line {run.error.line})" if run and run.error and run.error.line else ""
        OUT.print(f"{name}: {run.state if run else 'not run'}. {told}{line}")
        printed = run.error.printed if run and run.error else ""
        for text in printed.splitlines():
            OUT.print(f"    {text}")
        return
    cpu = "not measured" if run.cpu_s is None else format_seconds(run.cpu_s)
    size = "rows not told" if run.answer_rows is None else f"{run.answer_rows:,} rows"
    OUT.print(f"{name}: {format_seconds(run.elapsed_s)}, CPU {cpu}, {size}")
    headings = [Heading(column.name, text=column.type == "string") for column in found.columns]
    if headings:
        rows = [["null" if v is None else v for v in row] for row in found.rows]
        OUT.print(table(headings, rows))


def explained(found: TryOutcome) -> None:
    """Print the plan of each statement as a tree."""
    for line in plan_lines(found.plans):
        OUT.print(line)
    if not found.plans:
        told = found.run.why_in_trouble if found.run else ""
        OUT.print(told or "There is no plan.")


def next_steps(found: NextSteps) -> None:
    """Print what to look at next, what it rests on, and what to type."""
    if not found.steps:
        OUT.print("Nothing that was measured asks for another look.")
    for step in found.steps:
        OUT.print(step.words, markup=False)
        for words in step.evidence:
            OUT.print(f"    {words}", markup=False)
        if step.plan is not None:
            OUT.print(f"    ivrell run FILE {step.arguments}", markup=False)
        elif step.arguments:
            OUT.print(f"    {step.arguments}", markup=False)


def interruption(found: InterruptionOutcome) -> None:
    """Print whether a lane can be started again, and what the kill left."""
    OUT.print(found.words)
    for bucket, whole in found.whole.items():
        of = f"{bucket}: " if bucket else ""
        left = found.left.get(bucket, 0)
        OUT.print(f"  {of}{left:,} of {whole:,} rows were there after the kill")


def engines(states: "list[EngineState]") -> None:
    """Print which engines there are and how to get the others."""
    for state in states:
        versions = ", ".join(f"{name} {version}" for name, version in state.versions.items())
        word = "ready" if state.installed else state.problem or f"not installed. {state.lack}"
        OUT.print(f"{state.name:10} {'; '.join(filter(None, [word, versions]))}")
    OUT.print(
        "Drivers of servers of your own and libraries of lanes go into Ivrell's environment: "
        f"{sys.executable} -m pip install NAME"
    )


def runtimes(found: "list[Runtime]") -> None:
    """Print the registered interpreters, a line each."""
    if not found:
        OUT.print("No other interpreter is registered. Add one: --add NAME PATH")
    for one in found:
        word = one.problem or f"{one.implementation} {one.version}, {len(one.packages)} packages"
        OUT.print(f"{one.name:16} {one.interpreter}: {word}")


def said(line: str) -> None:
    """Print a line of what goes on, beside what is found."""
    print(line, file=sys.stderr)


def environments(found: "list[Runtime]") -> None:
    """Print the environments, a line each."""
    if not found:
        OUT.print("There is no environment. Make one: add NAME pandas==2.3.3")
    for one in found:
        versions = ", ".join(f"{name} {version}" for name, version in one.packages.items())
        word = one.problem or f"{one.implementation} {one.version}; {versions}"
        OUT.print(f"{one.name:16} {word}")


def servers(found: "list[Server]") -> None:
    """Print the registered servers, a line each."""
    if not found:
        OUT.print("No server of your own is registered. Add one: --add NAME ADDRESS")
    for one in found:
        where = "its work can be seen" if one.main_process else "its work cannot be seen from here"
        word = one.problem or f"{one.version}, {where}"
        OUT.print(f"{one.name:16} {one.address}: {word}")


def clusters(found: "list[SparkCluster]") -> None:
    """Print the registered places of Spark, a line each."""
    if not found:
        OUT.print("No cluster is registered. Add one: --add NAME standalone:2")
    for one in found:
        storage = f"; storage {one.storage}" if one.storage else ""
        OUT.print(f"{one.name:16} {one.address}: {one.problem or one.words}{storage}")


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
        OUT.print(f"{name:12} {value}")
