"""Answers in one shape, so that two of them can be held side by side."""

import json
from collections.abc import Iterable

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

_MOST_INT64 = 2**63
_MICROSECOND_NS = 1000
_SEED = 7_302
_AT_ONCE = 1 << 20
_MIXERS = (
    (np.uint64(32), np.uint64(0xD6E8FEB86659FD93)),
    (np.uint64(29), np.uint64(0xBF58476D1CE4E5B9)),
)

MOST_DIGITS = 38
"""Digits of a decimal number in Arrow's usual width."""


def canonical(table: pa.Table) -> pa.Table:
    """The same values in plain types: integers as int64 where they fit (else decimals), floats as
    float64, text, dictionaries and readable bytes as large text, days and moments as moments
    without a zone (UTC) in microseconds, or nanoseconds where they have them, nested values as
    text.

    Columns that are plain already are not copied. What the engine's own type was is told by
    ``type_word`` of the table as it came.
    """
    columns = [plain(column) for column in table.columns]
    return pa.table(dict(zip(table.column_names, columns, strict=True)))


def plain(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """One column in its plain type; see ``canonical``."""
    kind = column.type
    if pa.types.is_dictionary(kind):
        return plain(column.cast(kind.value_type))
    if pa.types.is_uint64(kind):
        largest = pc.max(column).as_py()
        return column.cast(pa.int64() if (largest or 0) < _MOST_INT64 else pa.decimal128(20))
    if pa.types.is_integer(kind):
        return column.cast(pa.int64())
    if pa.types.is_floating(kind):
        return column.cast(pa.float64())
    if is_text(kind):
        return column.cast(pa.large_string())
    if _is_bytes(kind):
        return _text_of_bytes(column)
    if pa.types.is_date(kind) or pa.types.is_timestamp(kind):
        return _moments(column)
    if pa.types.is_decimal256(kind):
        # Wider than what can be laid side by side, where it has to be so wide.
        narrow = pa.decimal128(MOST_DIGITS, kind.scale)
        return column.cast(narrow if fits(column, narrow) else pa.large_string())
    if pa.types.is_nested(kind):
        told = [None if v is None else json.dumps(v, default=str) for v in column.to_pylist()]
        return pa.chunked_array([pa.array(told, pa.large_string())])
    return column


def fits(column: pa.ChunkedArray, kind: pa.DataType) -> bool:
    """Whether every value of a column can be one of another type."""
    try:
        column.cast(kind)
    except pa.ArrowException:
        return False
    return True


def is_text(kind: pa.DataType) -> bool:
    """Whether a type is text, in whatever layout."""
    return bool(
        pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_string_view(kind)
    )


def _is_bytes(kind: pa.DataType) -> bool:
    return bool(
        pa.types.is_binary(kind)
        or pa.types.is_large_binary(kind)
        or pa.types.is_binary_view(kind)
        or pa.types.is_fixed_size_binary(kind)
    )


def _text_of_bytes(column: pa.ChunkedArray) -> pa.ChunkedArray:
    try:
        return column.cast(pa.large_binary()).cast(pa.large_string())
    except pa.ArrowException:
        told = [None if value is None else value.hex() for value in column.to_pylist()]
        return pa.chunked_array([pa.array(told, pa.large_string())])


def _moments(column: pa.ChunkedArray) -> pa.ChunkedArray:
    kind = column.type
    if pa.types.is_timestamp(kind) and kind.tz is not None:
        # The number of a moment with a zone counts from 1970 in UTC; only the label goes.
        column = column.cast(pa.timestamp(kind.unit))
    if pa.types.is_timestamp(kind) and kind.unit == "ns" and _finer_than_us(column):
        return column
    return column.cast(pa.timestamp("us"), safe=False)


def _finer_than_us(column: pa.ChunkedArray) -> bool:
    counts = column.cast(pa.int64())
    whole = pc.multiply(pc.divide(counts, _MICROSECOND_NS), _MICROSECOND_NS)
    return bool(pc.any(pc.not_equal(counts, whole)).as_py())


def type_word(kind: pa.DataType) -> str:
    """The family of a type in one word: what a reader calls it."""
    if pa.types.is_dictionary(kind):
        return type_word(kind.value_type)
    if pa.types.is_timestamp(kind):
        return "timestamp" if kind.tz is None else "timestamp with zone"
    if pa.types.is_list(kind) or pa.types.is_large_list(kind):
        return f"list of {type_word(kind.value_type)}"
    families = (
        (pa.types.is_boolean, "boolean"),
        (pa.types.is_integer, "integer"),
        (pa.types.is_floating, "float"),
        (pa.types.is_decimal, "decimal"),
        (is_text, "text"),
        (_is_bytes, "bytes"),
        (pa.types.is_date, "date"),
        (pa.types.is_null, "nothing but nulls"),
    )
    return next((word for test, word in families if test(kind)), str(kind))


def column_hash(column: pa.ChunkedArray, seed: int = _SEED) -> NDArray[np.uint64]:
    """A 64-bit hash of each value of a plain column: nulls alike, not-a-number alike, zeros of
    either sign alike. Shape (rows,)."""
    if pa.types.is_null(column.type):
        return np.full(len(column), seed, dtype=np.uint64)
    series = pl.from_arrow(column)
    assert isinstance(series, pl.Series)
    found: NDArray[np.uint64] = series.hash(seed).to_numpy()
    return found


def row_hash(
    columns: Iterable[pa.ChunkedArray], rows: int, seed: int = _SEED
) -> NDArray[np.uint64]:
    """A 64-bit hash of each row over these columns, in their order. Shape (rows,)."""
    total = np.full(rows, seed, dtype=np.uint64)
    for column in columns:
        total *= np.uint64(0x9E3779B97F4A7C15)
        total ^= column_hash(column, seed)
        # Bits of the high half reach the low half, or a product would never bring them down.
        total ^= total >> np.uint64(29)
    return total


def fingerprint(table: pa.Table) -> str:
    """Hash of a canonical table's values, whatever the order of its rows and columns.

    Equal answers give equal fingerprints; nearly equal ones do not. It holds two sums over all
    rows' hashes, mixed in two ways, with names, types and the row count: one pass, no sorting.
    32 hexadecimal digits.
    """
    names = sorted(table.column_names)
    hashes = row_hash((table.column(name) for name in names), table.num_rows)
    kinds = repr([(name, str(table.schema.field(name).type), table.num_rows) for name in names])
    label = pl.Series([kinds, kinds[::-1]]).hash(_SEED).to_list()
    first, second = sums_of(hashes)
    return f"{(first + label[0]) % 2**64:016x}{(second + label[1]) % 2**64:016x}"


def sums_of(hashes: NDArray[np.uint64]) -> tuple[int, int]:
    """Two sums over row hashes that do not depend on their order. Each hash is mixed again
    first: in sums of plain hashes two changes could cancel out."""
    found = []
    for shift, factor in _MIXERS:
        total = 0
        for start in range(0, len(hashes), _AT_ONCE):
            mixed = hashes[start : start + _AT_ONCE]
            mixed = (mixed ^ (mixed >> shift)) * factor
            total += int((mixed ^ (mixed >> shift)).sum(dtype=np.uint64))
        found.append(total % 2**64)
    return found[0], found[1]
