"""Answers of any table library as one Arrow table; loads nothing that is not needed."""

from __future__ import annotations

import traceback
from collections.abc import Callable, Collection, Iterable, Mapping
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ivrell.core.tasks.buckets import are_buckets, in_buckets
from ivrell.core.tasks.rows import Rows
from ivrell.core.tasks.task import ApproachFailed

if TYPE_CHECKING:
    import pyarrow as pa

ACCEPTED = (
    "a table of pandas, Polars, PyArrow or any library that gives its tables as Arrow or computes "
    "them when asked, a list of dicts, a dict of columns, the path of a csv, parquet or xlsx file, "
    "or a dict of such tables by the name of a bucket"
)
ARROW_FIRST = ("duckdb", "datafusion", "ibis", "narwhals", "daft", "dask")
"""Libraries whose tables come out as Arrow, which is loaded before the clock starts for them."""

_HOLDING = ("builtins", "collections", "pyarrow", "pandas", "polars", "numpy", "ivrell")
_COMPUTING = (
    "to_arrow_table", "to_pyarrow", "to_arrow", "toArrow", "read_all", "collect", "compute",
)  # fmt: skip
"""Methods by which libraries compute a table, the nearest to an Arrow table first."""


def how_to_force(answer: Any) -> Callable[[], object] | None:
    """What computes an answer that is still lazy, or None when it is there in full.

    A lazy one is of any library but those whose tables hold their values, and has one of the
    methods that compute a table, or gives itself as Arrow or as an array; or it is an iterator, or
    makes its rows only when somebody goes over them; or a dict that holds such.
    """
    module = type(answer).__module__.split(".")[0]
    if module not in _HOLDING or _reads_on(answer):
        for name in _COMPUTING:
            if callable(how := getattr(answer, name, None)):
                return partial(_computed, answer, how)
        if gives := _protocol(answer):
            return lambda: gives(answer)
    if hasattr(answer, "__next__") or _made_when_asked(answer, module):
        return lambda: list(answer)
    if isinstance(answer, Mapping):
        lazy = {name: how for name, part in answer.items() if (how := how_to_force(part))}
        if lazy:
            return lambda: {n: lazy[n]() if n in lazy else part for n, part in answer.items()}
    return None


def _computed(answer: object, how: Callable[[], object]) -> object:
    """What a method computes, computed in turn where that is lazy and of another kind."""
    found = how()
    further = how_to_force(found) if type(found) is not type(answer) else None
    return further() if further else found


def _reads_on(answer: object) -> bool:
    """Whether it is of a library whose tables hold their values, but no such table."""
    return type(answer).__name__ in ("LazyFrame", "RecordBatchReader")


def _protocol(answer: object) -> Callable[[Any], object] | None:
    """How a table or an array is taken that says by a protocol what it holds."""
    if hasattr(answer, "__arrow_c_stream__") or hasattr(answer, "__arrow_c_array__"):
        return _by_arrow
    if hasattr(answer, "__dataframe__"):
        return _by_interchange
    if hasattr(answer, "__array__"):
        return _by_array
    return None


def _by_arrow(answer: Any) -> pa.Table:
    import pyarrow as pa

    if hasattr(answer, "__arrow_c_stream__"):
        return pa.RecordBatchReader.from_stream(answer).read_all()
    return pa.Table.from_batches([pa.record_batch(answer)])


def _by_interchange(answer: Any) -> pa.Table:
    from pyarrow.interchange import from_dataframe

    return from_dataframe(answer)


def _by_array(answer: Any) -> Any:
    import numpy as np

    return np.asarray(answer)


def _made_when_asked(answer: Any, module: str) -> bool:
    """Whether an answer is only gone over once, by a method that may do the work: neither a
    collection of Python's nor a table of a library."""
    if module in _HOLDING or isinstance(answer, (Collection, Path)):
        return False
    return hasattr(type(answer), "__iter__")


