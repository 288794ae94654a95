"""Findings as a notebook or a page shows them: static HTML and SVG, no server and no script."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from html import escape
from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import in_unit
from ivrell.core.comparison.model import Comparison
from ivrell.core.records.findings import Findings, TrialFindings
from ivrell.core.records.machine import Machine
from ivrell.core.records.pair import PairFindings
from ivrell.core.records.points import Value
from ivrell.core.report.document.drawings import Axis, Colours, alone, runs_drawing, sweep_drawing
from ivrell.core.report.view.board import board
from ivrell.core.report.words import conditions, ratio_told

_TABLE = "border-collapse:collapse;font-variant-numeric:tabular-nums"
_CELL = "padding:2px 10px 2px 0;text-align:left;border-bottom:1px solid #8886"


@dataclass(frozen=True)
class Shown:
    """Something to look at: as HTML (``html``), as a drawing (``svg``, "" where there is none), and
    as text. A notebook shows it by itself, also where it is only read."""

    text: str
    html: str = ""
    svg: str = ""

    def __repr__(self) -> str:
        return self.text

    def _repr_mimebundle_(
        self, include: object = None, exclude: object = None
    ) -> Mapping[str, str]:
        found = {"text/plain": self.text}
        if self.svg:
            found["image/svg+xml"] = self.svg
        if self.html:
            found["text/html"] = self.html
        return found

    def save(self, to: Path | str) -> Path:
        """Write it to a file that ends in ``.svg`` or ``.html``. Raises BadInput."""
        path = Path(to)
        content = {".svg": self.svg, ".html": self.html}.get(path.suffix, "")
        if not content:
            able = [end for end, own in ((".svg", self.svg), (".html", self.html)) if own]
            raise BadInput(f"This is written as {' or '.join(able)}.", where=str(path))
        path.write_text(content, encoding="utf-8")
        return path


def board_shown(comparison: Comparison, found: Findings, machine: Machine) -> Shown:
    """The lanes at a point: the conclusion, every run on one axis of time, and the board."""
    told = " ".join(filter(None, [found.conclusion, found.tradeoff, found.target]))
    made = board(found, comparison.targets)
    heads = [head for head in made.headings if head.usual]
    rows = []
    for row in made.rows:
        cells = [
            row.trouble
            if row.trouble and head.drawing == "runs"
            else " ".join(filter(None, [cell.text, cell.more]))
            if (cell := row.cells.get(head.key))
            else "–"
            for head in heads
        ]
        rows.append([found.lane(row.lane).name, *cells])
    names = ["lane", *(head.label for head in heads)]
    times = [
        run.elapsed_s for lane in found.lanes for run in lane.runs
        if run.state == "done" and run.elapsed_s
    ]  # fmt: skip
    target = comparison.targets.elapsed
    axis = Axis([*times, *([target] if target else [])])
    drawing = alone(runs_drawing(found, axis, Colours.of(comparison), target))
    cautions = "".join(
        f"<li><b>{escape(one.word)}</b> {escape(one.reason)}</li>" for one in found.cautions
    )
    where = conditions(found.point, machine)
    html = (
        f"<div><p><b>{escape(comparison.name)}</b>, {escape(where)}</p><p>{escape(told)}</p>"
        f"{_inside(drawing)}{_table(names, rows)}{f'<ul>{cautions}</ul>' if cautions else ''}</div>"
    )
    text = "\n".join([told, "", *_lines(names, rows)])
    return Shown(text=text, html=html)


def sweep_shown(comparison: Comparison, found: TrialFindings, knob: str = "", **at: Value) -> Shown:
    """Elapsed time over a knob, with where the lead changes. Raises BadInput where there is no
    sweep along it."""
    sweep = next(
        (one for one in found.sweeps
         if knob in ("", one.knob) and at.items() <= one.at.items()),
        None,
    )  # fmt: skip
    names = {approach.id: approach.label for approach in comparison.approach}
    drawn = sweep and sweep_drawing(sweep, found.points, Colours.of(comparison), names)
    if not sweep or not drawn:
        along = f" along {knob}" if knob else ""
        raise BadInput(
            f"The trial has no sweep{along}.", hint="Run it at several values of a knob."
        )
    return Shown(text=sweep.words or f"elapsed time over {sweep.knob}", svg=alone(drawn))


def pair_shown(pair: PairFindings) -> Shown:
    """Two lanes with every measure."""
    names = ["measure", pair.base_name, pair.lane_name, f"{pair.lane_name} takes"]
    rows = [
        [row.label, in_unit(row.unit, row.base.median), in_unit(row.unit, row.lane.median),
         ratio_told(row.ratio)]
        for row in pair.measures
    ]  # fmt: skip
    told = " ".join(pair.words)
    html = f"<div><p>{escape(told)}</p>{_table(names, rows)}</div>"
    return Shown(text="\n".join([told, "", *_lines(names, rows)]), html=html)


def _inside(drawing: str) -> str:
    """A drawing within HTML: without the line that says that it is XML."""
    return drawing.split("\n", 1)[1] if drawing.startswith("<?xml") else drawing


def _table(names: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    # Styles stand at each cell: what shows a notebook elsewhere drops style sheets.
    head = "".join(f'<th style="{_CELL}">{escape(name)}</th>' for name in names)
    body = "".join(f"<tr>{''.join(map(_cell, row))}</tr>" for row in rows)
    return f'<table style="{_TABLE}"><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>'


def _cell(text: str) -> str:
    return f'<td style="{_CELL}">{escape(text)}</td>'


def _lines(names: Sequence[str], rows: Sequence[Sequence[str]]) -> list[str]:
    """A table in plain text."""
    widths = [max(len(row[i]) for row in (names, *rows)) for i in range(len(names))]
    return [
        "  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip()
        for row in (names, *rows)
    ]
