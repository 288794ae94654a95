"""A look at a table before it is made: its profile, any of its rows, what it would cost."""

import time
from collections.abc import Callable, Iterator
from typing import Any

import pyarrow as pa

from ivrell.core.base.errors import Stopped
from ivrell.core.recipe.encode import Files
from ivrell.core.recipe.flat import flat
from ivrell.core.recipe.forms import FORMS, size_in
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.making import Progress
from ivrell.core.recipe.malformed import broken_rows
from ivrell.core.recipe.model import BLOCK_ROWS
from ivrell.core.recipe.profile import profile, profile_whole
from ivrell.core.records.profile import LookColumn, LookTable, Profile

PROFILED_ROWS = 10_000
_COST_ROWS = 20_000
_MOST_CELLS = 200_000
"""Values in a sample: of many columns fewer rows are looked at."""
_MOST_CHARACTERS = 20_000_000
_FEWEST_ROWS = 200


def preview(generator: Generator, table: str) -> LookTable:
    """What a table will be, with a profile of a sample of it; quick enough for each key that
    a person presses."""
    recipe = generator.recipe
    sample = generator.sample(table, _rows_for(generator, table, PROFILED_ROWS))
    kinds = {column.name: column for column in recipe.tables[table].columns}
    return LookTable(
        table=table,
        rows=recipe.rows_of(table),
        fingerprint=recipe.fingerprint(table),
        file=recipe.tables[table].file,
        read_as=style.words if (style := recipe.tables[table].csv) else "",
        order=recipe.tables[table].order,
        duplicate_share=recipe.tables[table].repeated_share,
        malformed_share=recipe.tables[table].broken_share,
        duplicates=generator.duplicates(table),
        malformed=broken_rows(recipe, table),
        profiled_rows=sample.num_rows,
        columns=[
            LookColumn(
                name=found.name,
                kind=kinds[found.name].kind_name() if kinds else "as it is",
                settings=_told(kinds[found.name]) if kinds else found.type,
                given=_given(kinds[found.name]) if kinds else {},
                profile=found,
            )
            for found in profile(flat(sample))
        ],
    )


def _rows_for(generator: Generator, table: str, most: int) -> int:
    """Rows of a sample: ``most``, fewer where a row holds much."""
    widths = generator.widths(table)
    room = min(_MOST_CELLS // max(1, len(widths)), _MOST_CHARACTERS // max(1, sum(widths.values())))
    return max(min(most, room), min(most, _FEWEST_ROWS))


def whole_profile(
    generator: Generator,
    table: str,
    *,
    progress: Progress | None = None,
    stopped: Callable[[], bool] | None = None,
) -> list[Profile]:
    """The profile of every row of a table, in bounded memory; see profile_whole.

    Raises Stopped when ``stopped`` says so between two blocks.
    """
    total = generator.recipe.rows_of(table)
    asked = False

    def blocks() -> Iterator[pa.RecordBatch]:
        nonlocal asked
        for index, block in enumerate(generator.read(table), 1):
            if asked := bool(stopped and stopped()):
                return
            yield flat(block)
            if progress:
                progress(table, "profile", min(index * BLOCK_ROWS, total), total)

    found = profile_whole(flat(generator.sample(table, PROFILED_ROWS)), blocks())
    if asked:
        raise Stopped(f"profile of {table}")
    return found


def _given(column: Any) -> dict[str, Any]:
    """The settings of a column as they are written."""
    found: dict[str, Any] = column.model_dump(
        mode="json", by_alias=True, exclude={"name", "kind"}, exclude_unset=True
    )
    return found


def _told(column: Any) -> str:
    settings = column.model_dump(
        mode="json", by_alias=True, exclude={"name", "kind"}, exclude_defaults=True
    )
    if fields := getattr(column, "fields", None):
        settings["fields"] = [f"{field.name} {field.kind}" for field in fields]
    return ", ".join(
        name if value is True else f"{name} {_value(value)}" for name, value in settings.items()
    )


def _value(value: Any) -> str:
    if isinstance(value, dict):
        return " ".join(f"{key} {part}" for key, part in value.items())
    text = " / ".join(map(str, value)) if isinstance(value, list) else str(value)
    return text.removesuffix("T00:00:00")


def rows_from(generator: Generator, table: str, first: int, count: int) -> list[list[str | None]]:
    """Rows from ``first`` on as text, each a list in column order; null stays null. Fewer
    where the table ends."""
    count = min(count, generator.recipe.rows_of(table) - first)
    found: list[list[str | None]] = []
    while count > 0:
        block = generator.block(table, first // BLOCK_ROWS)
        part = flat(block.slice(first % BLOCK_ROWS, count))
        columns = [[None if v is None else str(v) for v in c.to_pylist()] for c in part.columns]
        found += [list(row) for row in zip(*columns, strict=True)]
        first, count = first + part.num_rows, count - part.num_rows
    return found


def costs(generator: Generator, table: str) -> dict[str, dict[str, float]]:
    """For each form that the table can have, estimated bytes on disk and seconds to make it on
    one core, from a sample written to memory."""
    total = generator.recipe.rows_of(table)
    generator.sample(table, 1)  # loads what the first drawing needs, out of the estimate
    began = time.perf_counter()
    sample = generator.sample(table, _rows_for(generator, table, _COST_ROWS))
    drawing = time.perf_counter() - began
    found = {}
    for name, form in FORMS.items():
        if form.most_rows is None or total <= form.most_rows:
            files = Files(generator, table, Input(form=name))
            found[name] = _cost(files, sample, drawing, total)
    return found


def _cost(files: Files, sample: pa.RecordBatch, drawing: float, total: int) -> dict[str, float]:
    form, layout = files.wanted.form, files.layout
    size_in(form, sample.slice(0, 1), layout)
    began = time.perf_counter()
    size = size_in(form, sample, layout)
    seconds = drawing + time.perf_counter() - began
    share = total / max(1, sample.num_rows)
    return {"bytes": round(size * share), "seconds": seconds * share}
