"""Rows as Avro's object container files keep them."""

import io
from typing import BinaryIO

import pyarrow as pa

from ivrell.core.recipe.forms.base import Appended, Layout, Picks, Writer

_SYNC_BYTES = 16


class Avro:
    """Avro object container file, a block of it for each of ours; columns may be null, moments are
    local ones in microseconds."""

    suffix = "avro"
    text = False
    appended = True
    codecs: tuple[str, ...] = ("none", "snappy", "deflate")
    most_rows: int | None = None
    nests = True

    def head(self, layout: Layout) -> bytes:
        whole = _written(pa.RecordBatch.from_pylist([], layout.schema), layout)
        # Behind it comes a block of no rows: their number, their bytes, and what parts blocks.
        return whole[: len(whole) - 2 - _SYNC_BYTES]

    def encode(self, batch: pa.RecordBatch, layout: Layout, picks: Picks) -> bytes:
        return _written(batch, layout)[len(self.head(layout)) :]

    def writer(self, sink: BinaryIO, layout: Layout) -> Writer:
        return Appended(sink)


def _written(batch: pa.RecordBatch, layout: Layout) -> bytes:
    """A whole file of a batch. Blocks of several can follow each other behind the head of one,
    since what parts them is the same in all."""
    # Loaded by those who write it alone.
    import polars as pl

    columns = [
        column.cast(pa.timestamp("us")) if pa.types.is_timestamp(column.type) else column
        for column in batch.columns
    ]
    frame = pl.from_arrow(pa.Table.from_arrays(columns, names=batch.schema.names))
    assert isinstance(frame, pl.DataFrame)
    file = io.BytesIO()
    codec = "uncompressed" if layout.codec in (None, "none") else layout.codec
    frame.rechunk().write_avro(file, compression=codec, name=layout.table)  # type: ignore[arg-type]
    return file.getvalue()
