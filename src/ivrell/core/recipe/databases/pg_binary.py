"""Blocks in PostgreSQL's binary COPY format (PostgreSQL documentation, COPY, File Formats).

Each value is put where it belongs in one buffer of bytes by whole columns: no row becomes a
Python object.
"""

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

HEADER = b"PGCOPY\n\xff\r\n\0" + bytes(8)
TRAILER = b"\xff\xff"
_DAYS_TO_2000 = 10_957
_MICROSECONDS_TO_2000 = _DAYS_TO_2000 * 86_400 * 1_000_000

Bytes = NDArray[np.uint8]
Places = NDArray[np.int64]


def encode(batch: pa.RecordBatch) -> bytes:
    """The rows of a batch, without header and trailer: int64, float64, boolean, date,
    timestamp and text columns with their nulls."""
    fields = [_Field(column) for column in batch.columns]
    lengths = np.full(batch.num_rows, 2 + 4 * len(fields), dtype=np.int64)
    for field in fields:
        lengths += field.lengths
    ends = np.cumsum(lengths)
    buffer = np.zeros(int(ends[-1]) if len(ends) else 0, dtype=np.uint8)
    at = ends - lengths
    buffer[at] = len(fields) >> 8
    buffer[at + 1] = len(fields) & 255
    at += 2
    for field in fields:
        field.put(buffer, at)
        at += 4 + field.lengths
    return buffer.tobytes()


class _Field:
    """One column: bytes of each value, and where there is none."""

    def __init__(self, column: pa.Array) -> None:
        self._missing = (
            column.is_null().to_numpy(zero_copy_only=False) if column.null_count else None
        )
        self._fixed: Bytes | None = None
        if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
            text = pc.fill_null(column.cast(pa.string()), "")
            offsets, data = text.buffers()[1:3]
            ends = np.frombuffer(offsets, dtype=np.int32)[
                text.offset : text.offset + len(text) + 1
            ].astype(np.int64)
            self.lengths: Places = np.diff(ends)
            whole = np.frombuffer(data, dtype=np.uint8) if data else np.zeros(0, np.uint8)
            self._text = whole[ends[0] : ends[-1]]
        else:
            self._fixed = _fixed(column)
            width = self._fixed.shape[1]
            self.lengths = np.full(len(column), width, dtype=np.int64)
            if self._missing is not None:
                self.lengths[self._missing] = 0

    def put(self, buffer: Bytes, at: Places) -> None:
        """Write length and value of each row, from byte ``at`` of its row on."""
        told = self.lengths if self._missing is None else np.where(self._missing, -1, self.lengths)
        counts = told.astype(">i4").view(np.uint8).reshape(-1, 4)
        for position in range(4):
            if counts[:, position].any():
                buffer[at + position] = counts[:, position]
        start = at + 4
        if self._fixed is None:
            before = np.cumsum(self.lengths) - self.lengths
            buffer[np.repeat(start - before, self.lengths) + np.arange(len(self._text))] = (
                self._text
            )
            return
        values = self._fixed
        if self._missing is not None:
            start, values = start[~self._missing], values[~self._missing]
        for position in range(values.shape[1]):
            buffer[start + position] = values[:, position]


def _fixed(column: pa.Array) -> Bytes:
    """Values of a fixed size as big-endian bytes, one row each; anything where null."""
    kind = column.type
    if pa.types.is_boolean(kind):
        numbers = pc.fill_null(column, False).cast(pa.uint8()).to_numpy(zero_copy_only=False)
        truth: Bytes = numbers.reshape(-1, 1)
        return truth
    if pa.types.is_date32(kind):
        days = pc.fill_null(column.cast(pa.int32()), 0).to_numpy(zero_copy_only=False)
        return _big_endian((days - _DAYS_TO_2000).astype(np.int32), ">i4")
    if pa.types.is_timestamp(kind):
        moments = pc.fill_null(column.cast(pa.timestamp("us")).cast(pa.int64()), 0)
        numbers = moments.to_numpy(zero_copy_only=False) - _MICROSECONDS_TO_2000
        return _big_endian(numbers, ">i8")
    if pa.types.is_integer(kind):
        whole = pc.fill_null(column.cast(pa.int64()), 0)
        return _big_endian(whole.to_numpy(zero_copy_only=False), ">i8")
    real = pc.fill_null(column.cast(pa.float64()), 0.0)
    return _big_endian(real.to_numpy(zero_copy_only=False), ">f8")


def _big_endian(numbers: NDArray[np.generic], kind: str) -> Bytes:
    swapped = np.ascontiguousarray(numbers).astype(kind)
    found: Bytes = swapped.view(np.uint8).reshape(len(numbers), -1)
    return found
