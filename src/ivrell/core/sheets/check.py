"""Looking at a sheet approach before it runs: what cannot be, and what it will cost."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ivrell.core.sheets.formula import FormulaError, Node, parse
from ivrell.core.sheets.functions import RANDOM
from ivrell.core.sheets.layout import ANSWER, CELLS, MOST_ROWS, OWN_ROW, REPEATS, Block, Places
from ivrell.core.sheets.model import PARTS, Column, Repeat, Sheet

SCAN_S = 88e-9
"""Seconds that the engine takes for each row that an exact search looks at; measured."""

_ARRAY_FACTOR = 4.0
_LONG_S = 60.0
_SEARCHES = {"MATCH": 1, "VLOOKUP": 1, "HLOOKUP": 1}
_COUNTING = {"COUNTIF": 0, "SUMIF": 0, "AVERAGEIF": 0, "COUNTIFS": 0}
_MODE_AT = {"MATCH": 2, "VLOOKUP": 3, "HLOOKUP": 3}


@dataclass(frozen=True)
class Wrong:
    """Something that cannot be: ``line`` of the approach's text from 1, and ``column`` of the
    line from 1, as an editor counts."""

    what: str
    line: int | None = None
    column: int | None = None
    hint: str = ""


@dataclass(frozen=True)
class Cost:
    """What a sheet will ask of the engine.

    Attributes:
        cells: cells that hold a formula.
        scan_s: seconds that exact searches through unsorted ranges will take at the least.
        words: what is to be said of it, "" where nothing is.
        random: whether its answer differs each time.
    """

    cells: int
    scan_s: float
    words: str
    random: bool


def places_of(sheet: Sheet, tables: Mapping[str, tuple[Sequence[str], int]]) -> Places:
    """Where everything stands, of tables given as (columns, rows)."""
    rows_of = sheet.rows_of or list(tables)[-1]
    blocks = {
        name: Block(name, columns, rows, sheet.header) for name, (columns, rows) in tables.items()
    }
    rows = tables[rows_of][1] if rows_of in tables else 1
    answer = Block(ANSWER, [column.name for column in sheet.columns], rows, sheet.header)
    return Places(blocks, rows_of, answer, [cell.name for cell in sheet.cells])


def problem(
    sheet: Sheet, tables: Mapping[str, tuple[Sequence[str], int]] | None = None
) -> Wrong | None:
    """The first thing that cannot be: of the formulas alone, or with the tables they name."""
    return _shape(sheet) or _formulas(sheet) or (_in_tables(sheet, tables) if tables else None)


def _shape(sheet: Sheet) -> Wrong | None:
    if not sheet.columns and sheet.repeat is None:
        return Wrong("There is no column in the answer.", hint="Add one with a name and a formula.")
    names = [column.name for column in sheet.columns]
    for name in names:
        if names.count(name) > 1:
            return Wrong(f"Two columns are called {name}.", hint="Give one another name.")
        if name in (OWN_ROW, ANSWER, CELLS):
            return Wrong(f"A column cannot be called {name}.")
    if wrong := _named_cells(sheet):
        return wrong
    if sheet.columns and all(column.layout == "helper" for column in sheet.columns):
        return Wrong("Every column is a helper.", hint="Let one of them be part of the answer.")
    layouts = {column.layout == "cell" for column in sheet.columns if column.layout != "helper"}
    if len(layouts) > 1:
        return Wrong(
            "Some columns are a single cell, others are not.",
            hint="An answer is one row of cells, or a row for each row of a table.",
        )
    if "change" in sheet.timed and sheet.change is None:
        return Wrong("A change is timed, but none is named.", hint="Say `change`.")
    done = [part for part in PARTS if part != "change" or sheet.change]
    order = [done.index(part) for part in sheet.timed]
    if not order or order != list(range(order[0], order[-1] + 1)):
        return Wrong(
            "What is timed must be parts that follow each other.",
            hint=f"In this order: {', '.join(done)}.",
        )
    return None


def _named_cells(sheet: Sheet) -> Wrong | None:
    """Cells that are named twice, or asked for and not there."""
    cells = [cell.name for cell in sheet.cells]
    for name in cells:
        if cells.count(name) > 1:
            return Wrong(f"Two cells are called {name}.", hint="Give one another name.")
    asked = [("The change", sheet.change.cell)] if sheet.change and sheet.change.cell else []
    if sheet.repeat:
        asked += [("The repeat", sheet.repeat.input), ("The repeat", sheet.repeat.result)]
        times = sheet.repeat.times
        if isinstance(times, int) and not 1 <= times <= MOST_ROWS:
            return Wrong(
                f"The model cannot be repeated {times:,} times.",
                hint=f"Give a number from 1 to {MOST_ROWS:,}, or a table that has so many rows.",
            )
    for what, name in asked:
        if name not in cells:
            known = ", ".join(cells) or "none"
            return Wrong(f"{what} names no cell “{name}”.", hint=f"Cells: {known}.")
    return None


def _formulas(sheet: Sheet) -> Wrong | None:
    """Mistakes in a formula's own text."""
    values = {f"{cell.name} (cell):" for cell in sheet.cells if not cell.formula}
    for line, (label, formula) in enumerate(labelled(sheet)[: len(sheet.cells + sheet.columns)], 1):
        if label not in values and not formula.startswith("="):
            return Wrong(
                "A formula begins with =.", line, len(label) + 2, "Put = before it, as in =SUM(A)."
            )
    for line, formula, at in formula_lines(sheet):
        try:
            parse(formula)
        except FormulaError as error:
            return Wrong(error.message, line, at + error.position + 1, error.hint)
    return None


