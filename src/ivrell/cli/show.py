"""What the command line prints: progress on standard error, results on standard output."""

import shutil
import signal
from pathlib import Path
from types import FrameType
from typing import Any, Self

from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, TextColumn, TimeElapsedColumn
from rich.progress import Progress as Bars
from rich.table import Table

from ivrell.core.engines.base import EngineState
from ivrell.core.measure.noise import floor
from ivrell.core.quantities import format_bytes, format_seconds, three_figures
from ivrell.core.recipe.databases.store import Loaded
from ivrell.core.recipe.store import Made
from ivrell.core.runtimes import Runtime
from ivrell.core.servers import Server
from ivrell.core.trial.plan import Plan

_out = Console(
    highlight=False,
    markup=False,
    soft_wrap=True,
    width=max(150, shutil.get_terminal_size().columns),
)
_err = Console(stderr=True, highlight=False, markup=False)


class DataProgress:
    """Bars on standard error for the tables being made."""

    def __init__(self) -> None:
        self._bars = Bars(
            TextColumn("{task.description}", markup=False),
            BarColumn(),
            MofNCompleteColumn(),
            TimeElapsedColumn(),
            console=_err,
            # The bars repaint in a thread of their own; rarely, so as not to disturb runs.
            refresh_per_second=2,
        )
        self._tasks: dict[str, Any] = {}

    def data(self, table: str, form: str, rows: int, total: int) -> None:
        self.step(f"{table} as {form}", rows, total)

    def step(self, name: str, done: int, total: int) -> None:
        if name not in self._tasks:
            self._tasks[name] = self._bars.add_task(name, total=total)
        self._bars.update(self._tasks[name], completed=done)

    def __enter__(self) -> Self:
        self._bars.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._bars.stop()


class Progress(DataProgress):
    """Progress of a trial; the first Ctrl-C stops it cleanly."""

    def __init__(self, plan: Plan) -> None:
        super().__init__()
        self._runs = plan.rounds + plan.warm_ups
        self._done: dict[str, int] = {}
        self._stop = False
        self._before: Any = None

    def listen(self, kind: str, fields: dict[str, Any]) -> None:
        if kind == "data":
            self.data(fields["table"], fields["form"], fields["rows"], fields["total"])
        elif kind == "run ended":
            lane = f"{fields['approach']} {fields['point'] or ''}".strip()
            self._done[lane] = self._done.get(lane, 0) + 1
            self.step(lane, self._done[lane], self._runs)

    def stop_all(self) -> bool:
        return self._stop

    def stop_run(self, number: int) -> bool:
        return False

    def dropped(self) -> set[str]:
        return set()

    def __enter__(self) -> Self:
        self._before = signal.signal(signal.SIGINT, self._asked)
        super().__enter__()
        return self

    def __exit__(self, *_: object) -> None:
        super().__exit__()
        signal.signal(signal.SIGINT, self._before)

    def _asked(self, number: int, frame: FrameType | None) -> None:
        self._stop = True
        signal.signal(signal.SIGINT, self._before)


def findings(found: dict[str, Any], folder: Path) -> None:
    """Print the findings of each point as a table with the conclusion above it."""
    for point in found["points"]:
        _out.print()
        _out.print(point["conclusion"])
        table = Table(box=None, pad_edge=False)
        for heading in (
            "lane",
            "engine",
            "median",
            "interval",
            "times faster",
            "CPU",
            "cores",
            "peak",
            "lines",
            "answer",
        ):
            words = heading in ("lane", "engine", "answer")
            table.add_column(heading, justify="left" if words else "right", no_wrap=True)
        order = {lane["id"]: lane for lane in point["lanes"]}
        for lane_id in point["ranking"]:
            table.add_row(*_row(order[lane_id]))
        _out.print(table)
        for caution in point["cautions"]:
            _out.print(f"Caution, {caution['word']}: {caution['reason']} {caution['cure']}")
    state = "" if found["ended"] == "done" else f" (trial {found['ended']})"
    _out.print(f"\nEverything is in {folder}{state}.")


def agreement(found: dict[str, Any]) -> None:
    """Print the verdict on each lane's answer, with its reasons."""
    for point in found["points"]:
        for lane in point["lanes"]:
            verdict = lane["agreement"]["verdict"] if lane["agreement"] else lane["state"]
            word = "reference" if lane["baseline"] else verdict
            reasons = "; ".join(lane["agreement"]["reasons"]) if lane["agreement"] else ""
            told = lane["told"] or reasons
            _out.print(f"{lane['name']}: {word}{f' ({told})' if told else ''}")