def to_arrow(answer: object) -> pa.Table:
    """The answer as an Arrow table.

    Raises ApproachFailed when there is no answer or it is no table.
    """

    if answer is None:
        raise ApproachFailed("no answer", f"The approach returned nothing. Return {ACCEPTED}.")
    try:
        table = _convert(answer)
    except Exception as error:
        # Whatever a library or the lane's own class raises here is the lane's.
        kind = type(answer)
        home = "" if kind.__module__ == "builtins" else f"{kind.__module__}."
        raise ApproachFailed(
            "answer cannot be read",
            f"The answer (of type {home}{kind.__qualname__}) could not be made into a "
            f"table: {error or type(error).__name__}",
            trace="".join(traceback.format_exception(error, limit=-20))[-8000:],
        ) from error
    names = table.column_names
    repeated = sorted({name for name in names if names.count(name) > 1})
    if repeated:
        raise ApproachFailed(
            "answer cannot be read",
            f"The answer has more than one column called {', '.join(repeated)}.",
        )
    return table


def _convert(answer: Any) -> pa.Table:
    import pyarrow as pa

    module = type(answer).__module__.split(".")[0]
    if isinstance(answer, pa.Table):
        return answer
    if isinstance(answer, pa.RecordBatch):
        return pa.Table.from_batches([answer])
    if isinstance(answer, pa.RecordBatchReader):
        return answer.read_all()
    if module == "polars" and type(answer).__name__ == "Series":
        answer = answer.to_frame()
    if module == "numpy":
        answer = _named_columns(answer)
    if isinstance(answer, Rows) or (module == "polars" and hasattr(answer, "to_arrow")):
        return answer.to_arrow()
    if module == "pandas":
        frame = answer.to_frame() if type(answer).__name__ == "Series" else answer
        if any(name is not None for name in frame.index.names):
            frame = frame.reset_index()
        frame = frame.rename(columns=str)
        return pa.Table.from_pandas(frame, preserve_index=False).replace_schema_metadata(None)
    if isinstance(answer, (str, Path)):
        return _from_file(Path(answer))
    if isinstance(answer, Mapping):
        if are_buckets(answer):
            return in_buckets({str(name): _convert(part) for name, part in answer.items()})
        return pa.table(dict(answer))
    if gives := _protocol(answer):
        return _convert(gives(answer))
    if isinstance(answer, Iterable):
        rows = list(answer)
        if rows and all(isinstance(row, (pa.RecordBatch, pa.Table)) for row in rows):
            return pa.concat_tables([_convert(row) for row in rows])
        if all(isinstance(row, Mapping) for row in rows):
            return pa.Table.from_pylist(rows)
    raise TypeError(f"it is not {ACCEPTED}")


def _named_columns(array: Any) -> dict[str, Any]:
    """The columns of an array of records."""
    if not array.dtype.names:
        raise TypeError(
            f"an array of {array.ndim} dimensions names no columns. Return a dict of columns"
        )
    return {name: array[name] for name in array.dtype.names}


def _from_file(path: Path) -> pa.Table:
    import pyarrow as pa
    import pyarrow.csv
    import pyarrow.parquet

    if not path.exists():
        raise ValueError(f"there is no file {path.name}")
    if path.suffix == ".parquet":
        return pyarrow.parquet.read_table(path)
    if path.suffix == ".csv":
        return pyarrow.csv.read_csv(path)
    if path.suffix == ".xlsx":
        names, *rows = _sheet_rows(path)
        return pa.Table.from_pylist([dict(zip(names, row, strict=True)) for row in rows])
    raise ValueError(f"{path.name} does not end in .csv, .parquet or .xlsx")


def _sheet_rows(path: Path) -> Iterable[tuple[Any, ...]]:
    """Rows of the first sheet of a spreadsheet file, the names of its columns first."""
    import openpyxl

    book = openpyxl.load_workbook(path, read_only=True)
    try:
        return list(book.worksheets[0].iter_rows(values_only=True))
    finally:
        book.close()