def formula_lines(sheet: Sheet) -> list[tuple[int, str, int]]:
    """Line in the approach's text, formula, and where in the line it begins, counted from 0."""
    found = []
    for line, (label, formula) in enumerate(labelled(sheet), 1):
        if formula.startswith("="):
            found.append((line, formula, len(label) + 1))
    return found


def labelled(sheet: Sheet) -> list[tuple[str, str]]:
    """The lines of an approach's text: what stands before the formula or value, and that."""
    lines = [
        (f"{cell.name} (cell):", cell.formula or ("" if cell.value is None else str(cell.value)))
        for cell in sheet.cells
    ]
    marks = {"rows": "", "helper": " (helper)", "array": " (one array)", "cell": " (cell)"}
    lines += [(f"{c.name}{marks[c.layout]}:", c.formula) for c in sheet.columns]
    if sheet.repeat:
        words = f"{sheet.repeat.result} for {sheet.repeat.input} from 1 to {_last(sheet.repeat)}"
        lines.append(("repeats:", words))
    return lines


def _in_tables(sheet: Sheet, tables: Mapping[str, tuple[Sequence[str], int]]) -> Wrong | None:
    if sheet.rows_of and sheet.rows_of not in tables:
        return Wrong(f"There is no table {sheet.rows_of}.", hint=f"Tables: {', '.join(tables)}.")
    if sheet.repeat and isinstance(sheet.repeat.times, str) and sheet.repeat.times not in tables:
        return Wrong(
            f"The repeat names no table “{sheet.repeat.times}”.",
            hint=f"Give a number, or one of the tables: {', '.join(tables)}.",
        )
    for name in (ANSWER, CELLS, REPEATS, OWN_ROW):
        if name in tables:
            return Wrong(f"A table called {name} cannot stand on a sheet.", hint="Rename it.")
    places = places_of(sheet, tables)
    for block in [*places.tables.values(), places.answer]:
        if block.first + block.rows - 1 > MOST_ROWS:
            return Wrong(
                f"{block.sheet} has {block.rows:,} rows; a sheet ends at {MOST_ROWS:,}.",
                hint="Take fewer rows.",
            )
    for line, formula, at in formula_lines(sheet):
        try:
            places.translated(formula)
        except FormulaError as error:
            return Wrong(error.message, line, at + error.position + 1, error.hint)
    return _sorted(sheet, tables) or _changed(sheet, tables) or _circle(sheet, places)


def _last(repeat: Repeat) -> str:
    return f"the rows of {repeat.times}" if isinstance(repeat.times, str) else str(repeat.times)


def sorted_by(sheet: Sheet) -> dict[str, str]:
    """The column that each of some tables is brought in by."""
    return {
        table.strip(): column.rstrip(" )")
        for table, _, column in (word.partition("(") for word in sheet.sorted)
    }


def _changed(sheet: Sheet, tables: Mapping[str, tuple[Sequence[str], int]]) -> Wrong | None:
    """A change of what is not there."""
    change = sheet.change
    if change is None or change.cell:
        return None
    if change.table not in tables:
        return Wrong(
            f"The change names no table “{change.table}”.", hint=f"Tables: {', '.join(tables)}."
        )
    columns, rows = tables[change.table]
    if change.column not in columns:
        return Wrong(
            f"The change names no column “{change.column}” of {change.table}.",
            hint=f"Its columns: {', '.join(columns)}.",
        )
    if not 1 <= change.row <= rows:
        return Wrong(
            f"The change is in row {change.row} of {change.table}, which has {rows:,} rows.",
            hint="Count rows from 1, without the header.",
        )
    return None


