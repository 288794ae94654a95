"""A look at a table before it is made: its rows, its profile, what it would cost."""

import time
from typing import Any

import pyarrow as pa

from ivrell.core.recipe.forms import FORMS, size_in
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.malformed import broken
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe
from ivrell.core.recipe.profile import profile

_SAMPLE_ROWS = 50_000
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
    generator.sample(table, 1)  # loads what the first drawing needs, out of the estimate
    began = time.perf_counter()
    sample = generator.sample(table, _SAMPLE_ROWS)
    drawing = time.perf_counter() - began
    described = zip(recipe.tables[table].columns, profile(sample), strict=True)
    return {
        "table": table,
        "rows": total,
        "fingerprint": recipe.fingerprint(table),
        "order": recipe.tables[table].order,
        "duplicates": generator.duplicates(table),
        "malformed": sum(broken(recipe, table).values()),
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
        "forms": {name: _cost(name, sample, drawing, total) for name in FORMS},
    }


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
