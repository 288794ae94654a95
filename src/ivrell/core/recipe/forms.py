"""Forms of a table on disk; a new form is a class and a line in FORMS.

A form turns a block into bytes on its own (``encode``, so that several processes can do
it at once) and puts the blocks' bytes together in order (``Writer``).
"""

import gzip
import io
import json
from typing import Any, BinaryIO, Protocol, TypeAlias

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv
import pyarrow.parquet

from ivrell.core.recipe.malformed import break_lines

Picks = list[tuple[int, str]]
"""Rows of a block to be broken, and how; see the module malformed."""


Encoded: TypeAlias = Any
"""Bytes of a text form, or an Arrow record batch as it is."""


class Writer(Protocol):
    """Takes the encoded blocks of a table in order, then is closed."""

    def add(self, encoded: Encoded) -> None: ...

    def close(self) -> None: ...


class Form(Protocol):
    """One way to keep a table on disk; ``text`` says that its lines can be broken."""

    suffix: str
    text: bool

    def encode(self, batch: pa.RecordBatch, first: bool, picks: Picks) -> Encoded:
        """A block ready to be put behind the one before: bytes, or the batch as it is.

        ``first`` says that nothing stands before it.
        """

    def writer(self, sink: BinaryIO, schema: pa.Schema) -> Writer:
        """A writer that puts encoded blocks into an open file."""


class _Appended:
    def __init__(self, sink: BinaryIO) -> None:
        self._sink = sink

    def add(self, encoded: Encoded) -> None:
        self._sink.write(encoded)

    def close(self) -> None:
        self._sink.flush()


class _TextForm:
    """What forms share whose blocks' bytes simply follow each other."""

    text = True

    def writer(self, sink: BinaryIO, schema: pa.Schema) -> Writer:
        return _Appended(sink)


def _csv_lines(rows: pa.RecordBatch, quoting: str) -> bytes:
    sink = io.BytesIO()
    options = pyarrow.csv.WriteOptions(include_header=False, quoting_style=quoting)
    pyarrow.csv.write_csv(rows, sink, options)
    return sink.getvalue()


def _in_seconds(batch: pa.RecordBatch) -> pa.RecordBatch:
    """The batch with moments that print without a fraction of a second."""
    columns = [
        column.cast(pa.timestamp("s")) if pa.types.is_timestamp(column.type) else column
        for column in batch.columns
    ]
    return pa.RecordBatch.from_arrays(columns, names=batch.schema.names)


class Csv(_TextForm):
    """Comma-separated text: a header line, UTF-8, text unquoted unless a value of the block
    needs quotes, nothing between the commas for null, timestamps as 2031-01-31 06:00:00."""

    suffix = "csv"

    def encode(self, batch: pa.RecordBatch, first: bool, picks: Picks) -> bytes:
        rows = _in_seconds(batch)
        header = ",".join(batch.schema.names).encode() + b"\n" if first else b""
        try:
            lines = _csv_lines(rows, quoting="none")
        except pa.ArrowInvalid:
            # Some text holds a comma, a quote or a line end: then all text is quoted.
            lines = _csv_lines(rows, quoting="needed")
        return header + break_lines(lines, picks, b",")


class CsvGz(Csv):
    """Csv, gzip: a member a block, which readers take as one file."""

    suffix = "csv.gz"

    def encode(self, batch: pa.RecordBatch, first: bool, picks: Picks) -> bytes:
        return gzip.compress(super().encode(batch, first, picks), compresslevel=6, mtime=0)


class CsvZst(Csv):
    """Csv, zstd: a frame a block, which readers take as one file."""

    suffix = "csv.zst"

    def encode(self, batch: pa.RecordBatch, first: bool, picks: Picks) -> bytes:
        packed: bytes = pa.compress(super().encode(batch, first, picks), "zstd", asbytes=True)
        return packed


class Jsonl(_TextForm):
    """One JSON object a line; moments as text, as in csv; null where there is no value."""

    suffix = "jsonl"

    def encode(self, batch: pa.RecordBatch, first: bool, picks: Picks) -> bytes:
        rows = _in_seconds(batch)
        pieces: list[pa.Array | pa.Scalar] = []
        for position, (name, column) in enumerate(
            zip(rows.schema.names, rows.columns, strict=True)
        ):
            pieces.append(pa.scalar(f'{"{" if not position else ","}"{name}":'))
            pieces.append(_json_values(column))
        lines = pc.binary_join_element_wise(*pieces, pa.scalar("}\n"), "")
        data = b"".join(_text_bytes(lines))
        return break_lines(data, picks, b",")


_SPECIAL = r'["\\\x00-\x1f]'


def _json_values(column: pa.Array) -> pa.Array:
    """Each value as its JSON text; null as ``null``."""
    kind = column.type
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


def _text_bytes(lines: pa.Array) -> list[memoryview]:
    """The bytes of a text array's values, one behind the other, without copies."""
    offsets, data = lines.buffers()[1:3]
    ends = memoryview(offsets).cast("i")
    start, end = ends[lines.offset], ends[lines.offset + len(lines)]
    return [memoryview(data)[start:end]]


class _Batches:
    """What forms share that are put together from record batches."""

    text = False

    def encode(self, batch: pa.RecordBatch, first: bool, picks: Picks) -> Encoded:
        return batch


class _ParquetWriter:
    def __init__(self, sink: BinaryIO, schema: pa.Schema) -> None:
        self._writer = pyarrow.parquet.ParquetWriter(sink, schema, compression="zstd")

    def add(self, encoded: Encoded) -> None:
        self._writer.write_table(pa.Table.from_batches([encoded]))

    def close(self) -> None:
        self._writer.close()


class Parquet(_Batches):
    """Apache Parquet, zstd, one row group a block."""

    suffix = "parquet"

    def writer(self, sink: BinaryIO, schema: pa.Schema) -> Writer:
        return _ParquetWriter(sink, schema)


class _ArrowWriter:
    def __init__(self, sink: BinaryIO, schema: pa.Schema) -> None:
        self._writer = pa.ipc.new_file(sink, schema)

    def add(self, encoded: Encoded) -> None:
        self._writer.write_batch(encoded)

    def close(self) -> None:
        self._writer.close()


class Arrow(_Batches):
    """Arrow's own file format, not compressed: can be mapped into memory as it is."""

    suffix = "arrow"

    def writer(self, sink: BinaryIO, schema: pa.Schema) -> Writer:
        return _ArrowWriter(sink, schema)


FORMS: dict[str, Form] = {
    form.suffix: form for form in (Csv(), CsvGz(), CsvZst(), Jsonl(), Parquet(), Arrow())
}


def size_in(form: str, sample: pa.RecordBatch) -> int:
    """Bytes that a sample takes on disk in a form."""
    sink = io.BytesIO()
    writer = FORMS[form].writer(sink, sample.schema)
    writer.add(FORMS[form].encode(sample, True, []))
    writer.close()
    return len(sink.getbuffer())
