"""Two lanes of a trial side by side: what each measure says, and where the difference lies."""

from collections.abc import Sequence
from statistics import median

from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import format_seconds
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.findings import Findings, LaneFindings, Ratio
from ivrell.core.records.pair import MeasurePair, PairFindings, StagePair
from ivrell.core.records.session import RunSet
from ivrell.core.report.code_diff import code_diff, lines_changed
from ivrell.core.report.measures import measure_of, row_of, values_at
from ivrell.core.report.ratios import Judge
from ivrell.core.report.words import times_told
from ivrell.core.stats.contrasts import turned

_TELLING_SHARE = 0.1
_TELLING_TIMES = 2.0
_MOST_COUNTERS = 4


def pair_findings(
    comparison: Comparison,
    taken: RunSet,
    found: Findings,
    base: str,
    lane: str,
    agreement: Agreement | None = None,
) -> PairFindings:
    """Two lanes at a point.

    Args:
        taken: runs with their sessions; those at other points are left out.
        found: what the trial says at the point.
        base: id of the lane that the other is held against.
        lane: id of the other.
        agreement: of their answers alone, where that is known.

    Raises BadInput where one of the two did not run there, or both are the same.
    """
    if base == lane:
        raise BadInput("A pair is two lanes.", where="lane", hint="Choose another lane.")
    try:
        first, second = found.lane(base), found.lane(lane)
    except KeyError as error:
        raise BadInput(f"{error.args[0]} did not run at this point.", where="lane") from None
    taken = taken.at(found.point)
    values = values_at(comparison, taken.runs, found.point)
    judge = Judge.of(comparison, taken.machine)
    able = [own.id for own in found.lanes if own.trusted]
    measures = []
    for one in values.values():
        if not {base, lane} <= one.lanes.keys():
            continue
        ratios = judge.ratios(one.measure, one.lanes, able)
        row = row_of(one, base, ratios)
        of_base, of_lane = row.lanes[base], row.lanes[lane]
        measures.append(
            MeasurePair(
                key=row.key, label=row.label, unit=row.unit, better=row.better,
                base=of_base, lane=of_lane, ratio=of_lane.ratio,
            )
        )  # fmt: skip
    ratio = _ratio(found, first, second)
    stages = _stages(first, second)
    texts = [comparison.approach_called(one).text() for one in (base, lane)]
    code = code_diff(*texts)
    return PairFindings(
        base=base,
        lane=lane,
        base_name=first.name,
        lane_name=second.name,
        point=found.point,
        ratio=ratio,
        words=_words(first, second, ratio, stages, measures),
        measures=measures,
        stages=stages,
        code=code,
        lines_changed=lines_changed(code),
        agreement=agreement,
        base_run=_typical(first),
        lane_run=_typical(second),
    )


def _ratio(found: Findings, base: LaneFindings, lane: LaneFindings) -> Ratio | None:
    """Times faster, a bound where one of the two is the baseline and did not finish."""
    for pair in found.pairs:
        if (pair.base, pair.lane) == (base.id, lane.id):
            return pair.ratio
    if base.baseline:
        return lane.ratio
    return turned(base.ratio) if lane.baseline and base.ratio else None


def _typical(lane: LaneFindings) -> int | None:
    """Number of the counted run nearest to the lane's median."""
    times = {dot.run: dot.elapsed_s for dot in lane.runs if dot.counted and dot.elapsed_s}
    if not times:
        return None
    middle = median(times.values())
    return min(times, key=lambda run: abs(times[run] - middle))


def _stages(base: LaneFindings, lane: LaneFindings) -> list[StagePair]:
    """Stages of both, matched by name, in the base's order and then the lane's; the part outside
    them last."""
    first = {stage.name: stage.elapsed_s for stage in base.stages}
    second = {stage.name: stage.elapsed_s for stage in lane.stages}
    names = [name for name in dict.fromkeys([*first, *second]) if name is not None]
    if not names:
        return []
    found = [
        StagePair(name=name, base_s=first.get(name), lane_s=second.get(name)) for name in names
    ]
    if None in first or None in second:
        found.append(StagePair(name=None, base_s=first.get(None), lane_s=second.get(None)))
    return found


def _words(
    base: LaneFindings,
    lane: LaneFindings,
    ratio: Ratio | None,
    stages: Sequence[StagePair],
    measures: Sequence[MeasurePair],
) -> list[str]:
    """What explains the difference, from measured figures alone."""
    if ratio is None or base.elapsed is None or lane.elapsed is None:
        return ["One of the two has no counted run here, so there is nothing to explain."]
    told = times_told(ratio)
    words = [f"{lane.name}: {told} {base.name}."]
    gained = base.elapsed.median - lane.elapsed.median
    # Medians can be the same where the middle of the ratios within rounds tells two apart.
    told_apart = ratio.verdict in ("faster", "slower") and gained != 0
    if told_apart and stages:
        words += _stage_words(gained, stages)
    elif told_apart:
        word = "gained" if gained > 0 else "lost"
        words.append(
            f"{format_seconds(abs(gained))} are {word}; where, nobody can tell: the two name no "
            "stages."
        )
    told_counters = [
        f"{row.label} went from {_value(row, row.base.median)} to {_value(row, row.lane.median)}"
        for row in _telling(measures)
    ]
    if told_counters:
        told = "; ".join(told_counters)
        words.append(f"{told[0].upper()}{told[1:]}.")
    return words


def _stage_words(gained: float, stages: Sequence[StagePair]) -> list[str]:
    """In which stages the time was gained or lost."""
    word = "gained" if gained > 0 else "lost"
    both = [stage for stage in stages if stage.base_s is not None and stage.lane_s is not None]
    parts = [((stage.base_s or 0.0) - (stage.lane_s or 0.0), stage.name) for stage in both]
    parts.sort(key=lambda part: part[0], reverse=gained > 0)
    telling = [(part, name) for part, name in parts if part / gained >= _TELLING_SHARE]
    whole = format_seconds(abs(gained))
    unmatched = [s.name for s in stages if not s.matched and s.name is not None]
    words = []
    if telling:
        said = [
            f"{format_seconds(abs(part))} are "
            + (f"in stage {name}" if name else "outside all stages")
            for part, name in telling
        ]
        words.append(f"Of {whole} {word}, {', '.join(said)}.")
    if unmatched:
        listed = ", ".join(unmatched)
        words.append(
            f"Stages that only one of the two has ({listed}) cannot be compared with each other."
        )
    return words


def _telling(measures: Sequence[MeasurePair]) -> list[MeasurePair]:
    """What the engine counted, where it is far apart, the farthest first."""

    def times(row: MeasurePair) -> float:
        one, two = row.base.median, row.lane.median
        if one <= 0 or two <= 0:
            return float("inf") if max(one, two) > 1 else 1.0
        return max(one / two, two / one)

    counters = [row for row in measures if row.key.startswith("counter.")]
    far = [row for row in counters if times(row) >= _TELLING_TIMES]
    return sorted(far, key=times, reverse=True)[:_MOST_COUNTERS]


def _value(row: MeasurePair, value: float) -> str:
    return measure_of(row).words(value)
