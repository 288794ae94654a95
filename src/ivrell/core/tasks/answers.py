"""Answers of any table library as one Arrow table; loads nothing that is not needed."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ivrell.core.tasks.buckets import are_buckets, in_buckets
from ivrell.core.tasks.rows import Rows
from ivrell.core.tasks.task import ApproachFailed

if TYPE_CHECKING:
    import pyarrow as pa

ACCEPTED = (
    "a table of pandas, Polars or PyArrow, a list of dicts, a dict of columns, "
    "the path of a csv, parquet or xlsx file, or a dict of such tables by the name of a bucket"
)


def how_to_force(answer: Any) -> Callable[[], object] | None:
    """What computes an answer that is still lazy, or None when it is there in full.

    Knows Polars' lazy frames, DuckDB's relations, readers of Arrow's batches, iterators, and what
    makes its rows only when somebody goes over them.
    """
    module = type(answer).__module__.split(".")[0]
    if module == "polars" and type(answer).__name__ == "LazyFrame":
        return answer.collect  # type: ignore[no-any-return]
    if module in ("duckdb", "_duckdb") and hasattr(answer, "to_arrow_table"):
        return answer.to_arrow_table  # type: ignore[no-any-return]
    if module == "pyarrow" and hasattr(answer, "read_all"):
        return answer.read_all  # type: ignore[no-any-return]
    if hasattr(answer, "__next__") or _made_when_asked(answer, module):
        return lambda: list(answer)
    if isinstance(answer, Mapping):
        lazy = {name: how for name, part in answer.items() if (how := how_to_force(part))}
        if lazy:
            return lambda: {n: lazy[n]() if n in lazy else part for n, part in answer.items()}
    return None


def _made_when_asked(answer: Any, module: str) -> bool:
    """Whether an answer is only gone over once, by a method that may do the work: neither a
    collection of Python's nor a table of a library."""
    if module in ("builtins", "collections", "pyarrow", "pandas", "polars", "numpy"):
        return False
    if isinstance(answer, (Collection, Path)) or not hasattr(type(answer), "__iter__"):
        return False
    return not any(hasattr(answer, name) for name in ("__arrow_c_stream__", "__array__"))


def to_arrow(answer: object) -> pa.Table:
    """The answer as an Arrow table.

    Raises ApproachFailed when there is no answer or it is no table.
    """
    import pyarrow as pa

    if answer is None:
        raise ApproachFailed("no answer", f"The approach returned nothing. Return {ACCEPTED}.")
    try:
        table = _convert(answer)
    except (pa.ArrowException, ValueError, TypeError, OSError) as error:
        raise ApproachFailed(
            "answer cannot be read",
            f"The answer (of type {type(answer).__name__}) could not be made into a table: {error}",
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
    if isinstance(answer, Iterable):
        rows = list(answer)
        if rows and all(isinstance(row, (pa.RecordBatch, pa.Table)) for row in rows):
            return pa.concat_tables([_convert(row) for row in rows])
        if all(isinstance(row, Mapping) for row in rows):
            return pa.Table.from_pylist(rows)
    raise TypeError(f"it is not {ACCEPTED}")


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
