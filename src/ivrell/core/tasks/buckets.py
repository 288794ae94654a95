"""An answer in several named parts, such as what was kept and what was rejected."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ivrell.core.tasks.task import ApproachFailed

if TYPE_CHECKING:
    import pyarrow as pa

COLUMN = "bucket"


def in_buckets(tables: Mapping[str, pa.Table]) -> pa.Table:
    """One Arrow table of all buckets' rows, the first column naming the bucket.

    A column that a bucket does not have is null there; a bucket without rows leaves none.
    Raises ApproachFailed where columns of one name cannot stand in one column.
    """
    import pyarrow as pa

    named = []
    for bucket, table in tables.items():
        if COLUMN in table.column_names:
            raise ApproachFailed(
                "answer cannot be read",
                f"The bucket {bucket} has a column called {COLUMN}, which is where the names of "
                "buckets go. Rename it.",
            )
        names = pa.repeat(pa.scalar(bucket), table.num_rows)
        named.append(table.add_column(0, COLUMN, names))
    try:
        return pa.concat_tables(named, promote_options="permissive")
    except pa.ArrowException as error:
        raise ApproachFailed(
            "answer cannot be read", f"The buckets' columns do not fit together: {error}"
        ) from error


def are_buckets(answer: Mapping[str, Any]) -> bool:
    """Whether a mapping holds tables by name, and not columns by name."""
    return bool(answer) and all(map(_is_table, answer.values()))


def _is_table(value: object) -> bool:
    if isinstance(value, Path):
        return True
    if type(value).__name__ in ("DataFrame", "Table", "LazyFrame"):
        return True
    return isinstance(value, list) and bool(value) and all(isinstance(v, Mapping) for v in value)
