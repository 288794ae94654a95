"""What stands in the columns of a table: counts, range, shape, most frequent values.

``profile`` looks at a sample held in memory, while a person types; ``profile_whole`` reads
every row once, a block at a time, in bounded memory.
"""

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from itertools import chain
from queue import Full, Queue
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from ivrell.core.records.profile import Histogram, Profile, Top

_BINS = 24
_FURTHEST_BIN = 1e300
_EXACT = 2.0**51
_TOP = 6
_FEW = 1000
_WAITING_BLOCKS = 2
QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95)


def profile(batch: pa.RecordBatch) -> list[Profile]:
    """Describe each column of a batch."""
    return [
        _column(name, column)
        for name, column in zip(batch.schema.names, batch.columns, strict=True)
    ]


def _column(name: str, values: pa.Array) -> Profile:
    known = values.drop_null()
    found = Profile(
        name=name,
        type=str(values.type),
        rows=len(values),
        nulls=values.null_count,
        distinct=len(known.unique()),
        distinct_exact=True,
    )
    if not len(known):
        return found
    ends = pc.min_max(known)
    found.smallest, found.largest = str(ends["min"]), str(ends["max"])
    if _measured(known.type):
        ordered = known.take(pc.array_sort_indices(known))
        places = np.minimum((np.array(QUANTILES) * len(known)).astype(int), len(known) - 1)
        found.quantiles = [str(ordered[int(place)]) for place in places]
        found.histogram = _histogram(_as_numbers(known))
        return found
    if pa.types.is_string(known.type):
        lengths = pc.utf8_length(known)
        ends = pc.min_max(lengths)
        found.lengths = [ends["min"].as_py(), pc.mean(lengths).as_py(), ends["max"].as_py()]
    counted = sorted(
        ((item["counts"].as_py(), str(item["values"])) for item in known.value_counts()),
        key=lambda item: (-item[0], item[1]),
    )
    found.top = [Top(value=value, count=count) for count, value in counted[:_TOP]]
    return found


def _histogram(values: NDArray[np.float64]) -> Histogram | None:
    """Counts between edges, of the values that have an end; None where there are none."""
    values = np.asarray(values, dtype=np.float64)
    values = values[np.abs(values) <= _FURTHEST_BIN]
    if not len(values):
        return None
    low, high = float(values.min()), float(values.max())
    if are_whole(values):
        edges = whole_edges(low, high)
    else:
        if high - low <= _BINS * np.spacing(max(abs(low), abs(high))):
            # Too near each other for floats to lie between.
            low, high = low - max(abs(low) * 1e-9, 0.5), high + max(abs(high) * 1e-9, 0.5)
        edges = np.linspace(low, high, _BINS + 1)
    counts, _ = np.histogram(values, bins=edges)
    return Histogram(counts=counts.tolist(), edges=edges.tolist())


def are_whole(values: NDArray[np.float64]) -> bool:
    """Whether numbers are all whole, and small enough for floats to lie between them."""
    return bool(np.all(np.abs(values) < _EXACT) and np.all(values == np.floor(values)))


