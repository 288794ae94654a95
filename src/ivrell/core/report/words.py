"""Findings in words, the same wherever they are told."""

from collections.abc import Sequence

from ivrell.core.quantities import format_bytes, three_figures
from ivrell.core.records.findings import Caution, Findings, Ratio
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point
from ivrell.core.records.wire import LimitReached


def limit_told(limit: LimitReached) -> str:
    """A limit that was reached, in words that follow the lane's name."""
    value = limit.value
    return {
        "elapsed": f"did not finish in {value:g} s",
        "memory": f"took more than {format_bytes(value)} of memory and was ended",
        "output": f"printed more than {format_bytes(value)} and was ended",
        "CPU time": f"used more than {value:g} s of CPU time and was ended",
        "written": f"left more than {format_bytes(value)} in files and was ended",
        "processes": f"started more than {value:g} processes and was ended",
        "preparing": f"was not ready to start after {value:g} s",
        "result export": f"did not export its result within {value:g} s",
    }[limit.kind]


def times_told(found: Ratio) -> str:
    """A ratio to the baseline in words that go before the baseline's name."""
    value, low, high = found.value, found.low, found.high
    bound = f"{found.bound} " if found.bound else ""
    if found.verdict == "cannot tell apart":
        return "it cannot be told apart from"
    span = f" ({three_figures(low)} to {three_figures(high)})" if low and high else ""
    if found.verdict == "no difference that matters":
        return f"{three_figures(value)} times{span} as fast, no difference that matters, as"
    if found.verdict == "slower":
        value, low, high = 1 / value, 1 / high if high else None, 1 / low if low else None
        bound = "at least " if bound else ""
    span = f" ({three_figures(low)} to {three_figures(high)})" if low and high else ""
    word = "faster" if found.verdict == "faster" else "slower"
    return f"{bound}{three_figures(value)} times{span} {word} than"


def times_faster(found: Ratio | None) -> str:
    """A ratio to the baseline as it stands in tables: "2.10 (1.95 to 2.31)", "at least 42.0"."""
    if found is None:
        return ""
    value, bound = found.value, found.bound
    if bound:
        return f"{bound} {three_figures(value)}"
    if found.low is None or found.high is None:
        return three_figures(value)
    span = f"{three_figures(found.low)} to {three_figures(found.high)}"
    return f"{three_figures(value)} ({span})"


def common_cautions(points: Sequence[Findings]) -> list[Caution]:
    """The cautions that every point has, to be told once; all of them where there is one point."""
    first, *others = (point.cautions for point in points)
    return [caution for caution in first if all(caution in other for other in others)]


def conditions(point: Point, machine: Machine) -> str:
    """Under what conditions a result holds, in short."""
    knobs = [f"{k} = {v:,}" if isinstance(v, int) else f"{k} = {v}" for k, v in point.items()]
    return ", ".join([*knobs, f"on {'?' if machine.cores is None else machine.cores} cores"])
