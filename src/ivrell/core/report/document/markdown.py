"""A report as Markdown for a repository or a pull request, with small drawings beside it."""

from collections.abc import Iterable, Iterator, Sequence

from ivrell.core.base.help import command
from ivrell.core.base.quantities import format_bytes, in_unit
from ivrell.core.records.findings import Caution
from ivrell.core.records.pair import PairFindings
from ivrell.core.records.view import BoardCell
from ivrell.core.report.cost_words import cost_table
from ivrell.core.report.document.content import Document, Section
from ivrell.core.report.document.drawings import alone, grid_drawing, runs_drawing, sweep_drawing
from ivrell.core.report.words import ratio_told

_FENCE = "```"


def report_markdown(document: Document, stem: str = "report") -> dict[str, str]:
    """The report as files by name: the text, and the drawings that it shows, whose names begin
    with its own."""
    files: dict[str, str] = {}
    lines = [f"# {_plain(document.comparison.name)}", ""]
    if document.comparison.question:
        lines += [_plain(document.comparison.question), ""]
    lines += [f"> {_plain(document.summary)}", ""]
    if document.claims:
        lines += ["## Claims", ""]
        for claim in document.claims:
            asserts = f" Claimed: {claim.asserts}." if claim.asserts else ""
            lines.append(
                f"- **{claim.state}**: {_plain(claim.text)}.{asserts} {_plain(claim.reason)}"
            )
        lines.append("")
    lines += _cautions(document.everywhere, "## At every point")
    lines += _sweeps(document, stem, files)
    for place, section in enumerate(document.sections, 1):
        lines += _point(document, section, f"{stem}-runs-{place}.svg", files)
    for pair in document.pairs:
        lines += _pair(pair)
    lines += _costs(document, stem, files)
    if document.notes:
        lines += ["## Notes", ""]
        for note in document.notes:
            of = [note.lane] if note.lane else note.pair or []
            if of:
                lines += [f"### {' and '.join(_plain(document.name(lane)) for lane in of)}", ""]
            lines += [note.text, ""]
    lines += _data(document)
    lines += _run(document)
    lines += _code(document)
    return {f"{stem}.md": "\n".join(lines).rstrip() + "\n", **files}


def _sweeps(document: Document, stem: str, files: dict[str, str]) -> Iterator[str]:
    names = document.names
    for place, sweep in enumerate(document.found.sweeps, 1):
        drawn = sweep_drawing(sweep, document.found.points, document.colours, names)
        if not drawn:
            continue
        files[name := f"{stem}-sweep-{place}.svg"] = alone(drawn)
        yield from (f"## Along {sweep.knob}", "", _plain(sweep.words), "")
        yield from (f"![elapsed time over {sweep.knob}]({name})", "")
    for place, grid in enumerate(document.grids, 1):
        files[name := f"{stem}-map-{place}.svg"] = alone(
            grid_drawing(grid, document.colours, names)
        )
        yield from (f"## {_plain(grid.title)}", "", f"![{_plain(grid.title)}]({name})", "")


def _costs(document: Document, stem: str, files: dict[str, str]) -> Iterator[str]:
    if document.cost is None:
        return
    yield from ("## What it costs a month", "")
    if isinstance(document.cost, str):
        yield from (f"Not told: {_plain(document.cost)}", "")
        return
    yield from (_plain(" ".join(document.cost.words)), "")
    yield from _table(*cost_table(document.cost))
    for place, (along, drawing) in enumerate(document.cost_drawings, 1):
        files[name := f"{stem}-cost-{place}.svg"] = alone(drawing)
        yield from (f"![cost a month over {along.knob}]({name})", "")
    yield from (f"Assumed: {_plain('; '.join(document.assumed))}.", "")


def _point(document: Document, section: Section, name: str, files: dict[str, str]) -> Iterator[str]:
    found = section.found
    yield from (f"## {_plain(section.conditions)}", "")
    told = [found.conclusion, found.tradeoff, found.target]
    yield from (_plain(" ".join(filter(None, told))), "")
    target = document.comparison.targets.elapsed
    files[name] = alone(runs_drawing(found, section.axis, document.colours, target))
    yield from (f"![every run of each lane]({name})", "")
    heads = [head for head in section.board.headings if head.usual]
    rows = []
    for row in section.board.rows:
        lane = found.lane(row.lane)
        cells = [
            row.trouble
            if row.trouble and head.drawing == "runs"
            else _cell(row.cells.get(head.key))
            for head in heads
        ]
        rows.append([f"{lane.name}{' (baseline)' if lane.baseline else ''}", *cells])
    yield from _table(["lane", *(head.label for head in heads)], rows)
    yield from _cautions(section.cautions)


