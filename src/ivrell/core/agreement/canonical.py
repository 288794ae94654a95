"""Answers in one shape, so that two of them can be held side by side."""

import hashlib

import pyarrow as pa
import pyarrow.compute as pc


def canonical(table: pa.Table) -> pa.Table:
    """The same values in plain types: integers as int64 where they fit, floats as float64,
    text and dictionaries as large text, moments in microseconds, in chunks joined.

    What the engine's own type was is told by ``drift`` on the table as it came.
    """
    columns = [_plain(column.combine_chunks()) for column in table.columns]
    return pa.table(dict(zip(table.column_names, columns, strict=True)))


def _plain(column: pa.ChunkedArray | pa.Array) -> pa.Array:
    kind = column.type
    if pa.types.is_dictionary(kind):
        return _plain(column.cast(kind.value_type))
    if pa.types.is_uint64(kind) or pa.types.is_integer(kind):
        largest = pc.max(column).as_py() if pa.types.is_uint64(kind) else 0
        column = column.cast(pa.int64() if (largest or 0) < 2**63 else pa.float64())
    elif pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        column = column.cast(pa.float64(), safe=False)
    elif (
        pa.types.is_string(kind) or pa.types.is_string_view(kind) or pa.types.is_large_string(kind)
    ):
        column = column.cast(pa.large_string())
    elif pa.types.is_date(kind) or (pa.types.is_timestamp(kind) and kind.unit != "us"):
        column = column.cast(pa.timestamp("us"), safe=False)
    if isinstance(column, pa.ChunkedArray):
        column = pa.concat_arrays(column.chunks) if column.num_chunks else pa.array([], column.type)
    return column


def type_word(kind: pa.DataType) -> str:
    """The family of a type in one word: what a reader calls it."""
    if pa.types.is_dictionary(kind):
        return type_word(kind.value_type)
    families = (
        (pa.types.is_boolean, "boolean"),
        (pa.types.is_integer, "integer"),
        (pa.types.is_floating, "float"),
        (pa.types.is_decimal, "decimal"),
        (pa.types.is_string, "text"),
        (pa.types.is_large_string, "text"),
        (pa.types.is_string_view, "text"),
        (pa.types.is_date, "date"),
        (pa.types.is_timestamp, "timestamp"),
        (pa.types.is_null, "nothing but nulls"),
    )
    return next((word for test, word in families if test(kind)), str(kind))


def fingerprint(table: pa.Table) -> str:
    """Hash of a canonical table's values, whatever the order of its rows and columns.

    Rows are sorted by all columns first, so equal answers give equal fingerprints; nearly
    equal ones do not. 32 hexadecimal digits.
    """
    names = sorted(table.column_names)
    table = table.select(names)
    sortable = [name for name in names if _sortable(table.schema.field(name).type)]
    if sortable and table.num_rows > 1:
        order = pc.sort_indices(table, sort_keys=[(name, "ascending") for name in sortable])
        table = table.take(order)
    digest = hashlib.sha256(repr([(n, str(table.schema.field(n).type)) for n in names]).encode())
    for name in names:
        column = table.column(name).combine_chunks()
        if isinstance(column, pa.ChunkedArray):
            column = pa.concat_arrays(column.chunks) if column.num_chunks else None
        if column is None:
            continue
        digest.update(f"{name}:{len(column)}:{column.null_count};".encode())
        digest.update(pc.is_null(column).cast(pa.uint8()).to_numpy().tobytes())
        for part in _value_bytes(column):
            digest.update(part)
    return digest.hexdigest()[:32]


def _sortable(kind: pa.DataType) -> bool:
    return not (pa.types.is_nested(kind) or pa.types.is_null(kind))


def _value_bytes(column: pa.Array) -> list[bytes]:
    kind = column.type
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_boolean(kind):
        known = column.drop_null()
        return [known.to_numpy(zero_copy_only=False).tobytes()]
    if pa.types.is_timestamp(kind):
        return [column.drop_null().cast(pa.int64()).to_numpy(zero_copy_only=False).tobytes()]
    if pa.types.is_large_string(kind):
        known = column.drop_null()
        lengths = pc.binary_length(known).to_numpy(zero_copy_only=False).tobytes()
        return [lengths, "".join(known.to_pylist()).encode()]
    return [repr(column.to_pylist()).encode()]
