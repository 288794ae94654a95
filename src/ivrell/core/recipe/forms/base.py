"""What every form of a table on disk keeps to.

A form turns a block into bytes on its own (``encode``, so that several processes can do
it at once) and puts the blocks' bytes together in order (``Writer``).
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, BinaryIO, Protocol, TypeAlias

import pyarrow as pa

from ivrell.core.recipe.csv_style import CsvStyle

Picks = list[tuple[int, str]]
"""Rows of a block to be broken, and how; see the module malformed."""

Encoded: TypeAlias = Any
"""Bytes of a text form, or an Arrow record batch as it is."""


@dataclass(frozen=True)
class Layout:
    """What a form needs to know of a whole table.

    Attributes:
        schema: names and Arrow types of the columns.
        widths: characters of the longest value that each column can hold; fixed width only.
        codec: how pages are packed, or None for the form's usual way.
        table: name of the table.
        csv: how delimited text is written.
        decimals: decimals of the columns of numbers that have so many each.
    """

    schema: pa.Schema
    widths: Mapping[str, int] = field(default_factory=dict)
    codec: str | None = None
    table: str = "table"
    csv: CsvStyle = field(default_factory=CsvStyle)
    decimals: Mapping[str, int] = field(default_factory=dict)


class Writer(Protocol):
    """Takes the encoded blocks of a file in order, then is closed."""

    def add(self, encoded: Encoded) -> None: ...

    def close(self) -> None: ...


class Form(Protocol):
    """One way to keep a table on disk.

    Attributes:
        suffix: its word, and the end of its files' names.
        text: whether its lines can be broken on purpose.
        appended: whether a file is nothing but a head and the blocks' bytes, so that a
            half-made one can be gone on with after any whole block.
        codecs: ways to pack its pages, the usual one first; empty where there is no choice.
        most_rows: rows that one file can hold, or None.
        nests: whether it holds lists and records; else they are JSON text in it.
    """

    suffix: str
    text: bool
    appended: bool
    codecs: tuple[str, ...]
    most_rows: int | None
    nests: bool

    def encode(self, batch: pa.RecordBatch, layout: Layout, picks: Picks) -> Encoded:
        """A block ready to be put behind the one before: bytes, or the batch as it is."""

    def head(self, layout: Layout) -> bytes:
        """What stands before the first block of a file; empty where nothing does."""

    def writer(self, sink: BinaryIO, layout: Layout) -> Writer:
        """A writer that puts encoded blocks into an open file, behind its head."""


class Appended:
    """The writer of forms whose blocks' bytes simply follow each other."""

    def __init__(self, sink: BinaryIO) -> None:
        self._sink = sink

    def add(self, encoded: Encoded) -> None:
        self._sink.write(encoded)

    def close(self) -> None:
        self._sink.flush()


class TextForm:
    """What forms share whose blocks' bytes simply follow each other."""

    text = True
    appended = True
    codecs: tuple[str, ...] = ()
    most_rows: int | None = None
    nests = False

    def head(self, layout: Layout) -> bytes:
        return b""

    def writer(self, sink: BinaryIO, layout: Layout) -> Writer:
        return Appended(sink)


def in_seconds(batch: pa.RecordBatch) -> pa.RecordBatch:
    """The batch with moments that print without a fraction of a second, where they have
    none."""
    columns = [
        _whole_seconds(column) if pa.types.is_timestamp(column.type) else column
        for column in batch.columns
    ]
    return pa.RecordBatch.from_arrays(columns, names=batch.schema.names)


def _whole_seconds(column: pa.Array) -> pa.Array:
    try:
        return column.cast(pa.timestamp("s"))
    except pa.ArrowInvalid:
        return column


def text_bytes(lines: pa.Array) -> bytes:
    """The bytes of a text array's values, one behind the other."""
    offsets, data = lines.buffers()[1:3]
    ends = memoryview(offsets).cast("i")
    start, end = ends[lines.offset], ends[lines.offset + len(lines)]
    return bytes(memoryview(data)[start:end]) if data else b""
