"""Text that a new lane starts with: it runs as it is, on the comparison's first table."""

import json
import re
from typing import Any

from ivrell.core.comparison.model import Comparison
from ivrell.core.engines.registry import ENGINES

_HEAD = """format = "ivrell-comparison/1"
name = {name}
question = ""

[answer]
key = []
order = false
relative = 1e-9
absolute = 0.0

[knobs]
{knobs}
"""

NEW_RECIPE = """[data]
seed = 1

[data.tables.table1]
rows = "{rows}"
columns = [
  { name = "number", kind = "sequence", start = 1 },
]
"""
"""The recipe that a comparison made from nothing starts with: one table, to be named and filled."""


def new_comparison(name: str, recipe: str, *, knobs: str = "") -> str:
    """The text of a comparison without lanes."""
    return _HEAD.format(name=json.dumps(name, ensure_ascii=False), knobs=knobs) + "\n" + recipe


def starting_fields(engine: str, comparison: Comparison, way: str = "") -> dict[str, Any]:
    """A small approach that answers with the row count of the last table, in the first form that
    its engine reads; or in one of the engine's ways."""
    table = list(comparison.data.tables)[-1]
    columns = comparison.data.tables[table].columns
    chosen = ENGINES[engine]
    fields = {"engine": engine, "input": chosen.forms[0] if chosen.forms else "csv"}
    if way:
        return {**fields, **chosen.starting_in(way, table)}
    return {**fields, **chosen.starting(table, columns[0].name if columns else "")}


def fresh_id(name: str, comparison: Comparison) -> str:
    """An id made from a name that no approach has yet."""
    base = re.sub(r"\W+", "_", name.lower(), flags=re.ASCII).strip("_") or "lane"
    base = base if base[0].isalpha() else f"lane_{base}"
    taken = {approach.id for approach in comparison.approach}
    candidate, number = base[:50], 2
    while candidate in taken:
        candidate = f"{base[:50]}_{number}"
        number += 1
    return candidate
