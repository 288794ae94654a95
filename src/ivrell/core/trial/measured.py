"""The measures of a trial from its result folder, of an earlier version's too."""

from collections.abc import Mapping
from typing import NamedTuple

from ivrell.core.comparison.file import parse
from ivrell.core.records.findings import MeasureRow
from ivrell.core.records.points import Point
from ivrell.core.report.ratios import measured
from ivrell.core.results.folder import PLAN, ResultFolder
from ivrell.core.trial.plan import points_with


class PointMeasures(NamedTuple):
    """A point of a trial, the names of its lanes by id, and every measure there."""

    point: Point
    names: Mapping[str, str]
    rows: list[MeasureRow]


def measures_in(kept: ResultFolder) -> list[PointMeasures]:
    """Every measure at every point of a trial. Raises BadInput where it is no result folder."""
    comparison = parse(kept.comparison_text)
    taken = kept.run_set()
    names = {approach.id: approach.label for approach in comparison.approach}
    return [
        PointMeasures(point, names, measured(comparison, taken, point))
        for point in points_with(kept.read(PLAN), comparison, (run.point for run in taken.runs))
    ]
