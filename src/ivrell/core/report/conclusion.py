"""The result in words: who wins, at what cost, who is good enough, and under what conditions."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from ivrell.core.base.quantities import format_bytes, format_seconds, three_figures
from ivrell.core.comparison.model import Targets
from ivrell.core.records.findings import LaneFindings, MeasureRow, PairRatio, Ratio
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point
from ivrell.core.report.words import conditions, knobs_told, times_told
from ivrell.core.stats.cautions.resolution import GRAIN_BYTES

_MUCH_MORE = 1.25
_MUCH_LESS = 2.0
_COSTS = ("peak_memory", "cpu_total", "written_bytes", "left_bytes", "code_lines")
_SAME = 1.1
_MOST_NAMED = 4


@dataclass(frozen=True)
class Result:
    """What the words are made of: lanes as ranked, every pair's ratio of elapsed and of CPU time,
    all measures."""

    ranked: Sequence[LaneFindings]
    pairs: Sequence[PairRatio]
    cpu_pairs: Sequence[PairRatio]
    measures: Sequence[MeasureRow]
    point: Point
    machine: Machine
    targets: Targets

    @property
    def trusted(self) -> list[LaneFindings]:
        """The lanes that may win, quickest first."""
        return [lane for lane in self.ranked if lane.trusted]

    def ratio(self, base: LaneFindings, lane: LaneFindings) -> Ratio | None:
        """How many times faster a lane is than another."""
        return _ratio_in(self.pairs, base, lane)

    def cpu_ratio(self, base: LaneFindings, lane: LaneFindings) -> Ratio | None:
        """How many times less CPU time a lane takes than another."""
        return _ratio_in(self.cpu_pairs, base, lane)


def _ratio_in(pairs: Sequence[PairRatio], base: LaneFindings, lane: LaneFindings) -> Ratio | None:
    wanted = base.id, lane.id
    return next((pair.ratio for pair in pairs if (pair.base, pair.lane) == wanted), None)


def conclusion(result: Result) -> str:
    """Who wins and by how much, with the conditions, made from the numbers."""
    where = conditions(result.point, result.machine)
    if not result.trusted:
        return f"No lane has both a counted run and an agreed answer yet ({where})."
    best, *others = result.trusted
    against = {lane.id: result.ratio(lane, best) for lane in others}
    level = [lane for lane in others if _verdict(against[lane.id]) == "not told apart"]
    near = [lane for lane in others if _verdict(against[lane.id]) == "no difference that matters"]
    assert best.elapsed
    took, count = format_seconds(best.elapsed.median), best.elapsed.count
    runs = f"{count} {'run' if count == 1 else 'runs'}"
    if _all_are_empty(result):
        return (
            f"No answer has a row, so nobody is called the quickest; {best.name} has the lowest "
            f"median, {took} (of {runs}; {where}). Look whether its tables have rows that it asks "
            "for."
        )
    if level or near:
        text = f"{best.name} has the lowest median, {took} (of {runs}; {where}), but "
        told = []
        if level:
            told.append(f"is not told apart from {_listed(level)}")
        if near:
            told.append(f"has no lead that matters over {_listed(near)}")
        text += " and ".join(told)
    else:
        text = f"{best.name} is the quickest at {took} (median of {runs}; {where})"
    base = next((lane for lane in result.ranked if lane.baseline), None)
    ahead = result.ratio(base, best) if base else None
    if base and base is not best and base not in level and base not in near:
        if ratio := best.ratio if best.ratio and best.ratio.bound else ahead:
            text += f": {times_told(ratio)} {base.name}"
    elif base is best and others and not level and not near:
        text += f"; the baseline keeps its lead, with {others[0].name} next"
    text += "."
    if base is None and others:
        text += " The baseline did not run here, so there is nothing to be faster than."
    return (
        text
        + _by_cpu_time(result, best, level)
        + _more_rounds([against[lane.id] for lane in level])
    )


def _all_are_empty(result: Result) -> bool:
    """Whether the lanes agree on an answer without rows, which those that did nothing give too."""
    rows = next((row.lanes for row in result.measures if row.key == "answer_rows"), {})
    counts = [rows[lane.id].median for lane in result.trusted if lane.id in rows]
    return bool(counts) and not any(counts)


def _by_cpu_time(result: Result, best: LaneFindings, level: Sequence[LaneFindings]) -> str:
    """What CPU time tells where elapsed time was disturbed and does not."""
    if not level or not any(
        dot.disturbed and not dot.warm_up for lane in (best, *level) for dot in lane.runs
    ):
        return ""
    among = [best, *level]
    medians = {lane.id: lane.cpu_total.median for lane in among if lane.cpu_total}
    if len(medians) < len(among):
        return ""
    least, *others = sorted(among, key=lambda lane: medians[lane.id])
    ratios = [result.cpu_ratio(lane, least) for lane in others]
    apart = [
        (lane, ratio)
        for lane, ratio in zip(others, ratios, strict=True)
        if ratio and ratio.verdict == "less"
    ]
    if not apart:
        return ""
    ratio = min((ratio for _, ratio in apart), key=lambda ratio: ratio.value)
    factors = f"{three_figures(ratio.value)} times{_span(ratio)}"
    if len(apart) > 1:
        factors = f"at least {factors}"
    return (
        f" By CPU time, which other programs hardly change, {least.name} takes {factors} less "
        f"than {_listed([lane for lane, _ in apart])}."
    )


def _span(ratio: Ratio) -> str:
    if ratio.low is None or ratio.high is None:
        return ""
    return f" ({three_figures(ratio.low)} to {three_figures(ratio.high)})"


def _verdict(ratio: Ratio | None) -> str | None:
    return ratio.verdict if ratio else None


def _more_rounds(unsure: Sequence[Ratio | None]) -> str:
    """How many rounds more would tell all of those that cannot be told apart."""
    wanted = [ratio.rounds_more for ratio in unsure if ratio and ratio.low is not None]
    if not wanted:
        return ""
    known = [more for more in wanted if more is not None]
    if not known:
        return " Even a thousand more rounds are not likely to tell."
    more = f"{max(known)} more {'round' if max(known) == 1 else 'rounds'}"
    of = "" if len(known) == len(wanted) else f" {len(known)} of these {len(wanted)}"
    return f" About {more} would tell{of}."


def tradeoff(result: Result) -> str:
    """What the quickest costs beside the baseline, or beside the next where it is that itself;
    an empty text where there is nothing to hold it against."""
    if len(result.trusted) < 2:
        return ""
    best = result.trusted[0]
    base = next((lane for lane in result.trusted if lane.baseline and lane is not best), None)
    other = base or result.trusted[1]
    ratio = result.ratio(other, best)
    if ratio is None or ratio.verdict != "faster":
        return ""
    rows = {row.key: row for row in result.measures if {best.id, other.id} <= row.lanes.keys()}
    costs = [told for key in _COSTS if key in rows and (told := _cost(rows[key], best, other))]
    gains = _gains(rows.values(), best, other)
    cpu = rows.get("cpu_total")
    level = cpu is not None and 1 / _SAME <= (_times(cpu, best, other) or 0.0) <= _SAME
    if not (costs or gains or level):
        return ""
    # The conclusion has told already how much quicker than the baseline it is.
    text = "It takes" if base else f"{_times_told(ratio.value)} as fast as {other.name}, it takes"
    parts = ["the same CPU time"] if level else []
    parts += costs
    told = _joined(parts) if parts else ""
    if gains:
        told += f"{', but ' if told else ''}{_joined(gains)}"
    text = f"{text} {told}."
    return text[0].upper() + text[1:]


def _cost(row: MeasureRow, best: LaneFindings, other: LaneFindings) -> str:
    """What the quickest takes more of, in words; empty where it takes no more."""
    more = _times(row, other, best)
    if more is None or more < _MUCH_MORE:
        return ""
    if row.key == "peak_memory" and row.lanes[other.id].median < GRAIN_BYTES:
        # Times of next to nothing are no measure of anything.
        took = row.lanes[best.id].median
        return f"{format_bytes(took)} of {row.label}" if took > GRAIN_BYTES else ""
    return f"{_times_told(more)} the {row.label}"


def _gains(rows: Iterable[MeasureRow], best: LaneFindings, other: LaneFindings) -> list[str]:
    """What the quickest takes far less of, the two that are farthest apart."""
    found = []
    for row in rows:
        less = _times(row, best, other)
        if less is None or less < _MUCH_LESS:
            continue
        if (row.key in _COSTS[1:] and row.key != "cpu_total") or row.key.startswith("counter."):
            found.append((less, f"{_part_told(less)} the {row.label}"))
    return [told for _, told in sorted(found, key=lambda one: -one[0])[:2]]


def _times(row: MeasureRow, lane: LaneFindings, other: LaneFindings) -> float | None:
    """How many times a lane's value the other's is."""
    one, two = row.lanes[lane.id].median, row.lanes[other.id].median
    return two / one if one > 0 and two > 0 else None


def _times_told(times: float) -> str:
    return "twice" if abs(times - 2) < 0.05 else f"{three_figures(times)} times"


def _part_told(times: float) -> str:
    words = {
        2: "half of",
        3: "a third of",
        4: "a quarter of",
        10: "a tenth of",
        100: "a hundredth of",
    }
    near = next((word for whole, word in words.items() if abs(times / whole - 1) < 0.03), None)
    return near or f"{three_figures(100 / times)} % of"


def targets_told(result: Result) -> str:
    """How many lanes are good enough, and the one of them with the least code; an empty text
    where the question names no target."""
    lanes, targets = result.trusted, result.targets
    wanted = []
    if targets.elapsed is not None:
        wanted.append(format_seconds(targets.elapsed))
    if targets.memory is not None:
        wanted.append(f"{format_bytes(targets.memory)} of memory")
    if not wanted or not lanes:
        return ""
    good = [lane for lane in lanes if meets(lane, targets) == "surely"]
    maybe = [lane for lane in lanes if meets(lane, targets) == "by the median"]
    aim = " and ".join(wanted)
    unsure = f"{_listed(maybe)} by the median, not surely" if maybe else ""
    if not good:
        return f"{unsure[:1].upper()}{unsure[1:]} {_meet(maybe)} {aim}." if maybe else (
            f"None of {len(lanes)} meets {aim}."
        )  # fmt: skip
    text = f"{len(good)} of {len(lanes)} {_meet(good)} {aim}"
    if len(good) > 1:
        least = min(good, key=lambda lane: lane.code_lines)
        lines = f"{least.code_lines} {'line' if least.code_lines == 1 else 'lines'}"
        text = f"{text}; the shortest code that does is {least.name} ({lines})"
    else:
        text = f"{text}: {good[0].name}"
    return f"{text}; {unsure}." if unsure else f"{text}."


def _meet(lanes: Sequence[LaneFindings]) -> str:
    return "meets" if len(lanes) == 1 else "meet"


def meets(lane: LaneFindings, targets: Targets) -> Literal["surely", "by the median", "no"]:
    """Whether a lane is within every target: surely where each interval lies below it. What was
    not measured meets none."""
    asked = ((targets.elapsed, lane.elapsed), (targets.memory, lane.peak_memory))
    known = [(target, found) for target, found in asked if target is not None]
    if not all(found and found.median <= target for target, found in known):
        return "no"
    sure = all(found and found.high is not None and found.high <= target for target, found in known)
    return "surely" if sure else "by the median"


def conditions_told(
    result: Result, versions: Sequence[str], settings: Mapping[str, str]
) -> list[str]:
    """On what the result rests, one thing a text: knobs, cache and threads among them, the machine,
    the versions of what ran.

    Args:
        versions: of what the lanes' engines and code use, each in words.
        settings: conditions that all runs had, such as the cache, unless they are knobs.
    """
    machine = result.machine
    knobs = knobs_told(result.point, " ")
    knobs += [f"{name} {word}" for name, word in settings.items() if name not in result.point]
    cores = "cores unknown" if machine.cores is None else f"{machine.cores} cores"
    where = [f"{cores}{f' of {machine.processor}' if machine.processor else ''}"]
    if machine.memory_bytes:
        where.append(f"{format_bytes(machine.memory_bytes)} of memory")
    return [*knobs, *where, *([f"Python {machine.python}"] if machine.python else []), *versions]


def _listed(lanes: Sequence[LaneFindings]) -> str:
    names = [lane.name for lane in lanes]
    if len(names) > _MOST_NAMED:
        names = [*names[: _MOST_NAMED - 1], f"{len(names) - _MOST_NAMED + 1} others"]
    return _joined(names)


def _joined(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