def _sorted(sheet: Sheet, tables: Mapping[str, tuple[Sequence[str], int]]) -> Wrong | None:
    for table, column in sorted_by(sheet).items():
        if table not in tables or column not in tables[table][0]:
            return Wrong(
                f"There is no {table}({column}) to sort by.", hint="Write it as barges(number)."
            )
    return None


def _circle(sheet: Sheet, places: Places) -> Wrong | None:
    """Columns or cells that need themselves."""
    needs: dict[str, set[str]] = {}
    for column in sheet.columns:
        needs[column.name] = _needed(column.formula, places)
    for cell in sheet.cells:
        needs[f"{CELLS}.{cell.name}"] = _needed(cell.formula, places) if cell.formula else set()
    done: set[str] = set()
    while len(done) < len(needs):
        ready = {name for name, wanted in needs.items() if name not in done and wanted <= done}
        if not ready:
            round_ = sorted(needs.keys() - done)
            return Wrong(
                f"These need each other, or themselves: {', '.join(round_)}.",
                hint="Let one of them be computed from the tables alone.",
            )
        done |= ready
    return None


def _needed(formula: str, places: Places) -> set[str]:
    found = set()
    for node in parse(formula).walk():
        if node.sort != "column":
            continue
        if own := places.on_answer(node):
            found.add(own)
        elif node.place[0] == CELLS:
            found.add(f"{CELLS}.{node.place[1]}")
    return found


def cost(sheet: Sheet, tables: Mapping[str, tuple[Sequence[str], int]]) -> Cost:
    """What a sheet without problems will ask of the engine.

    An exact search through an unsorted range looks at every row until it finds; on average at
    half of them. The engine remembers what it found for a key, so that several columns that
    search the same range for the same key scan it once.
    """
    places = places_of(sheet, tables)
    cells = sum(1 for cell in sheet.cells if cell.formula)
    scans: dict[tuple[str, str], float] = {}
    random = False
    for column in sheet.columns:
        rows = 1 if column.layout == "cell" else places.answer.rows
        cells += 1 if column.layout == "array" else rows
        factor = _ARRAY_FACTOR if column.layout == "array" else 1.0
        for node in parse(column.formula).walk():
            random = random or (node.sort == "call" and node.value in RANDOM)
            searched = _searched(node, places)
            if searched:
                key = (searched[0], _text_of(node.parts[0]))
                seconds = rows * searched[1] / 2 * SCAN_S * factor
                scans[key] = max(scans.get(key, 0.0), seconds)
    if sheet.repeat:
        cells += places.times(sheet.repeat)
    random = random or any(
        node.value in RANDOM
        for cell in sheet.cells
        if cell.formula
        for node in parse(cell.formula).walk()
    )
    seconds = sum(scans.values())
    return Cost(cells, seconds, _words(cells, seconds), random)


def _words(cells: int, seconds: float) -> str:
    if seconds <= _LONG_S:
        return ""
    told = f"{seconds / 60:,.0f} minutes" if seconds < 5400 else f"{seconds / 3600:,.1f} hours"
    return (
        f"Its exact searches look through whole columns, row by row: some {told} for "
        f"{cells:,} cells. Sort the keys and search approximately, or take fewer rows."
    )


def _searched(node: Node, places: Places) -> tuple[str, int] | None:
    """The column that an exact search or a counting looks through, and its rows."""
    if node.sort != "call":
        return None
    where = _SEARCHES.get(node.value, _COUNTING.get(node.value))
    if where is None or len(node.parts) <= where:
        return None
    if node.value in _MODE_AT:
        at = _MODE_AT[node.value]
        mode = node.parts[at] if len(node.parts) > at else None
        exact = mode is not None and (mode.sort == "missing" or mode.value in ("0", "FALSE"))
        if not exact:
            return None
    ranged = node.parts[where]
    if ranged.sort != "column":
        return None
    table, _ = ranged.place
    block = places.answer if table == ANSWER else places.tables.get(table)
    return (ranged.value, block.rows) if block else None


def _text_of(node: Node) -> str:
    return f"{node.sort} {node.value} " + " ".join(map(_text_of, node.parts))


def answer_columns(sheet: Sheet) -> list[Column]:
    """The columns that the answer has."""
    return [column for column in sheet.columns if column.layout != "helper"]