def _row(lane: dict[str, Any]) -> list[str]:
    name = f"{lane['name']}{' (baseline)' if lane['baseline'] else ''}"
    elapsed = lane["elapsed"]
    if not elapsed or lane["state"] != "done":
        return [name, lane["engine"], lane["state"]]
    span = ""
    if elapsed["low"] is not None:
        span = f"{format_seconds(elapsed['low'])} to {format_seconds(elapsed['high'])}"
    times = lane["ratio"]
    ratio = three_figures(times["value"]) if times else ""
    if times and times["low"] is not None:
        ratio += f" ({three_figures(times['low'])} to {three_figures(times['high'])})"
    cpu = ""
    if lane["cpu_user"] and lane["cpu_system"]:
        cpu = format_seconds(lane["cpu_user"]["median"] + lane["cpu_system"]["median"])
    cores = three_figures(lane["cores_busy"]) if lane["cores_busy"] is not None else ""
    peak = format_bytes(lane["peak_memory"]["median"]) if lane["peak_memory"] else ""
    return [
        name, lane["engine"], format_seconds(elapsed["median"]), span, ratio, cpu, cores, peak,
        str(lane["code_lines"]), lane["agreement"]["verdict"] if lane["agreement"] else "",
    ]  # fmt: skip


def made(tables: list[Made | Loaded]) -> None:
    """Print what was made: rows, size, time, rate and where it lies."""
    table = Table(box=None, pad_edge=False)
    for heading in ("table", "form", "rows", "size", "took", "rows a second", "hash", "place"):
        table.add_column(heading)
    for m in tables:
        if isinstance(m, Loaded):
            for one in m.tables:
                size = "" if one.size_bytes is None else format_bytes(one.size_bytes)
                rate = three_figures(one.rows / one.seconds)
                table.add_row(
                    one.table, m.engine, f"{one.rows:,}", size, format_seconds(one.seconds), rate,
                    "", m.place,
                )  # fmt: skip
            continue
        rate = three_figures(m.rows_per_second) if m.seconds else "as it is"
        table.add_row(
            m.table, m.form, f"{m.rows:,}", format_bytes(m.size_bytes), format_seconds(m.seconds),
            rate, m.bytes_hash[:16], m.paths[0],
        )  # fmt: skip
    _out.print(table)


def engines(states: list[EngineState]) -> None:
    """Print which engines there are and how to get the others."""
    for state in states:
        versions = ", ".join(f"{name} {version}" for name, version in state.versions.items())
        word = "ready" if state.installed else f"not installed: {state.cure}"
        _out.print(f"{state.name:10} {word}; {versions}")


def runtimes(found: list[Runtime]) -> None:
    """Print the registered interpreters, a line each."""
    if not found:
        _out.print("No other interpreter is registered. Add one: --add NAME PATH")
    for one in found:
        word = one.problem or f"{one.implementation} {one.version}, {len(one.packages)} packages"
        _out.print(f"{one.name:16} {one.interpreter}: {word}")


def servers(found: list[Server]) -> None:
    """Print the registered servers, a line each."""
    if not found:
        _out.print("No server of your own is registered. Add one: --add NAME ADDRESS")
    for one in found:
        where = "its work can be seen" if one.main_process else "its work cannot be seen from here"
        word = one.problem or f"PostgreSQL {one.version}, {where}"
        _out.print(f"{one.name:16} {one.address}: {word}")


def _noise(noise: dict[str, Any] | None) -> str:
    if noise is None:
        return "never measured; ./ivrell machine --noise measures it"
    factors = {rounds: 100 * (floor(noise["logs"], rounds) - 1) for rounds in (5, 10)}
    return (
        f"equals come out up to {three_figures(factors[5])} % apart in 5 rounds, "
        f"{three_figures(factors[10])} % in 10 (measured {noise['taken_at']}, "
        f"{noise['busy_cores']} cores busy then)"
    )


def machine(found: dict[str, Any]) -> None:
    """Print the machine's facts, a line each."""
    rows = {
        "processor": found["processor"],
        "cores": f"{found['cores']} ({found['busy_cores']} busy now)",
        "memory": f"{format_bytes(found['memory_bytes'])} "
        f"({format_bytes(found['free_memory_bytes'])} free)",
        "disk": f"{format_bytes(found['free_disk_bytes'])} free",
        "system": f"{found['system']}, kernel {found['kernel']}",
        "load": " ".join(f"{value:.2f}" for value in found["load"]),
        "python": found["python"],
        "sandbox": "works" if found["sandbox"]["works"] else f"no: {found['sandbox']['why_not']}",
        "noise": _noise(found["noise"]),
        "CPU time by": found["methods"]["cpu"],
        "memory by": found["methods"]["memory"],
    }
    for name, value in rows.items():
        _out.print(f"{name:12} {value}")
