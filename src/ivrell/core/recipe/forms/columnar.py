"""Forms that keep the values of a column together."""

from typing import BinaryIO

import pyarrow as pa

from ivrell.core.recipe.forms.base import Encoded, Layout, Picks, Writer


class _Batches:
    """What forms share that are put together from record batches."""

    text = False
    appended = False
    most_rows: int | None = None
    nests = True

    def head(self, layout: Layout) -> bytes:
        return b""

    def encode(self, batch: pa.RecordBatch, layout: Layout, picks: Picks) -> Encoded:
        return batch


class _ArrowWriter:
    def __init__(self, sink: BinaryIO, layout: Layout, codec: str, *, stream: bool) -> None:
        options = pa.ipc.IpcWriteOptions(compression=None if codec == "none" else codec)
        new = pa.ipc.new_stream if stream else pa.ipc.new_file
        self._writer = new(sink, layout.schema, options=options)

    def add(self, encoded: Encoded) -> None:
        self._writer.write_batch(encoded)

    def close(self) -> None:
        self._writer.close()


class Arrow(_Batches):
    """Arrow's own file format; not compressed it can be mapped into memory as it is."""

    suffix = "arrow"
    codecs: tuple[str, ...] = ("none", "lz4", "zstd")

    def writer(self, sink: BinaryIO, layout: Layout) -> Writer:
        return _ArrowWriter(sink, layout, layout.codec or self.codecs[0], stream=False)


class ArrowStream(_Batches):
    """Arrow's stream format: the same batches, to be read from front to back alone."""

    suffix = "arrows"
    codecs: tuple[str, ...] = Arrow.codecs

    def writer(self, sink: BinaryIO, layout: Layout) -> Writer:
        return _ArrowWriter(sink, layout, layout.codec or self.codecs[0], stream=True)


class _OrcWriter:
    def __init__(self, sink: BinaryIO, codec: str) -> None:
        # Loaded by those who write it alone.
        from pyarrow import orc

        self._writer = orc.ORCWriter(sink, compression=codec)

    def add(self, encoded: Encoded) -> None:
        self._writer.write(pa.Table.from_batches([encoded]))

    def close(self) -> None:
        self._writer.close()


class Orc(_Batches):
    """Apache ORC."""

    suffix = "orc"
    codecs: tuple[str, ...] = ("zstd", "snappy", "zlib", "lz4", "uncompressed")

    def writer(self, sink: BinaryIO, layout: Layout) -> Writer:
        return _OrcWriter(sink, layout.codec or self.codecs[0])
