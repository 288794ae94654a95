"""Tables of files as Spark reads them. Standard library only when loaded."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from ivrell.core.recipe.csv_style import style_from
from ivrell.core.records.wire import TableShape


def reader_for(
    session: Any,
    form: str,
    shape: TableShape | None,
    style: Mapping[str, Any] | None,
    paths: Sequence[str],
) -> Any:
    """A reader of one table.

    Args:
        form: as Spark calls it; of text the types are those of the table's shape.
        style: how its csv is written.
        paths: of its files; where they lie in folders ``column=value``, that is a column too.

    Returns a DataFrameReader.
    """
    reader = session.read.format(form)
    first = Path(paths[0])
    if "=" in first.parent.name:
        reader = reader.option("basePath", str(first.parent.parent))
    if form in ("csv", "json") and shape:
        import pyarrow as pa
        from pyspark.sql.pandas.types import from_arrow_schema

        told = pa.ipc.read_schema(pa.py_buffer(bytes.fromhex(shape.schema)))
        reader = reader.schema(from_arrow_schema(told, prefer_timestamp_ntz=True))
    if form == "csv":
        written = style_from(style)
        reader = reader.options(
            header=written.header, sep=written.delimiter, encoding=written.encoding, escape='"'
        )
        if written.decimal != ".":
            # So alone does Spark read it: as numbers of a country that writes them so.
            reader = reader.option("locale", "de-DE")
    return reader
