"""What stands in the columns of a sample: counts, range, shape, most frequent values."""

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

_BINS = 24
_TOP = 6


def profile(batch: pa.RecordBatch) -> list[dict[str, Any]]:
    """Describe each column of a batch.

    Returns one dict a column: ``name``, ``type``, ``rows``, ``nulls``, ``distinct``, and
    either ``histogram`` (``edges``, one more than ``counts``; numbers and moments, the
    latter in seconds since 1970) or ``top`` (value and count, most frequent first).
    """
    return [
        _column(name, column)
        for name, column in zip(batch.schema.names, batch.columns, strict=True)
    ]


def _column(name: str, values: pa.Array) -> dict[str, Any]:
    known = values.drop_null()
    found: dict[str, Any] = {
        "name": name,
        "type": str(values.type),
        "rows": len(values),
        "nulls": values.null_count,
        "distinct": len(known.unique()),
        "histogram": None,
        "top": None,
        "smallest": None,
        "largest": None,
    }
    if not len(known):
        return found
    ends = pc.min_max(known)
    found["smallest"], found["largest"] = str(ends["min"]), str(ends["max"])
    if pa.types.is_timestamp(values.type):
        known = pc.divide(known.cast(pa.timestamp("us")).cast(pa.int64()), 1_000_000)
    if pa.types.is_integer(known.type) or pa.types.is_floating(known.type):
        counts, edges = np.histogram(known.to_numpy(zero_copy_only=False), bins=_BINS)
        found["histogram"] = {"counts": counts.tolist(), "edges": edges.tolist()}
        return found
    counted = sorted(
        ((item["counts"].as_py(), str(item["values"])) for item in known.value_counts()),
        key=lambda item: (-item[0], item[1]),
    )
    found["top"] = [{"value": value, "count": count} for count, value in counted[:_TOP]]
    return found
