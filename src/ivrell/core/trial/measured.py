"""The measures of a trial from its result folder, of an earlier version's too."""

import json
from collections.abc import Mapping
from typing import Any, NamedTuple

from ivrell.core.comparison.file import parse
from ivrell.core.report.measures import MeasureRow, measured
from ivrell.core.results.folder import PLAN, ResultFolder
from ivrell.core.trial.plan import Plan


class PointMeasures(NamedTuple):
    """A point of a trial, the names of its lanes by id, and every measure there."""

    point: Mapping[str, Any]
    names: Mapping[str, str]
    rows: list[MeasureRow]


def measures_in(kept: ResultFolder) -> list[PointMeasures]:
    """Every measure at every point of a trial. Raises BadInput where it is no result folder."""
    comparison = parse(kept.comparison_text)
    plan = Plan.model_validate(kept.read_json(PLAN))
    runs = kept.runs()
    names = {approach.id: approach.label for approach in comparison.approach}
    by_point: dict[str, list[dict[str, Any]]] = {}
    for run in runs:
        by_point.setdefault(json.dumps(run["point"], sort_keys=True), []).append(run)
    return [
        PointMeasures(
            point, names,
            measured(comparison, by_point.get(json.dumps(point, sort_keys=True), []), point),
        )
        for point in plan.points(comparison)
    ]  # fmt: skip
