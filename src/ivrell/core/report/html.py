"""The report: one HTML file that needs nothing beside it, made from the findings."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import jinja2
from markdown_it import MarkdownIt
from markupsafe import Markup

from ivrell.core.base.patience import BANDS
from ivrell.core.base.quantities import (
    format_bytes,
    format_seconds,
    in_unit,
    three_figures,
    unit_named,
)
from ivrell.core.comparison.edit import settings_text
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.data import MadeTable
from ivrell.core.records.findings import Caution, Findings, TrialFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.view import Board
from ivrell.core.report.view.board import board
from ivrell.core.report.words import common_cautions, conditions, ratio_told

COLOURS = (
    "#2860b0", "#c2561a", "#16806a", "#8b4aa8", "#a27a00",
    "#c03a6f", "#2d8bb0", "#6b6f2a", "#7b4b33", "#5c6780",
)  # fmt: skip
"""Colours of lanes by their place in the file; the page uses the same."""

_WIDTH = 420.0
_PAD = 10.0
_BAND_COLOURS = ("#e4eee4", "#eef0e2", "#f6efdf", "#f7e6dc")


class Axis:
    """A logarithmic time axis from a little below the shortest to a little above the
    longest of some times in seconds; positions are in pixels."""

    width = _WIDTH

    def __init__(self, times: Sequence[float]) -> None:
        known = [t for t in times if t > 0] or [1.0]
        self._low, self._high = min(known) / 1.4, max(known) * 1.4

    def at(self, seconds: float) -> float:
        """Position of a time, held to the axis's ends."""
        inside = min(max(seconds, self._low), self._high)
        share = math.log(inside / self._low) / math.log(self._high / self._low)
        return round(_PAD + share * (_WIDTH - 2 * _PAD), 1)

    def bands(self) -> list[tuple[float, float, str]]:
        """Bands of patience: left, width, colour."""
        found = []
        start = 0.0
        for (until, _), colour in zip(BANDS, _BAND_COLOURS, strict=True):
            if until > self._low and start < self._high:
                left = 0.0 if start <= self._low else self.at(start)
                right = _WIDTH if until >= self._high else self.at(until)
                found.append((left, round(right - left, 1), colour))
            start = until
        return found

    def ticks(self) -> list[tuple[float, str]]:
        """Powers of ten on the axis with their labels; the ends where there is none."""
        powers = range(math.ceil(math.log10(self._low)), math.floor(math.log10(self._high)) + 1)
        times = [10.0**power for power in powers] or [self._low * 1.4, self._high / 1.4]
        return [(self.at(t), format_seconds(t)) for t in times]


def _markdown(text: str) -> Markup:
    """A note's Markdown as HTML; HTML that stands in it is shown and not carried out."""
    rendered: str = _reader().render(text)
    return Markup(rendered)


@lru_cache(maxsize=1)
def _reader() -> MarkdownIt:
    # No links to scripts, no HTML of its own: a note may come with somebody else's file.
    return MarkdownIt("js-default").disable("image")


@lru_cache(maxsize=1)
def _template() -> jinja2.Template:
    loader = jinja2.PackageLoader("ivrell.core.report", "")
    environment = jinja2.Environment(
        loader=loader, autoescape=True, trim_blocks=True, undefined=jinja2.StrictUndefined
    )
    environment.filters.update(
        seconds=format_seconds, bytes=format_bytes, figures=three_figures, times=ratio_told,
        markdown=_markdown,
    )  # fmt: skip
    environment.globals.update(in_unit=in_unit, unit_named=unit_named)
    return environment.get_template("report.html")


def report_html(
    comparison: Comparison,
    found: TrialFindings,
    machine: Machine,
    made: Sequence[MadeTable],
) -> str:
    """The report of a trial.

    Args:
        machine: as it was when the trial began.
        made: the tables that were made.
    """
    everywhere = common_cautions(found.points) if len(found.points) > 1 else []
    places = {a.id: i for i, a in enumerate(comparison.approach)}
    return _template().render(
        comparison=comparison,
        ended=found.ended,
        points=[_section(comparison, point, machine, everywhere) for point in found.points],
        everywhere=everywhere,
        settings={a.id: settings_text(a, with_setup=True) for a in comparison.approach},
        machine=machine,
        made=made,
        colour={lane: COLOURS[place % len(COLOURS)] for lane, place in places.items()},
    )


@dataclass(frozen=True)
class _Section:
    """A point as the report shows it: its findings, the cautions that not every point has, its
    conditions in words, its board, and the axis that its times are drawn on."""

    found: Findings
    board: Board
    cautions: list[Caution]
    conditions: str
    axis: Axis


def _section(
    comparison: Comparison, point: Findings, machine: Machine, everywhere: Sequence[Caution]
) -> _Section:
    times = [
        run.elapsed_s
        for lane in point.lanes
        for run in lane.runs
        if run.state == "done" and run.elapsed_s
    ]
    target = comparison.targets.elapsed
    return _Section(
        point,
        board(point, comparison.targets),
        [caution for caution in point.cautions if caution not in everywhere],
        conditions(point.point, machine),
        Axis([*times, *([target] if target else [])]),
    )
