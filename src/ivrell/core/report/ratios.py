"""Lanes held against each other by any measure, as findings tell it."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from statistics import median
from typing import Self

from ivrell.core.comparison.model import Comparison
from ivrell.core.measure.noise import floor
from ivrell.core.records.findings import MeasureRow, PairRatio, Ratio
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import RunSet
from ivrell.core.report.measures import Measure, Values, row_of, values_at
from ivrell.core.stats.bounded import bounded
from ivrell.core.stats.contrasts import Pair, Terms, contrasts, turned
from ivrell.core.stats.history import REMEMBERED, expected, usual_of_pairs
from ivrell.core.stats.variances import Usual

ByRound = Mapping[int, float]
"""Values of a lane by round."""


@dataclass(frozen=True)
class Judge:
    """What ratios of a trial are judged by: the machine as it was, the lanes' engines by id, the
    share below which a difference does not matter, the baseline."""

    machine: Machine
    engines: Mapping[str, str]
    matters: float
    baseline: str | None = None

    @classmethod
    def of(cls, comparison: Comparison, machine: Machine) -> Self:
        """What ratios of a comparison are judged by."""
        engines = {approach.id: approach.engine for approach in comparison.approach}
        return cls(machine, engines, comparison.matters, comparison.baseline_id)

    def ratios(
        self,
        measure: Measure,
        values: Mapping[str, ByRound],
        contestants: Collection[str] | None = None,
        *,
        all_pairs: bool = True,
    ) -> dict[Pair, Ratio]:
        """Every pair of lanes that have a measure, in the order of ``values``, or those with the
        baseline.

        Values are by lane and round, in the measure's unit; a lane that has one of nought or less
        has no ratio. Two lanes that have no round in common have that of their medians, without
        an interval. ``contestants`` are the lanes that may take the least; all unless given.
        """
        against = None if all_pairs else self.baseline
        able = {lane: own for lane, own in values.items() if own and min(own.values()) > 0}
        elapsed = measure.key == "elapsed"
        terms = Terms(
            self.matters,
            (lambda rounds: noise_floor(self.machine, rounds)) if elapsed else lambda rounds: None,
            ("faster", "slower") if elapsed else ("less", "more"),
        )
        usual = {
            lane: expected(
                self.machine.usual_spreads,
                measure.key,
                self.engines[lane],
                median(own.values()),
            )
            for lane, own in able.items()
            if measure.key in REMEMBERED
        }

        def before(pairs: Sequence[Pair]) -> Usual | None:
            return usual_of_pairs(pairs, usual)

        found = contrasts(able, terms, before, self.baseline, contestants, all_pairs=all_pairs)
        for first in able if all_pairs else [against or ""]:
            for second in able:
                apart = first != second and first in able
                if apart and (first, second) not in found and (second, first) not in found:
                    value = median(able[first].values()) / median(able[second].values())
                    found[first, second] = Ratio(value, None, None, 0, "not told apart")
        return found


def quickest(ratios: Mapping[Pair, Ratio]) -> str | None:
    """The lane that is told to take less than each other one that may win."""
    claimed = {pair: ratio for pair, ratio in ratios.items() if ratio.question == "quickest"}
    for first, second in claimed:
        lane = second if claimed[first, second].value > 1 else first
        return lane if all(lane in pair for pair in claimed) else None
    return None


def noise_floor(machine: Machine, rounds: int) -> float | None:
    """The factor that equals can be apart in so many rounds on this machine, or None."""
    return floor(machine.noise.logs, rounds) if machine.noise and rounds else None


def until_limit(baseline: Sequence[RunRecord], own: Sequence[RunRecord]) -> Ratio | None:
    """Times faster than the baseline where one of the two was ended at a limit; else None."""
    ends = _at_least(baseline), _at_least(own)
    first, second = _times(baseline), _times(own)
    if ends[0] and not ends[1] and second:
        return bounded(ends[0], second, unfinished="baseline")
    if ends[1] and not ends[0] and first:
        return bounded(first, ends[1], unfinished="other")
    return None


def _at_least(runs: Sequence[RunRecord]) -> list[float]:
    """Seconds that runs had gone on for when they were ended at a limit."""
    return [
        run.elapsed_at_least_s for run in runs if run.state == "limit" and run.elapsed_at_least_s
    ]


def _times(runs: Sequence[RunRecord]) -> list[float]:
    return [run.elapsed_s for run in runs if run.counted and run.elapsed_s]


def ratios_at(
    comparison: Comparison,
    values: Mapping[str, Values],
    judge: Judge,
    contestants: Collection[str] | None = None,
) -> dict[str, dict[Pair, Ratio]]:
    """Ratios at a point by key of the measure: of elapsed and CPU time and of what is claimed those
    of every pair of lanes, else those to the baseline. ``contestants`` are the lanes that may take
    the least; all unless given."""
    whole = {"elapsed", "cpu_total", *(claim.measure for claim in comparison.claim)}
    return {
        key: judge.ratios(one.measure, one.lanes, contestants, all_pairs=key in whole)
        for key, one in values.items()
    }


def every_way(ratios: Mapping[Pair, Ratio]) -> list[PairRatio]:
    """Each pair both ways round."""
    return [
        PairRatio(base, lane, ratio)
        for (first, second), found in ratios.items()
        for base, lane, ratio in ((first, second, found), (second, first, turned(found)))
    ]


def measured(comparison: Comparison, taken: RunSet, point: Point) -> list[MeasureRow]:
    """Every measure that some lane tells at a point, engine counters last."""
    taken = taken.at(point)
    values = values_at(comparison, taken.runs, point)
    ratios = ratios_at(comparison, values, Judge.of(comparison, taken.machine))
    return [row_of(values[key], comparison.baseline_id, ratios[key]) for key in values]
