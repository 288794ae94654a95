"""Findings in words, the same wherever they are told."""

from collections.abc import Sequence

from ivrell.core.base.quantities import format_limit, three_figures
from ivrell.core.records.findings import Caution, Findings, LaneFindings, Ratio
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point, Value
from ivrell.core.records.wire import LimitReached
from ivrell.core.stats.contrasts import turned


def limit_told(limit: LimitReached) -> str:
    """A limit that was reached, in words that follow the lane's name."""
    value = limit.value
    return {
        "elapsed": f"did not finish in {value:g} s",
        "memory": f"took more than {format_limit(value)} of memory and was ended",
        "output": f"printed more than {format_limit(value)} and was ended",
        "CPU time": f"used more than {value:g} s of CPU time and was ended",
        "written": f"left more than {format_limit(value)} in files and was ended",
        "processes": f"started more than {value:g} processes and was ended",
        "preparing": f"was not ready to start after {value:g} s",
        "result export": f"did not export its result within {value:g} s",
    }[limit.kind]


def times_told(found: Ratio) -> str:
    """A ratio to the baseline in words that go before the baseline's name."""
    if found.verdict == "not told apart":
        return "not told apart from"
    if found.verdict == "no difference that matters":
        value = three_figures(found.value)
        return f"{value} times{_span(found)} as fast, no difference that matters, as"
    told = _way_round(found)
    bound = "at least " if found.bound else ""
    return f"{bound}{three_figures(told.value)} times{_span(told)} {found.verdict} than"


def _way_round(found: Ratio) -> Ratio:
    """The ratio as it is told: "3.8 times slower" and not 0.263 times faster."""
    return turned(found) if found.verdict in ("slower", "more") else found


def _span(found: Ratio) -> str:
    if found.low is None or found.high is None or found.low == found.high:
        return ""
    return f" ({three_figures(found.low)} to {three_figures(found.high)})"


def ratio_told(found: Ratio | None) -> str:
    """A ratio to the baseline as it stands in tables, its verdict with its interval: "2.10 times
    faster (1.95 to 2.31)", "at least 42.0 times slower", "not told apart (0.95 to 1.20)"."""
    if found is None:
        return ""
    if found.verdict in ("not told apart", "no difference that matters"):
        return f"{found.verdict}{_span(found)}"
    told = _way_round(found)
    bound = "at least " if found.bound else ""
    return f"{bound}{three_figures(told.value)} times {found.verdict}{_span(told)}"


def times_less(found: Ratio) -> str:
    """A ratio in short, without its interval: "3.86× slower", "not told apart"."""
    if found.verdict in ("not told apart", "no difference that matters"):
        return found.verdict
    bound = "≥ " if found.bound else ""
    return f"{bound}{three_figures(_way_round(found).value)}× {found.verdict}"


_BOUNDS = {
    "quickest": "bounds that one lane takes less than each other one",
    "baseline": "bounds all ratios to the baseline at once",
    "pair": "bounds all pairs of lanes at once",
}


def about_ratio(found: Ratio) -> str:
    """What a ratio's interval bounds, and how many rounds more would tell."""
    span = _span(_way_round(found)).strip(" ()")
    told = span and f"{span} times: the interval {_BOUNDS[found.question]} at 95 %"
    more = found.rounds_more
    rounds = (
        "" if more is None else f"about {more:,} more round{'' if more == 1 else 's'} would tell"
    )
    return "; ".join(filter(None, (told, rounds)))


_SAME = {
    "same, other order": "same",
    "same within tolerance": "same",
    "same values, other types": "types differ",
}


def answer_told(lane: LaneFindings) -> str:
    """A word on a lane's answer: the verdict in short, or that it is the reference itself."""
    if lane.agreement is None:
        return ""
    verdict: str = lane.agreement.verdict
    return "reference" if lane.agreement.itself else _SAME.get(verdict, verdict)


def common_cautions(points: Sequence[Findings]) -> list[Caution]:
    """The cautions that every point has, to be told once; all of them where there is one point."""
    first, *others = (point.cautions for point in points)
    return [caution for caution in first if all(caution in other for other in others)]


def knobs_told(point: Point, between: str = " = ") -> list[str]:
    """The values of a point's knobs: "rows = 1,000"."""
    return [f"{name}{between}{_value_told(value)}" for name, value in point.items()]


def _value_told(value: Value | None) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return f"{value:,}" if isinstance(value, int) else str(value)


def conditions(point: Point, machine: Machine) -> str:
    """Under what conditions a result holds, in short."""
    return ", ".join(
        [*knobs_told(point), f"on {'?' if machine.cores is None else machine.cores} cores"]
    )
