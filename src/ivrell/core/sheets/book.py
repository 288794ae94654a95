"""One spreadsheet document: tables brought in, formulas written, calculated, read, saved."""

import datetime as dt
from collections import Counter
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ivrell.core.recipe.csv_style import CsvStyle
from ivrell.core.recipe.flat import json_text
from ivrell.core.sheets.check import answer_columns, sorted_by
from ivrell.core.sheets.formula import FormulaError
from ivrell.core.sheets.layout import ANSWER, CELLS, REPEATS, Block, Places
from ivrell.core.sheets.model import Change, Column, Kind, Sheet
from ivrell.core.sheets.office import Office
from ivrell.core.tasks.task import ApproachFailed

_CHUNK = 20_000
_DAY_S = 86_400
_DAY_ZERO = dt.date(1899, 12, 30)
_ERROR_RESULTS = 4
_KINDS_ASKED = 5_000
_TEXT_COLUMN = 2
_FILTERS = {"xlsx": "Calc MS Excel 2007 XML"}
# The engine's numbers for them; English is written with a comma in South Africa.
_CHARSETS = {"utf-8": 76, "latin-1": 12, "windows-1252": 1}
_LANGUAGES = {".": 1033, ",": 7177}
_ERRORS = {
    502: "invalid argument", 503: "number out of range", 504: "wrong list of arguments",
    508: "parentheses", 511: "missing variable", 519: "wrong value", 521: "internal",
    522: "circular reference", 523: "does not converge", 524: "reference gone",
    525: "unknown name", 532: "division by zero", 32767: "not available",
}  # fmt: skip


