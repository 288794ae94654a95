"""What a trial over several values of a knob says, put together."""

from collections.abc import Sequence

from ivrell.core.comparison.model import Comparison
from ivrell.core.records.findings import Findings
from ivrell.core.records.plan import Search
from ivrell.core.records.points import Point, beside, going_with, point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import RunSet
from ivrell.core.records.sweep import Spent, SweepFindings
from ivrell.core.report.ratios import Judge
from ivrell.core.report.sweep.along import Along, along, numeric_knobs
from ivrell.core.report.sweep.growths import growths, left_behind, wall_words, walls
from ivrell.core.report.sweep.leads import leads
from ivrell.core.report.sweep.searched import searched_words

_LEAST_SIZES = 2
_MOST_GROWTHS = 400


def sweeps(
    comparison: Comparison,
    taken: RunSet,
    points: Sequence[Findings],
    memory_limit: float | None = None,
    *,
    named: Sequence[Point] | None = None,
    stepped: bool = False,
    search: Search | None = None,
) -> list[SweepFindings]:
    """What is found along each knob of numbers that has several values, at every choice of the
    other knobs and conditions that has several of them too.

    Args:
        taken: all runs with their sessions.
        points: what each point says.
        memory_limit: bytes that a run may take; None where that is not known.
        named: points that the plan names; all unless given.
        search: what was asked of a search for crossings; None where there was none.
        stepped: sizes went from small to large, to the end: who is missing was left behind.
    """
    runs, judge = taken.runs, Judge.of(comparison, taken.machine)
    every = [found.point for found in points]
    names = {point_name(point) for point in (every if named is None else named)}
    found: list[SweepFindings] = []
    growing = 0
    for knob in numeric_knobs(every):
        together = going_with(every, knob)
        others = [beside(point, {knob, *together}) for point in every]
        for at in {point_name(other): other for other in others}.values():
            own = along(comparison, runs, points, knob, at)
            if len(own.sizes) < _LEAST_SIZES:
                continue
            # At sizes that a search added only those ran that could lead there.
            there = [size for size in own.sizes if point_name(size.findings.point) in names]
            one = SweepFindings(
                knob=knob,
                together=sorted(together),
                at=at,
                leads=leads(own, judge, _names(own)),
                left_behind=left_behind(Along(knob, at, there)) if stepped else [],
            )
            first = one.lead("elapsed")
            one.words = first.words if first else ""
            growing += sum(len(size.findings.lanes) for size in own.sizes[:1])
            # Growth takes its time to tell: in the first places, of a great many of them.
            if growing <= _MOST_GROWTHS or not found:
                one.growths = growths(own)
                if memory_limit:
                    one.walls = walls(own, memory_limit)
                    words = wall_words(own, one.walls, _names(own))
                    one.words = " ".join(filter(None, [one.words, words]))
            one.spent = _spent(own, runs, names)
            if search:
                one.searched = searched_words(search, first, one.spent, _names(own))
            found.append(one)
    return found


def _names(own: Along) -> dict[str, str]:
    return {lane.id: lane.name for one in own.sizes for lane in one.findings.lanes}


def _spent(own: Along, runs: Sequence[RunRecord], named: set[str]) -> list[Spent]:
    """What was spent at each size."""
    seconds: dict[str, float] = {}
    count: dict[str, int] = {}
    before = 0.0
    for run in sorted(
        (run for run in runs if run.spent_s is not None), key=lambda r: r.spent_s or 0
    ):
        name = point_name(run.point)
        seconds[name] = seconds.get(name, 0.0) + (run.spent_s or 0.0) - before
        count[name] = count.get(name, 0) + 1
        before = run.spent_s or 0.0
    return [
        Spent(
            size=one.size,
            runs=count[name],
            seconds=seconds[name],
            searched=name not in named,
        )
        for one in own.sizes
        if (name := point_name(one.findings.point)) in count
    ]
