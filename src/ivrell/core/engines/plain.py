"""Answers of interpreters that have no Arrow: left as JSON, read where Arrow is.

The writing half is standard library only, from Python 3.9 on.
"""

from __future__ import annotations

import datetime as dt
import decimal
import json
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from ivrell.core.tasks.buckets import COLUMN, are_buckets
from ivrell.core.tasks.rows import Rows
from ivrell.core.tasks.task import ApproachFailed

if TYPE_CHECKING:
    import pyarrow as pa

PLAIN = ".answer.json"
_ACCEPTED = "a list of dicts, a dict of columns, or a dict of such lists by the name of a bucket"
_WRITTEN = {dt.datetime: "moment", dt.date: "day", decimal.Decimal: "decimal"}


class Size(NamedTuple):
    """How large an answer is."""

    rows: int
    columns: int
    bytes: int


def leave_plain(answer: object, path: Path) -> Size:
    """Write an answer of plain rows or columns.

    Raises ApproachFailed when it is none.
    """
    columns = _columns(answer)
    counts = {len(values) for values in columns.values()}
    if len(counts) > 1:
        raise ApproachFailed("answer cannot be read", "The answer's columns differ in length.")
    told = [
        {"name": name, "kind": (kind := _kind(values)), "values": _written(values, kind)}
        for name, values in columns.items()
    ]
    path.write_text(json.dumps(told), encoding="utf-8")
    return Size(counts.pop() if counts else 0, len(told), path.stat().st_size)


def read_plain(path: Path) -> pa.Table:
    """Such an answer as an Arrow table."""
    import pyarrow as pa

    read: dict[str, Callable[[str], Any]] = {
        "moment": dt.datetime.fromisoformat,
        "day": dt.date.fromisoformat,
        "decimal": decimal.Decimal,
    }
    found = {}
    for column in json.loads(path.read_text(encoding="utf-8")):
        values = column["values"]
        if back := read.get(column["kind"]):
            values = [None if value is None else back(value) for value in values]
        found[column["name"]] = values
    return pa.table(found)


def _columns(answer: object) -> dict[str, list[Any]]:
    if isinstance(answer, Mapping) and are_buckets(answer):
        answer = [{COLUMN: name, **row} for name, rows in answer.items() for row in rows]
    if isinstance(answer, Mapping):
        return {str(name): list(values) for name, values in answer.items()}
    if isinstance(answer, Iterable):
        rows = list(answer)
        if all(isinstance(row, Mapping) for row in rows):
            names = dict.fromkeys(name for row in rows for name in row)
            return {str(name): [row.get(name) for row in rows] for name in names}
    raise ApproachFailed(
        "answer cannot be read",
        f"The answer (of type {type(answer).__name__}) is not {_ACCEPTED}; this interpreter has "
        "no pyarrow, which would read other tables.",
    )


def _kind(values: list[Any]) -> str:
    first = next((value for value in values if value is not None), None)
    return _WRITTEN.get(type(first), "plain")


def _written(values: list[Any], kind: str) -> list[Any]:
    if kind == "plain":
        return [
            v if v is None or isinstance(v, (bool, int, float, str)) else str(v) for v in values
        ]
    if kind == "decimal":
        return [None if value is None else str(value) for value in values]
    return [None if value is None else value.isoformat() for value in values]


_MOST_PLAIN = 20_000
_PLAIN_TYPES = (bool, int, float, str, dt.datetime, dt.date, decimal.Decimal)
_LEAST_INT, _LARGEST_INT = -(2**63), 2**63 - 1


def plain_columns(answer: object) -> dict[str, list[Any]] | None:
    """A small answer of plain rows or columns as columns that can be left as they are, or None
    where a table library has to look at it: other types, mixed ones, or none at all."""
    if isinstance(answer, Rows):
        rows = answer.rows
        columns = {name: [row[i] for row in rows] for i, name in enumerate(answer.names)}
        if len(columns) < len(answer.names):
            return None
    elif isinstance(answer, list) and answer and all(type(row) is dict for row in answer):
        if len(answer) > _MOST_PLAIN or any(row.keys() != answer[0].keys() for row in answer):
            return None
        columns = {name: [row[name] for row in answer] for name in answer[0]}
    else:
        return None
    if not columns or any(type(name) is not str for name in columns):
        return None
    if len(next(iter(columns.values()))) > _MOST_PLAIN:
        return None
    return columns if all(map(_is_plain, columns.values())) else None


def _is_plain(values: list[Any]) -> bool:
    """Whether a column is of one type that JSON gives back as it was."""
    kinds = {type(value) for value in values} - {type(None)}
    if len(kinds) != 1 or not kinds <= set(_PLAIN_TYPES):
        return False
    kind = kinds.pop()
    if kind is int:
        return all(v is None or _LEAST_INT <= v <= _LARGEST_INT for v in values)
    if kind is dt.datetime:
        # A zone has a name besides its distance, which the written form does not hold.
        return all(v is None or v.tzinfo in (None, dt.timezone.utc) for v in values)  # noqa: UP017
    if kind is decimal.Decimal:
        return all(v is None or v.is_finite() for v in values)
    return kind is not str or all(v is None or _encodes(v) for v in values)


def _encodes(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return True