class Book:
    """The document of one run.

    Args:
        files: path of each table's file; a table of Arrow's form is written cell by cell, of
            text and OpenDocument forms read by the engine itself.
        schemas: Arrow schema of each table.
    """

    def __init__(
        self,
        office: Office,
        sheet: Sheet,
        places: Places,
        files: Mapping[str, Path],
        schemas: Mapping[str, pa.Schema],
        form: str,
        styles: Mapping[str, CsvStyle] | None = None,
    ) -> None:
        self._styles = styles or {}
        self._office = office
        self._sheet = sheet
        self._places = places
        self._files = files
        self._schemas = schemas
        self._form = form
        self._sorted = {
            name: _read(files[name]).sort_by(column) for name, column in sorted_by(sheet).items()
        }
        self._document = office.book()
        self._document.enableAutomaticCalculation(False)
        self._sheets = self._document.Sheets
        for name in (*files, ANSWER, CELLS, REPEATS):
            self._sheets.insertNewByName(name, self._sheets.Count)
        self._sheets.removeByName(self._sheets.ElementNames[0])

    def bring(self) -> None:
        """Bring the tables in."""
        for name, path in self._files.items():
            if self._form != "arrow":
                self._link(name, path)
            elif name in self._sorted:
                self._write_cells(self._places.tables[name], self._sorted[name])
            else:
                with pa.memory_map(str(path)) as source:
                    table = pa.ipc.open_file(source).read_all()
                    self._write_cells(self._places.tables[name], table)

    def _write_cells(self, block: Block, table: pa.Table) -> None:
        sheet = self._sheets.getByName(block.sheet)
        if block.header:
            _put(sheet, 0, (tuple(table.column_names),))
        row = block.first - 1
        for chunk in _cells(table):
            _put(sheet, row, chunk)
            row += len(chunk)

    def _link(self, name: str, path: Path) -> None:
        """Let the engine read a file onto its sheet, then let go of the file."""
        mode = self._office.enumerated("com.sun.star.sheet.SheetLinkMode", "NORMAL")
        filtered, options = _FILTERS.get(self._form, "calc8"), ""
        if self._form == "csv":
            # Told to keep text as text: it would read a code's digits as a number.
            kinds = [
                f"{i}/{_TEXT_COLUMN if pa.types.is_string(field.type) else 1}"
                for i, field in enumerate(self._schemas[name], 1)
            ]
            style = self._styles.get(name, CsvStyle())
            if self._sheet.header and not style.header:
                raise ApproachFailed(
                    "no header", f"The csv of {name} names no columns: take input.csv.header = true"
                )
            first = 2 if style.header and not self._sheet.header else 1
            filtered = "Text - txt - csv (StarCalc)"
            charset, language = _CHARSETS[style.encoding], _LANGUAGES[style.decimal]
            columns = "/".join(kinds)
            options = f"{ord(style.delimiter)},34,{charset},{first},{columns},{language},false,true"
        sheet = self._sheets.getByName(name)
        sheet.link(path.as_uri(), "", filtered, options, mode)
        sheet.setLinkMode(self._office.enumerated("com.sun.star.sheet.SheetLinkMode", "NONE"))

    def fill(self) -> int:
        """Write all formulas; returns the cells that hold one. Raises ApproachFailed."""
        count = self._fill_cells()
        sheet = self._sheets.getByName(ANSWER)
        block = self._places.answer
        if block.header and block.columns:
            _put(sheet, 0, (tuple(block.columns),))
        for index, column in enumerate(self._sheet.columns):
            count += self._fill_column(sheet, index, column, block)
        return count + self._fill_repeats()

    def _translated(self, formula: str, what: str) -> str:
        try:
            return self._places.translated(formula)
        except FormulaError as error:
            raise ApproachFailed(
                "formula", f"{what}, character {error.position + 1}: {error.message} {error.hint}"
            ) from error

    def _fill_cells(self) -> int:
        sheet = self._sheets.getByName(CELLS)
        count = 0
        for row, cell in enumerate(self._sheet.cells):
            sheet.getCellByPosition(0, row).setString(cell.name)
            place = sheet.getCellByPosition(1, row)
            if cell.formula:
                place.setFormula(self._translated(cell.formula, cell.name))
                count += 1
            else:
                _set(place, cell.value)
        return count

    def _fill_column(self, sheet: Any, index: int, column: Column, block: Block) -> int:
        formula = self._translated(column.formula, column.name)
        first = block.first - 1
        last = first if column.layout == "cell" else first + block.rows - 1
        place = sheet.getCellRangeByPosition(index, first, index, last)
        if column.layout == "array":
            place.setArrayFormula(formula)
            return 1
        place.getCellByPosition(0, 0).setFormula(formula)
        if last > first:
            down = self._office.enumerated("com.sun.star.sheet.FillDirection", "TO_BOTTOM")
            place.fillAuto(down, 1)
        return last - first + 1

    def _fill_repeats(self) -> int:
        repeat = self._sheet.repeat
        if repeat is None:
            return 0
        names = list(self._places.cells)
        result, asked = (
            f"$'{CELLS}'.$B${names.index(n) + 1}" for n in (repeat.result, repeat.input)
        )
        sheet, times = self._sheets.getByName(REPEATS), self._places.times(repeat)
        _put(sheet, 0, tuple((float(n),) for n in range(1, times + 1)))
        place = sheet.getCellRangeByPosition(1, 0, 1, times - 1)
        place.getCellByPosition(0, 0).setFormula(f"=TABLE({result};{asked};$A1)")
        if times > 1:
            down = self._office.enumerated("com.sun.star.sheet.FillDirection", "TO_BOTTOM")
            place.fillAuto(down, 1)
        return times

    def calculate(self) -> None:
        """Calculate everything."""
        self._document.calculateAll()

    def change(self, change: Change) -> None:
        """Change one cell and calculate what depends on it."""
        if change.cell:
            row = list(self._places.cells).index(change.cell)
            place = self._sheets.getByName(CELLS).getCellByPosition(1, row)
        else:
            block = self._places.tables[change.table]
            column = list(block.columns).index(change.column)
            sheet = self._sheets.getByName(change.table)
            place = sheet.getCellByPosition(column, block.first - 2 + change.row)
        _set(place, change.to)
        self._document.calculate()

    def read(self) -> dict[str, list[Any]]:
        """The answer's columns as the engine gives them: numbers and text, None for an error."""
        if self._sheet.repeat:
            sheet = self._sheets.getByName(REPEATS)
            times = self._places.times(self._sheet.repeat)
            rows = sheet.getCellRangeByPosition(0, 0, 1, times - 1)
            values = rows.getDataArray()
            names = (self._sheet.repeat.input, self._sheet.repeat.result)
            return {name: [row[i] for row in values] for i, name in enumerate(names)}
        block = self._places.answer
        rows_read = 1 if answer_columns(self._sheet)[0].layout == "cell" else block.rows
        sheet = self._sheets.getByName(ANSWER)
        first = block.first - 1
        found: dict[str, list[Any]] = {column.name: [] for column in answer_columns(self._sheet)}
        places = {name: list(block.columns).index(name) for name in found}
        for start in range(0, rows_read, _CHUNK):
            end = min(start + _CHUNK, rows_read) - 1
            values = sheet.getCellRangeByPosition(
                0, first + start, len(block.columns) - 1, first + end
            ).getDataArray()
            for name, place in places.items():
                found[name] += [row[place] for row in values]
        return found

    def errors(self) -> dict[str, int]:
        """Cells whose value is an error, by the kind of error; where there are very many, those
        beyond the first thousands by their number alone."""
        found: Counter[str] = Counter()
        for name in (ANSWER, CELLS, REPEATS):
            sheet = self._sheets.getByName(name)
            ranges = sheet.queryFormulaCells(_ERROR_RESULTS)
            count = sum(
                (place.EndRow - place.StartRow + 1) * (place.EndColumn - place.StartColumn + 1)
                for place in ranges.RangeAddresses
            )
            cells = ranges.Cells.createEnumeration()
            for _ in range(min(count, _KINDS_ASKED)):
                code = cells.nextElement().getError()
                found[_ERRORS.get(code, f"error {code}")] += 1
            if count > _KINDS_ASKED:
                found["kind not asked"] += count - _KINDS_ASKED
        return dict(found)

    def save(self, path: Path) -> int:
        """Save as an OpenDocument file; returns its bytes."""
        self._document.storeToURL(path.as_uri(), (self._office.property("FilterName", "calc8"),))
        return path.stat().st_size

    def close(self) -> None:
        """Throw the document away."""
        self._document.close(True)