def whole_edges(low: float, high: float) -> NDArray[np.float64]:
    """Edges of bins that each hold as many whole numbers, from ``low`` to ``high`` or a bit more;
    others would hold now one more, now one less, and draw a comb."""
    width = max(1, -(-int(high - low + 1) // _BINS))
    bins = -(-int(high - low + 1) // width)
    return low - 0.5 + width * np.arange(bins + 1, dtype=np.float64)


def _measured(kind: pa.DataType) -> bool:
    """Whether values of a type lie on an axis."""
    return bool(
        pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_timestamp(kind)
    )


def _as_numbers(known: pa.Array) -> Any:
    if pa.types.is_timestamp(known.type):
        known = pc.divide(known.cast(pa.timestamp("us")).cast(pa.int64()), 1_000_000)
    return known.to_numpy(zero_copy_only=False)


def profile_whole(sample: pa.RecordBatch, blocks: Iterator[pa.RecordBatch]) -> list[Profile]:
    """The same of all rows, read once: counts, nulls, ends and lengths are exact; different
    values and quantiles are estimated (by the sketches of DuckDB's ``approx_count_distinct``
    and ``approx_quantile``); the bins are those of the sample, the outer ones without end.
    The most frequent values are counted where the sample has at most a thousand different
    ones, and are null elsewhere.
    """
    import duckdb

    described = profile(sample)
    asked = [_asked(column, sample.schema.field(column.name).type) for column in described]
    waiting: Queue[pa.RecordBatch | None] = Queue(_WAITING_BLOCKS)

    def ask() -> tuple[Any, ...]:
        reader = pa.RecordBatchReader.from_batches(sample.schema, iter(waiting.get, None))
        with duckdb.connect() as db:
            db.execute("SET enable_progress_bar = false")
            db.execute("SET TimeZone = 'UTC'")
            db.register("everything", reader)
            told = db.execute(f"SELECT {', '.join(asked)}, count(*) FROM everything").fetchone()
        assert told is not None
        return told

    # The blocks are drawn in this thread, not in one of the engine's own: what is told on the
    # way may belong to the caller's thread alone.
    with ThreadPoolExecutor(1) as thread:
        asking = thread.submit(ask)
        for block in chain(blocks, [None]):
            while not asking.done():
                with suppress(Full):
                    waiting.put(block, timeout=0.2)
                    break
        told = asking.result()
    return [_told(column, told[i], told[-1]) for i, column in enumerate(described)]


def _asked(column: Profile, kind: pa.DataType) -> str:
    name = '"' + column.name + '"'
    fields = {
        "known": f"count({name})",
        "distinct": f"approx_count_distinct({name})",
        "smallest": f"min({name})::VARCHAR",
        "largest": f"max({name})::VARCHAR",
    }
    if column.histogram:
        # Moments are sketched as seconds: their quantiles come back as such.
        number = f"epoch({name})" if pa.types.is_timestamp(kind) else name
        edges = ", ".join(f"{edge!r}::DOUBLE" for edge in column.histogram.edges[1:-1])
        fields["bins"] = f"map_values(histogram({number}::DOUBLE, [{edges}]))"
        fields["quantiles"] = f"approx_quantile({number}, {list(QUANTILES)})"
    if column.lengths:
        length = f"length({name})"
        fields["lengths"] = f"[min({length}), avg({length}), max({length})]"
    if column.top and column.distinct <= _FEW:
        fields["top"] = f"histogram({name}::VARCHAR)"
    return "{" + ", ".join(f"'{key}': {value}" for key, value in fields.items()) + "}"


def _told(column: Profile, found: dict[str, Any], rows: int) -> Profile:
    """The profile of a sample's column with what the whole table told of it."""
    whole = column.model_copy(
        update={
            "rows": rows,
            "nulls": rows - found["known"],
            "distinct": found["distinct"],
            "distinct_exact": False,
            "smallest": found["smallest"],
            "largest": found["largest"],
            "lengths": list(found["lengths"]) if "lengths" in found else None,
            "top": None,
        }
    )
    if "top" in found:
        counted = sorted((found["top"] or {}).items(), key=lambda item: (-item[1], item[0]))
        whole.distinct, whole.distinct_exact = len(counted), True
        whole.top = [Top(value=value, count=count) for value, count in counted[:_TOP]]
    if "bins" in found and column.histogram:
        edges = column.histogram.edges
        whole.histogram = Histogram(counts=_full(found["bins"], len(edges) - 1), edges=edges)
        quantiles = found["quantiles"] or []
        if column.type.startswith("timestamp"):
            quantiles = [np.datetime64(int(q), "s").item() for q in quantiles]
        whole.quantiles = [str(q) for q in quantiles]
    return whole


def _full(bins: list[int] | None, size: int) -> list[int]:
    """Counts of all bins: the engine leaves the last one out when nothing fell into it."""
    found = [int(count) for count in bins or []]
    return found + [0] * (size - len(found))
