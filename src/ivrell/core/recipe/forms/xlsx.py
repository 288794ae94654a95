"""A table as a workbook of one sheet: Office Open XML (ECMA-376, part 1, SpreadsheetML)."""

from typing import BinaryIO
from xml.sax.saxutils import escape, quoteattr

import pyarrow as pa
import pyarrow.compute as pc

from ivrell.core.recipe.forms.base import Encoded, Layout, Picks, Writer, text_bytes
from ivrell.core.recipe.forms.sheet import SHEET_ROWS, Archive

_MAIN = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_PACKAGE = "http://schemas.openxmlformats.org/package/2006"
_KIND = "application/vnd.openxmlformats-officedocument.spreadsheetml"
_XML = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n'
_DAY_S = 86_400
_DAY_ZERO_S = 25_569 * _DAY_S
"""Seconds from the day that sheets count from (1899-12-30) to 1970."""

_DAY, _MOMENT = 1, 2
_PARTS = {
    "[Content_Types].xml": f'<Types xmlns="{_PACKAGE}/content-types">'
    '<Default Extension="rels" '
    'ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
    '<Default Extension="xml" ContentType="application/xml"/>'
    f'<Override PartName="/xl/workbook.xml" ContentType="{_KIND}.sheet.main+xml"/>'
    f'<Override PartName="/xl/styles.xml" ContentType="{_KIND}.styles+xml"/>'
    f'<Override PartName="/xl/worksheets/sheet1.xml" ContentType="{_KIND}.worksheet+xml"/></Types>',
    "_rels/.rels": f'<Relationships xmlns="{_PACKAGE}/relationships">'
    f'<Relationship Id="r1" Type="{_OFFICE}/officeDocument" Target="xl/workbook.xml"/>'
    "</Relationships>",
    "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{_PACKAGE}/relationships">'
    f'<Relationship Id="r1" Type="{_OFFICE}/worksheet" Target="worksheets/sheet1.xml"/>'
    f'<Relationship Id="r2" Type="{_OFFICE}/styles" Target="styles.xml"/></Relationships>',
    "xl/styles.xml": f'<styleSheet xmlns="{_MAIN}">'
    '<numFmts count="2"><numFmt numFmtId="164" formatCode="yyyy\\-mm\\-dd"/>'
    '<numFmt numFmtId="165" formatCode="yyyy\\-mm\\-dd hh:mm:ss"/></numFmts>'
    '<fonts count="1"><font/></fonts>'
    '<fills count="1"><fill><patternFill patternType="none"/></fill></fills>'
    '<borders count="1"><border/></borders><cellStyleXfs count="1"><xf/></cellStyleXfs>'
    '<cellXfs count="3"><xf/><xf numFmtId="164" applyNumberFormat="1"/>'
    '<xf numFmtId="165" applyNumberFormat="1"/></cellXfs>'
    '<cellStyles count="1"><cellStyle name="Normal" xfId="0" builtinId="0"/></cellStyles>'
    "</styleSheet>",
}


class Xlsx:
    """One sheet with a header row; numbers, days and truth values typed, the rest text. Days and
    moments are numbers of days, as sheets have them."""

    suffix = "xlsx"
    text = False
    appended = False
    nests = False
    codecs: tuple[str, ...] = ()
    most_rows: int | None = SHEET_ROWS - 1

    def head(self, layout: Layout) -> bytes:
        return b""

    def encode(self, batch: pa.RecordBatch, layout: Layout, picks: Picks) -> Encoded:
        cells = [_cells(column) for column in batch.columns]
        rows = pc.binary_join_element_wise(pa.scalar("<row>"), *cells, pa.scalar("</row>\n"), "")
        return text_bytes(rows)

    def writer(self, sink: BinaryIO, layout: Layout) -> Writer:
        return _XlsxWriter(sink, layout)


class _XlsxWriter:
    def __init__(self, sink: BinaryIO, layout: Layout) -> None:
        self._archive = Archive(sink)
        for name, text in _PARTS.items():
            self._archive.put(name, _XML + text)
        sheets = f'<sheets><sheet name={quoteattr(layout.table)} sheetId="1" r:id="r1"/></sheets>'
        self._archive.put(
            "xl/workbook.xml",
            f'{_XML}<workbook xmlns="{_MAIN}" xmlns:r="{_OFFICE}">{sheets}</workbook>',
        )
        header = "".join(map(_text_cell, layout.schema.names))
        self._content = self._archive.open("xl/worksheets/sheet1.xml")
        opening = f'<worksheet xmlns="{_MAIN}"><sheetData><row>{header}</row>\n'
        self._content.write((_XML + opening).encode())

    def add(self, encoded: Encoded) -> None:
        self._content.write(encoded)

    def close(self) -> None:
        self._content.write(b"</sheetData></worksheet>")
        self._content.close()
        self._archive.close()


def _text_cell(text: str) -> str:
    return f'<c t="inlineStr"><is><t xml:space="preserve">{escape(text)}</t></is></c>'


def _cells(column: pa.Array) -> pa.Array:
    """The XML of each value's cell."""
    kind = column.type
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        found = _wrapped("<c><v>", column.cast(pa.string()), "</v></c>")
    elif pa.types.is_boolean(kind):
        found = _wrapped('<c t="b"><v>', column.cast(pa.int8()).cast(pa.string()), "</v></c>")
    elif pa.types.is_date(kind):
        days = pc.add(column.cast(pa.int32()), _DAY_ZERO_S // _DAY_S)
        found = _wrapped(f'<c s="{_DAY}"><v>', days.cast(pa.string()), "</v></c>")
    elif pa.types.is_timestamp(kind):
        micros = column.cast(pa.timestamp("us")).cast(pa.int64()).cast(pa.float64())
        days = pc.divide(pc.add(pc.divide(micros, 1e6), float(_DAY_ZERO_S)), float(_DAY_S))
        found = _wrapped(f'<c s="{_MOMENT}"><v>', days.cast(pa.string()), "</v></c>")
    else:
        text = column.cast(pa.string())
        if pc.any(pc.match_substring_regex(text, "[&<>]")).as_py():
            escaped = [None if value is None else escape(value) for value in text.to_pylist()]
            text = pa.array(escaped, pa.string())
        before, after = _text_cell("|").split("|")
        found = _wrapped(before, text, after)
    return pc.fill_null(found, "<c/>")


def _wrapped(before: str, values: pa.Array, after: str) -> pa.Array:
    return pc.binary_join_element_wise(pa.scalar(before), values, pa.scalar(after), "")