def _read(path: Path) -> pa.Table:
    with pa.OSFile(str(path)) as source:
        return pa.ipc.open_file(source).read_all()


def _put(sheet: Any, row: int, rows: tuple[tuple[Any, ...], ...]) -> None:
    width = len(rows[0])
    sheet.getCellRangeByPosition(0, row, width - 1, row + len(rows) - 1).setDataArray(rows)


def _set(place: Any, value: float | str | None) -> None:
    if isinstance(value, str):
        place.setString(value)
    elif value is not None:
        place.setValue(float(value))


def _cells(table: pa.Table) -> Iterator[tuple[tuple[Any, ...], ...]]:
    """Rows as cells hold them, a chunk at a time: numbers as doubles, days and moments as days
    since the standard's usual first one, truth values as 1 and 0, lists and records as JSON,
    nulls as empty cells."""
    for start in range(0, table.num_rows, _CHUNK):
        part = table.slice(start, _CHUNK)
        yield tuple(zip(*(_plain(column) for column in part.columns), strict=True))


def _plain(column: pa.ChunkedArray) -> list[Any]:
    kind = column.type
    if pa.types.is_nested(kind):
        # A cell holds no list: as text, as in files.
        column = json_text(column)
    if pa.types.is_boolean(kind):
        column = column.cast(pa.int8())
    if pa.types.is_date(kind) or pa.types.is_timestamp(kind):
        seconds = column.cast(pa.timestamp("us")).cast(pa.int64())
        days = pc.divide(seconds.cast(pa.float64()), _DAY_S * 1e6)
        column = pc.add(days, float((dt.date(1970, 1, 1) - _DAY_ZERO).days))
    elif pa.types.is_integer(column.type) or pa.types.is_decimal(kind):
        column = column.cast(pa.float64(), safe=False)
    return ["" if value is None else value for value in column.to_pylist()]


def answer_table(values: Mapping[str, list[Any]], kinds: Mapping[str, Kind | None]) -> pa.Table:
    """The answer as an Arrow table: empty cells and errors are null, columns of whole numbers
    are integers (a sheet knows no other numbers than doubles), days and moments where asked."""
    return pa.table({name: _column(found, kinds.get(name)) for name, found in values.items()})


def _column(values: list[Any], kind: Kind | None) -> pa.Array:
    plain = [None if value == "" else value for value in values]
    if kind == "text" or any(isinstance(value, str) for value in plain):
        return pa.array([None if v is None else _as_text(v) for v in plain], pa.string())
    numbers = pa.array(plain, pa.float64())
    if kind in ("date", "timestamp"):
        back = pc.subtract(numbers, float((dt.date(1970, 1, 1) - _DAY_ZERO).days))
        moments = (
            pc.round(pc.multiply(back, _DAY_S * 1e6)).cast(pa.int64()).cast(pa.timestamp("us"))
        )
        return moments.cast(pa.date32()) if kind == "date" else moments
    known = numbers.drop_null()
    whole = len(known) and pc.all(pc.equal(known, pc.floor(known))).as_py()
    if whole and pc.max(pc.abs(known)).as_py() < 2**53:
        return numbers.cast(pa.int64())
    return numbers


def _as_text(value: object) -> str:
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)
