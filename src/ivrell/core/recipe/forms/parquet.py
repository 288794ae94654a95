"""Apache Parquet, whose row groups are made apart and joined without being packed again.

A block is made as a whole file of one row group, by whichever process draws it. Joined are the
bytes of their pages one behind the other, and their footers with every place moved to where its
bytes now stand (Apache Parquet format, parquet.thrift).
"""

import io
from typing import BinaryIO

import pyarrow as pa
import pyarrow.parquet

from ivrell.core.recipe.forms.base import Encoded, Layout, Picks, Writer
from ivrell.core.recipe.forms.thrift import I64, LIST, STRUCT, Reader, Struct, Values, written

_MAGIC = b"PAR1"
_END = 4 + len(_MAGIC)
_NUM_ROWS, _ROW_GROUPS = 3, 4
_COLUMNS, _GROUP_OFFSET, _ORDINAL = 1, 5, 7
_CHUNK_OFFSET, _CHUNK_DATA = 2, 3
_PLACES_OF_CHUNK = (9, 10, 11, 14)
"""Of a column's data: its data page, index page, dictionary page and Bloom filter."""


class Parquet:
    """Apache Parquet, one row group a block."""

    suffix = "parquet"
    text = False
    appended = False
    nests = True
    most_rows: int | None = None
    codecs: tuple[str, ...] = ("zstd", "snappy", "gzip", "lz4", "none")

    def head(self, layout: Layout) -> bytes:
        return b""

    def encode(self, batch: pa.RecordBatch, layout: Layout, picks: Picks) -> Encoded:
        file = io.BytesIO()
        codec = layout.codec or self.codecs[0]
        with pyarrow.parquet.ParquetWriter(file, layout.schema, compression=codec) as writer:
            writer.write_table(pa.Table.from_batches([batch]))
        return file.getvalue()

    def writer(self, sink: BinaryIO, layout: Layout) -> Writer:
        return _Joined(sink, layout)


class _Joined:
    """One file of many: their row groups behind each other, and one footer."""

    def __init__(self, sink: BinaryIO, layout: Layout) -> None:
        self._sink, self._layout = sink, layout
        self._at = sink.write(_MAGIC)
        self._whole: Struct | None = None

    def add(self, encoded: Encoded) -> None:
        data = memoryview(encoded)
        length = int.from_bytes(data[-_END : -len(_MAGIC)], "little")
        footer = Reader(bytes(data[-_END - length : -_END])).record()
        pages = data[len(_MAGIC) : -_END - length]
        groups = footer[_ROW_GROUPS][1]
        if self._whole is None:
            self._whole = {**footer, _ROW_GROUPS: (LIST, Values(STRUCT, [])), _NUM_ROWS: (I64, 0)}
        known = self._whole[_ROW_GROUPS][1].values
        for group in groups.values:
            _move(group, self._at - len(_MAGIC), len(known))
            known.append(group)
        self._whole[_NUM_ROWS] = (I64, self._whole[_NUM_ROWS][1] + footer[_NUM_ROWS][1])
        self._sink.write(pages)
        self._at += len(pages)

    def close(self) -> None:
        if self._whole is None:
            empty = pa.RecordBatch.from_pylist([], self._layout.schema)
            self.add(Parquet().encode(empty, self._layout, []))
        assert self._whole is not None
        footer = written(self._whole)
        self._sink.write(footer + len(footer).to_bytes(4, "little") + _MAGIC)
        self._sink.flush()


def _move(group: Struct, by: int, ordinal: int) -> None:
    """Let a row group stand farther behind, and be the one of that number."""
    if _GROUP_OFFSET in group:
        group[_GROUP_OFFSET] = (I64, group[_GROUP_OFFSET][1] + by)
    if _ORDINAL in group:
        group[_ORDINAL] = (group[_ORDINAL][0], ordinal)
    for chunk in group[_COLUMNS][1].values:
        if chunk[_CHUNK_OFFSET][1]:
            chunk[_CHUNK_OFFSET] = (I64, chunk[_CHUNK_OFFSET][1] + by)
        data = chunk[_CHUNK_DATA][1]
        for place in _PLACES_OF_CHUNK:
            if place in data:
                data[place] = (I64, data[place][1] + by)
