"""Forms of a table on disk; a new form is a class and a line in FORMS.

A form turns a block into bytes on its own (``encode``, so that several processes can do
it at once) and puts the blocks' bytes together in order (``Writer``).
"""

import io
from typing import BinaryIO, Protocol

import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet


class Writer(Protocol):
    """Takes the encoded blocks of a table in order, then is closed."""

    def add(self, encoded: bytes) -> None: ...

    def close(self) -> None: ...


class Form(Protocol):
    """One way to keep a table on disk."""

    suffix: str

    def encode(self, batch: pa.RecordBatch, index: int) -> bytes:
        """The bytes of block ``index``, ready to be put behind those of the one before."""

    def writer(self, sink: BinaryIO, schema: pa.Schema) -> Writer:
        """A writer that puts encoded blocks into an open file."""


class _Appended:
    def __init__(self, sink: BinaryIO) -> None:
        self._sink = sink

    def add(self, encoded: bytes) -> None:
        self._sink.write(encoded)

    def close(self) -> None:
        self._sink.flush()


def _csv_lines(rows: pa.RecordBatch, quoting: str) -> bytes:
    sink = io.BytesIO()
    options = pyarrow.csv.WriteOptions(include_header=False, quoting_style=quoting)
    pyarrow.csv.write_csv(rows, sink, options)
    return sink.getvalue()


class Csv:
    """Comma-separated text: a header line, UTF-8, text unquoted unless a value of the block
    needs quotes, nothing between the commas for null, timestamps as 2031-01-31 06:00:00."""

    suffix = "csv"

    def encode(self, batch: pa.RecordBatch, index: int) -> bytes:
        whole_seconds = [
            column.cast(pa.timestamp("s")) if pa.types.is_timestamp(column.type) else column
            for column in batch.columns
        ]
        rows = pa.RecordBatch.from_arrays(whole_seconds, names=batch.schema.names)
        header = ",".join(batch.schema.names).encode() + b"\n" if index == 0 else b""
        try:
            return header + _csv_lines(rows, quoting="none")
        except pa.ArrowInvalid:
            # Some text holds a comma, a quote or a line end: then all text is quoted.
            return header + _csv_lines(rows, quoting="needed")

    def writer(self, sink: BinaryIO, schema: pa.Schema) -> Writer:
        return _Appended(sink)


class _ParquetWriter:
    def __init__(self, sink: BinaryIO, schema: pa.Schema) -> None:
        self._writer = pyarrow.parquet.ParquetWriter(sink, schema, compression="zstd")

    def add(self, encoded: bytes) -> None:
        self._writer.write_table(pa.ipc.open_stream(encoded).read_all())

    def close(self) -> None:
        self._writer.close()


class Parquet:
    """Apache Parquet, zstd, one row group a block."""

    suffix = "parquet"

    def encode(self, batch: pa.RecordBatch, index: int) -> bytes:
        sink = io.BytesIO()
        with pa.ipc.new_stream(sink, batch.schema) as stream:
            stream.write_batch(batch)
        return sink.getvalue()

    def writer(self, sink: BinaryIO, schema: pa.Schema) -> Writer:
        return _ParquetWriter(sink, schema)


FORMS: dict[str, Form] = {"csv": Csv(), "parquet": Parquet()}


def file_name(table: str, form: str) -> str:
    """Name of the file that holds a table in a form."""
    return f"{table}.{FORMS[form].suffix}"


def size_in(form: str, sample: pa.RecordBatch) -> int:
    """Bytes that a sample takes on disk in a form."""
    sink = io.BytesIO()
    writer = FORMS[form].writer(sink, sample.schema)
    writer.add(FORMS[form].encode(sample, 0))
    writer.close()
    return len(sink.getbuffer())
