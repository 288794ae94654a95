"""Answers that stay where Spark writes them. Standard library only when loaded."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pyarrow as pa

PARTS = ".answer-parts"
"""Folder of an answer's files, in the run's own or on a storage."""

STORED = b"ivrell.stored"
"""In the Arrow schema of what is handed over: it only tells of rows that are elsewhere."""


@dataclass(frozen=True)
class Written:
    """An answer that executors wrote, and where."""

    address: str


def written(frame: Any, folder: Path, storage: str) -> Written:
    """Have the executors write an answer; of several calls the last one stays."""
    address = f"{storage or folder.as_uri()}/{PARTS}"
    frame.write.mode("overwrite").parquet(address)
    return Written(address)


def hashed(frame: Any) -> Any:
    """A DataFrame's rows as one column of 64-bit hashes: nulls, zeros of either sign and
    not-a-number alike, a null unlike any value."""
    from pyspark.sql import functions as F

    parts = []
    for name in frame.columns:
        value = F.col(f"`{name}`")
        parts += [value.isNull(), plain(frame, name)]
    return frame.select(F.xxhash64(*parts).alias("hash"))


def plain(frame: Any, name: str) -> Any:
    """A column in the plain type that answers are held against each other in."""
    from pyspark.sql import functions as F
    from pyspark.sql import types as T

    kind, value = frame.schema[name].dataType, F.col(f"`{name}`")
    if isinstance(kind, T.IntegralType):
        return value.cast("bigint")
    if isinstance(kind, T.FractionalType) and not isinstance(kind, T.DecimalType):
        number = value.cast("double")
        # Zero of either sign is one value, as everywhere.
        return F.when(number == 0.0, F.lit(0.0)).otherwise(number)
    if isinstance(kind, (T.DateType, T.TimestampType, T.TimestampNTZType)):
        # The number of a moment counts from 1970 in UTC, which is the session's zone.
        return value.cast("timestamp_ntz")
    if isinstance(kind, (T.ArrayType, T.MapType, T.StructType)):
        return F.to_json(value)
    if isinstance(kind, T.BinaryType):
        return F.coalesce(F.decode(value, "UTF-8"), F.lower(F.hex(value)))
    return value


def digest(frame: Any) -> tuple[int, str]:
    """Rows of a DataFrame, and a digest of them that does not depend on their order: two sums over
    all rows' hashes, mixed in two ways. 32 hexadecimal digits."""
    from pyspark.sql import functions as F

    column = F.col("hash")
    wide = "decimal(38,0)"
    told = hashed(frame).agg(
        F.count("*").alias("rows"),
        F.sum(F.xxhash64(column, F.lit(1)).cast(wide)).alias("first"),
        F.sum(F.xxhash64(column, F.lit(2)).cast(wide)).alias("second"),
    ).first()  # fmt: skip
    sums = [int(told[name] or 0) % 2**64 for name in ("first", "second")]
    return int(told["rows"]), f"{sums[0]:016x}{sums[1]:016x}"


def count_rows(frame: Any) -> int:
    """Rows of a DataFrame, each computed whole: a digest of them is made on the way."""
    return digest(frame)[0]


def described(session: Any, answer: Written) -> pa.Table:
    """What is handed over of a written answer: rows, a digest of them, and their types."""
    import pyarrow as pa

    frame = session.read.parquet(answer.address)
    rows, digits = digest(frame)
    told = {
        "rows": pa.array([rows], pa.int64()),
        "digest": pa.array([digits]),
        "columns": pa.array([frame.schema.simpleString()]),
    }
    return pa.table(told).replace_schema_metadata({STORED: str(rows).encode()})


def is_stored(table: pa.Table) -> bool:
    """Whether an answer's file only tells of rows that are elsewhere."""
    return STORED in (table.schema.metadata or {})
