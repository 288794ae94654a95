"""Text that a new lane starts with: it runs as it is, on the comparison's first table."""

import re

from ivrell.core.comparison.model import Comparison

_PYTHON = """import polars as pl


def answer(data, knobs, stage):
    with stage("read"):
        {table} = pl.scan_csv(data.{table})
    return {table}.select(pl.len().alias("rows"))
"""

_SQL = """SELECT count(*) AS rows
FROM {table}
"""


def starting_code(engine: str, comparison: Comparison) -> str:
    """A small approach that answers with the row count of the largest-looking table."""
    table = list(comparison.data.tables)[-1]
    return (_PYTHON if engine == "python" else _SQL).format(table=table)


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
