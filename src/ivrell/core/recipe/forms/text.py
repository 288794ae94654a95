"""Delimited text and JSON lines, plain and packed."""

import gzip
import io
import json
from collections.abc import Mapping

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from ivrell.core.base.errors import BadInput
from ivrell.core.recipe.csv_style import BYTE_ORDER_MARK, UTF_8, CsvStyle
from ivrell.core.recipe.flat import json_text
from ivrell.core.recipe.forms.base import Layout, Picks, TextForm, in_seconds, text_bytes
from ivrell.core.recipe.malformed import break_lines


def _csv_lines(rows: pa.RecordBatch, quoting: str, delimiter: str) -> bytes:
    sink = io.BytesIO()
    options = pyarrow.csv.WriteOptions(
        include_header=False, quoting_style=quoting, delimiter=delimiter
    )
    pyarrow.csv.write_csv(rows, sink, options)
    return sink.getvalue()


class Csv(TextForm):
    """Delimited text: a header line, UTF-8, text unquoted unless a value of the block needs
    quotes, nothing between the commas for null, timestamps as 2031-01-31 06:00:00; or as the
    layout's style says."""

    suffix = "csv"

    def head(self, layout: Layout) -> bytes:
        style = layout.csv
        mark = BYTE_ORDER_MARK if style.byte_order_mark else b""
        if not style.header:
            return mark
        names = [_named(name, style) for name in layout.schema.names]
        return mark + _encoded(f"{style.delimiter.join(names)}\n".encode(), style)

    def encode(self, batch: pa.RecordBatch, layout: Layout, picks: Picks) -> bytes:
        rows, style = in_seconds(batch), layout.csv
        if style.fixed_decimals:
            rows = _fixed(rows, layout.decimals)
        if style.decimal == ",":
            rows = _with_commas(rows)
        try:
            quoting = "all_valid" if style.quoting == "all" else "none"
            lines = _csv_lines(rows, quoting, style.delimiter)
        except pa.ArrowInvalid:
            # Some text holds a delimiter, a quote or a line end: then all text is quoted.
            lines = _csv_lines(rows, "needed", style.delimiter)
        return _encoded(break_lines(lines, picks, style.delimiter.encode()), style)


def _encoded(text: bytes, style: CsvStyle) -> bytes:
    """UTF-8 in the style's encoding; bytes that are no text stay what they are. Raises BadInput for
    what the encoding does not have."""
    if style.encoding == UTF_8:
        return text
    try:
        return text.decode(errors="surrogateescape").encode(style.encoding, "surrogateescape")
    except UnicodeEncodeError as error:
        raise BadInput(
            f'The encoding {style.encoding} has no "{error.object[error.start]}".',
            where="input.csv.encoding",
            hint="Take utf-8, or other values.",
        ) from None


def _with_commas(rows: pa.RecordBatch) -> pa.RecordBatch:
    """The rows with a comma in each number that has decimals."""
    columns = [
        pc.replace_substring(column.cast(pa.string()), ".", ",")
        if pa.types.is_floating(column.type) or pa.types.is_decimal(column.type)
        else column
        for column in rows.columns
    ]
    return pa.RecordBatch.from_arrays(columns, names=rows.schema.names)


def _named(name: str, style: CsvStyle) -> str:
    """A column's name as it stands in a header."""
    odd = any(mark in name for mark in (style.delimiter, '"', "\n"))
    quoted = name.replace('"', '""')
    return f'"{quoted}"' if odd or style.quoting == "all" else name


def _fixed(rows: pa.RecordBatch, decimals: Mapping[str, int]) -> pa.RecordBatch:
    """The rows with numbers as decimals, which are written with all of theirs, where the column
    has so many."""
    columns = [
        pc.round(column, decimals[name]).cast(pa.decimal128(38, decimals[name]))
        if name in decimals and pa.types.is_floating(column.type)
        else column
        for name, column in zip(rows.schema.names, rows.columns, strict=True)
    ]
    return pa.RecordBatch.from_arrays(columns, names=rows.schema.names)


class CsvGz(Csv):
    """Csv, gzip: a member a block, which readers take as one file."""

    suffix = "csv.gz"

    def head(self, layout: Layout) -> bytes:
        return self._pack(super().head(layout))

    def encode(self, batch: pa.RecordBatch, layout: Layout, picks: Picks) -> bytes:
        return self._pack(super().encode(batch, layout, picks))

    def _pack(self, plain: bytes) -> bytes:
        return gzip.compress(plain, compresslevel=6, mtime=0)


class CsvZst(CsvGz):
    """Csv, zstd: a frame a block, which readers take as one file."""

    suffix = "csv.zst"

    def _pack(self, plain: bytes) -> bytes:
        packed: bytes = pa.compress(plain, "zstd", asbytes=True)
        return packed


class Jsonl(TextForm):
    """One JSON object a line; moments as text, as in csv; null where there is no value."""

    suffix = "jsonl"
    nests = True

    def encode(self, batch: pa.RecordBatch, layout: Layout, picks: Picks) -> bytes:
        rows = in_seconds(batch)
        pieces: list[pa.Array | pa.Scalar] = []
        for position, (name, column) in enumerate(
            zip(rows.schema.names, rows.columns, strict=True)
        ):
            pieces.append(pa.scalar(f'{"{" if not position else ","}"{name}":'))
            pieces.append(_json_values(column))
        lines = pc.binary_join_element_wise(*pieces, pa.scalar("}\n"), "")
        return break_lines(text_bytes(lines), picks, b",")


_SPECIAL = r'["\\\x00-\x1f]'


def _json_values(column: pa.Array) -> pa.Array:
    """Each value as its JSON text; null as ``null``."""
    kind = column.type
    if pa.types.is_nested(kind):
        return pc.fill_null(json_text(column), "null")
    if pa.types.is_string(kind) or pa.types.is_temporal(kind):
        text = column.cast(pa.string())
        if pc.any(pc.match_substring_regex(text, _SPECIAL)).as_py():
            text = pa.array(
                [None if v is None else json.dumps(v, ensure_ascii=False) for v in text.to_pylist()]
            )
        else:
            quote = pa.scalar('"')
            text = pc.binary_join_element_wise(quote, text, quote, "")
    else:
        text = column.cast(pa.string())
    return pc.fill_null(text, "null")
