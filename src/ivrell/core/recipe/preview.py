"""A look at a table before it is made: its rows, its profile, what it would cost."""

import time
from typing import Any

import pyarrow as pa

from ivrell.core.recipe.forms import FORMS, size_in
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe
from ivrell.core.recipe.profile import profile

_HEAD, _MIDDLE, _TAIL = 8, 5, 5


def preview(recipe: Recipe, table: str) -> dict[str, Any]:
    """Head, middle and tail of a table as it will be, with a profile of a sample of it
    and an estimate per form.

    Returns plain data: ``rows`` in all, ``columns`` (name, kind, settings, profile),
    ``parts`` (first row number and its rows), ``forms`` (estimated bytes and seconds on
    one core), ``fingerprint``.
    """
    generator = Generator(recipe)
    total = recipe.rows_of(table)
    generator.block(table, 0, most=1)  # loads what the first drawing needs, out of the estimate
    began = time.perf_counter()
    first = generator.block(table, 0)
    drawing = time.perf_counter() - began
    sample = _spread(generator, table, first)
    described = zip(recipe.tables[table].columns, profile(sample), strict=True)
    return {
        "table": table,
        "rows": total,
        "fingerprint": recipe.fingerprint(table),
        "profiled_rows": sample.num_rows,
        "columns": [
            {
                "name": column.name,
                "kind": column.kind_name(),
                "settings": _told(column),
                "profile": p,
            }
            for column, p in described
        ],
        "parts": [
            {"first": start, "rows": _rows(generator, table, start, count)}
            for start, count in _parts(total)
        ],
        "forms": {name: _cost(name, first, drawing, total) for name in FORMS},
    }


def _spread(generator: Generator, table: str, first: pa.RecordBatch) -> pa.RecordBatch:
    """Rows from the beginning, the middle and the end, as many in all as a block holds."""
    blocks = generator.blocks(table)
    if blocks == 1:
        return first
    chosen = sorted({0, blocks // 2, blocks - 1})
    parts = [first if i == 0 else generator.block(table, i) for i in chosen]
    share = BLOCK_ROWS // len(parts)
    ends = [part.slice(0, share) for part in parts[:-1]]
    ends.append(parts[-1].slice(max(0, parts[-1].num_rows - share)))
    return pa.Table.from_batches(ends).combine_chunks().to_batches()[0]


def _told(column: Any) -> str:
    settings = column.model_dump(
        mode="json", by_alias=True, exclude={"name", "kind"}, exclude_defaults=True
    )
    return ", ".join(
        name if value is True else f"{name} {_value(value)}" for name, value in settings.items()
    )


def _value(value: Any) -> str:
    text = " / ".join(map(str, value)) if isinstance(value, list) else str(value)
    return text.removesuffix("T00:00:00")


def _parts(total: int) -> list[tuple[int, int]]:
    if total <= _HEAD + _MIDDLE + _TAIL:
        return [(0, total)]
    return [(0, _HEAD), (total // 2, _MIDDLE), (total - _TAIL, _TAIL)]


def _rows(generator: Generator, table: str, start: int, count: int) -> list[list[str | None]]:
    """Rows as text, each a list in column order; null stays null."""
    found: list[list[str | None]] = []
    while count > 0:
        block = generator.block(table, start // BLOCK_ROWS)
        part = block.slice(start % BLOCK_ROWS, count)
        columns = [[None if v is None else str(v) for v in c.to_pylist()] for c in part.columns]
        found += [list(row) for row in zip(*columns, strict=True)]
        start, count = start + part.num_rows, count - part.num_rows
    return found


def _cost(form: str, sample: pa.RecordBatch, drawing: float, total: int) -> dict[str, float]:
    size_in(form, sample.slice(0, 1))
    began = time.perf_counter()
    size = size_in(form, sample)
    seconds = drawing + time.perf_counter() - began
    share = total / sample.num_rows
    return {"bytes": round(size * share), "seconds": seconds * share}
