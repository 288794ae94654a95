"""A report as one HTML file that needs nothing beside it: no network, no script."""

from functools import lru_cache

import jinja2
from markdown_it import MarkdownIt
from markupsafe import Markup

from ivrell.core.base.help import command
from ivrell.core.base.quantities import (
    format_bytes,
    format_seconds,
    in_unit,
    three_figures,
    unit_named,
)
from ivrell.core.report.cost_words import cost_table
from ivrell.core.report.document.content import Document
from ivrell.core.report.document.drawings import (
    DARK,
    STYLE,
    grid_drawing,
    sweep_drawing,
)
from ivrell.core.report.words import ratio_told


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
    loader = jinja2.PackageLoader("ivrell.core.report.document", "")
    environment = jinja2.Environment(
        loader=loader, autoescape=True, trim_blocks=True, undefined=jinja2.StrictUndefined
    )
    environment.filters.update(
        seconds=format_seconds, bytes=format_bytes, figures=three_figures, times=ratio_told,
        markdown=_markdown,
    )  # fmt: skip
    environment.globals.update(
        in_unit=in_unit, unit_named=unit_named, cost_table=cost_table, command=command
    )
    return environment.get_template("report.html")


def report_html(document: Document) -> str:
    """The report as a page."""
    names = document.names
    # Texts in drawings are escaped where they are drawn.
    drawn = [
        Markup(sweep_drawing(sweep, document.found.points, document.colours, names))
        for sweep in document.found.sweeps
    ]
    return _template().render(
        report=document,
        comparison=document.comparison,
        points=document.sections,
        colour=document.colours,
        names=names,
        sweeps=list(zip(document.found.sweeps, drawn, strict=True)),
        maps=[
            (grid.title, Markup(grid_drawing(grid, document.colours, names)))
            for grid in document.grids
        ],
        costs=[(along, Markup(drawing)) for along, drawing in document.cost_drawings],
        machine=document.machine,
        style=Markup(STYLE),
        dark=Markup(DARK),
    )
