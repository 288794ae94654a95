"""A table as a sheet: OpenDocument spreadsheet (OASIS OpenDocument 1.3, part 3)."""

import zipfile
from typing import IO, BinaryIO
from xml.sax.saxutils import escape, quoteattr

import pyarrow as pa
import pyarrow.compute as pc

from ivrell.core.recipe.forms.base import Encoded, Layout, Picks, Writer, in_seconds, text_bytes

SHEET_ROWS = 1_048_576
_TYPE = "application/vnd.oasis.opendocument.spreadsheet"
_MANIFEST = f"""<?xml version="1.0" encoding="UTF-8"?>
<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" \
manifest:version="1.3">\
<manifest:file-entry manifest:full-path="/" manifest:media-type="{_TYPE}"/>\
<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/>\
</manifest:manifest>
"""
_OPENING = """<?xml version="1.0" encoding="UTF-8"?>
<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" \
xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" \
xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" \
xmlns:style="urn:oasis:names:tc:opendocument:xmlns:style:1.0" \
xmlns:number="urn:oasis:names:tc:opendocument:xmlns:datastyle:1.0" office:version="1.3">\
<office:automatic-styles>\
<number:date-style style:name="D0"><number:year number:style="long"/>\
<number:text>-</number:text><number:month number:style="long"/>\
<number:text>-</number:text><number:day number:style="long"/></number:date-style>\
<number:date-style style:name="M0"><number:year number:style="long"/>\
<number:text>-</number:text><number:month number:style="long"/>\
<number:text>-</number:text><number:day number:style="long"/><number:text> </number:text>\
<number:hours number:style="long"/><number:text>:</number:text>\
<number:minutes number:style="long"/><number:text>:</number:text>\
<number:seconds number:style="long"/></number:date-style>\
<number:boolean-style style:name="B0"><number:boolean/></number:boolean-style>\
<style:style style:name="day" style:family="table-cell" style:data-style-name="D0"/>\
<style:style style:name="moment" style:family="table-cell" style:data-style-name="M0"/>\
<style:style style:name="truth" style:family="table-cell" style:data-style-name="B0"/>\
</office:automatic-styles><office:body><office:spreadsheet>"""
_CLOSING = "</table:table></office:spreadsheet></office:body></office:document-content>\n"
_EPOCH = (1980, 1, 1, 0, 0, 0)


class Ods:
    """One sheet with a header row; numbers, days and truth values typed, the rest text."""

    suffix = "ods"
    text = False
    appended = False
    nests = False
    codecs: tuple[str, ...] = ()
    most_rows: int | None = SHEET_ROWS - 1

    def head(self, layout: Layout) -> bytes:
        return b""

    def encode(self, batch: pa.RecordBatch, layout: Layout, picks: Picks) -> Encoded:
        cells = [_cells(column) for column in in_seconds(batch).columns]
        rows = pc.binary_join_element_wise(
            pa.scalar("<table:table-row>"), *cells, pa.scalar("</table:table-row>\n"), ""
        )
        return text_bytes(rows)

    def writer(self, sink: BinaryIO, layout: Layout) -> Writer:
        return _OdsWriter(sink, layout)


class Archive:
    """The package that a sheet's file is: the same bytes whenever it is made."""

    def __init__(self, sink: BinaryIO) -> None:
        self._zip = zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED)

    def put(self, name: str, text: str, packing: int = zipfile.ZIP_DEFLATED) -> None:
        """A part in whole."""
        self._zip.writestr(_entry(name, packing), text)

    def open(self, name: str) -> IO[bytes]:
        """A part to be written block by block."""
        return self._zip.open(_entry(name), "w", force_zip64=True)

    def close(self) -> None:
        """Write what stands at its end."""
        self._zip.close()


class _OdsWriter:
    def __init__(self, sink: BinaryIO, layout: Layout) -> None:
        self._archive = Archive(sink)
        self._archive.put("mimetype", _TYPE, zipfile.ZIP_STORED)
        self._archive.put("META-INF/manifest.xml", _MANIFEST)
        self._content = self._archive.open("content.xml")
        header = "".join(_text_cell(name) for name in layout.schema.names)
        self._content.write(
            f"{_OPENING}<table:table table:name={quoteattr(layout.table)}>"
            f"<table:table-row>{header}</table:table-row>\n".encode()
        )

    def add(self, encoded: Encoded) -> None:
        self._content.write(encoded)

    def close(self) -> None:
        self._content.write(_CLOSING.encode())
        self._content.close()
        self._archive.close()


def _entry(name: str, packing: int = zipfile.ZIP_DEFLATED) -> zipfile.ZipInfo:
    entry = zipfile.ZipInfo(name, _EPOCH)
    entry.compress_type = packing
    return entry


def _text_cell(text: str) -> str:
    shown = escape(text)
    while "  " in shown:
        shown = shown.replace("  ", " <text:s/>")
    shown = shown.replace("\t", "<text:tab/>").replace("\n", "</text:p><text:p>")
    return (
        f'<table:table-cell office:value-type="string"><text:p>{shown}</text:p></table:table-cell>'
    )


def _cells(column: pa.Array) -> pa.Array:
    """The XML of each value's cell."""
    kind = column.type
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        found = _typed(column.cast(pa.string()), "float", "value")
    elif pa.types.is_boolean(kind):
        found = _typed(column.cast(pa.string()), "boolean", "boolean-value", "truth")
    elif pa.types.is_date(kind):
        found = _typed(column.cast(pa.string()), "date", "date-value", "day")
    elif pa.types.is_timestamp(kind):
        moment = pc.replace_substring(column.cast(pa.string()), " ", "T")
        found = _typed(moment, "date", "date-value", "moment")
    else:
        text = column.cast(pa.string())
        if pc.any(pc.match_substring_regex(text, "[&<>\t\n]|  ")).as_py():
            cells = [None if v is None else _text_cell(v) for v in text.to_pylist()]
            found = pa.array(cells, pa.string())
        else:
            before, after = _text_cell("|").split("|")
            found = pc.binary_join_element_wise(pa.scalar(before), text, pa.scalar(after), "")
    return pc.fill_null(found, "<table:table-cell/>")


def _typed(values: pa.Array, kind: str, attribute: str, style: str = "") -> pa.Array:
    styled = f' table:style-name="{style}"' if style else ""
    before = f'<table:table-cell{styled} office:value-type="{kind}" office:{attribute}="'
    return pc.binary_join_element_wise(pa.scalar(before), values, pa.scalar('"/>'), "")