def _cell(cell: BoardCell | None) -> str:
    return "–" if cell is None else " ".join(filter(None, [cell.text, cell.more]))


def _pair(pair: PairFindings) -> Iterator[str]:
    yield from (f"## {_plain(pair.base_name)} and {_plain(pair.lane_name)}", "")
    yield from (_plain(" ".join(pair.words)), "")
    yield from _table(
        ["measure", pair.base_name, pair.lane_name, f"{pair.lane_name} takes"],
        [
            [row.label, in_unit(row.unit, row.base.median), in_unit(row.unit, row.lane.median),
             ratio_told(row.ratio)]
            for row in pair.measures
        ],
    )  # fmt: skip
    mark = {"same": " ", "added": "+", "removed": "-"}
    yield from _fenced("\n".join(f"{mark[line.kind]} {line.text}" for line in pair.code), "diff")


def _cautions(cautions: Sequence[Caution], heading: str = "") -> Iterator[str]:
    if not cautions:
        return
    if heading:
        yield from (heading, "")
    for caution in cautions:
        winner = " (could change the winner)" if caution.reach == "winner" else ""
        told = f"{_plain(caution.reason)} {_plain(caution.hint)}"
        yield f"- **{caution.word}**{winner} {told} (More: `{command(caution.help)}`)"
    yield ""


def _data(document: Document) -> Iterator[str]:
    yield from ("## Data", "")
    yield from _table(
        ["table", "form", "rows", "size", "fingerprint", "hash of its bytes"],
        [
            [table.table, table.form, f"{table.rows:,}",
             "" if table.size_bytes is None else format_bytes(table.size_bytes),
             table.fingerprint[:16], table.bytes_hash]
            for table in document.made
        ],
    )  # fmt: skip
    yield from _fenced(document.recipe, "toml")


def _run(document: Document) -> Iterator[str]:
    machine = document.machine
    yield from ("## How it was run", "")
    yield from (f"- {_plain(step)}" for step in document.steps)
    yield (
        f"- {machine.processor}, {machine.cores} cores, {format_bytes(machine.memory_bytes)} of "
        f"memory; {machine.system}, kernel {machine.kernel}; taken {machine.taken_at}"
    )
    versions = [
        f"{package} {version}"
        for engine in machine.engines.values()
        for package, version in engine.versions.items()
    ]
    if versions:
        yield f"- {', '.join(dict.fromkeys(versions))}"
    yield from ("", "## What the figures are", "")
    yield from _table(
        ["figure", "how it was taken", "what it does not tell"],
        [[one.label, one.how, one.not_told] for one in document.taken],
    )


def _code(document: Document) -> Iterator[str]:
    yield from ("## Code", "")
    for approach in document.comparison.approach:
        yield from (f"### {_plain(approach.label)} ({approach.engine})", "")
        settings = document.settings(approach)
        if settings:
            yield from _fenced(settings, "toml")
        yield from _fenced(approach.text())
        if explained := document.explained.get(approach.id):
            yield from _fenced(explained)


def _table(headings: Sequence[str], rows: Iterable[Sequence[str]]) -> Iterator[str]:
    yield f"| {' | '.join(map(_plain, headings))} |"
    yield f"|{'---|' * len(headings)}"
    for row in rows:
        yield f"| {' | '.join(map(_plain, row))} |"
    yield ""


def _fenced(text: str, language: str = "") -> Iterator[str]:
    """Text as it is; the fence is longer than any that stands in it."""
    if not text.strip():
        return
    fence = _FENCE
    while fence in text:
        fence += "`"
    yield from (f"{fence}{language}", text.rstrip("\n"), fence, "")


_MARKS = str.maketrans({mark: f"\\{mark}" for mark in "\\`*_[]<>|#"})


def _plain(text: str) -> str:
    """Text of a stranger as words: no mark of Markdown or HTML in it is one."""
    return " ".join(text.translate(_MARKS).split())
