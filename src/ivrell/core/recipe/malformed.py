"""Lines broken on purpose, so that one can see what each approach makes of them.

Which lines are broken and how is decided by the recipe's seed; ``broken`` tells the counts
without reading anything back.
"""

from collections import Counter

import numpy as np

from ivrell.core.recipe.generate import seeded
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe

WAYS = ("missing field", "extra field", "open quote", "bad number", "bad encoding")
"""How a line can be broken. An open quote is closed at the end of its line, behind text that
belongs to no field; a bad encoding is a byte that UTF-8 does not have."""


def chosen(recipe: Recipe, table: str, index: int) -> list[tuple[int, str]]:
    """Rows of a block that are broken, counted from its first, and the way of each."""
    share = recipe.tables[table].broken_share
    count = min(BLOCK_ROWS, recipe.rows_of(table) - index * BLOCK_ROWS)
    wanted = round(share * count)
    if not wanted:
        return []
    rng = seeded(recipe.seed, table, "/malformed", index)
    rows = np.sort(rng.permutation(count)[:wanted])
    ways = rng.integers(0, len(WAYS), wanted)
    return [(int(row), WAYS[way]) for row, way in zip(rows, ways, strict=True)]


def broken_rows(recipe: Recipe, table: str) -> int:
    """How many rows of a table are broken, without drawing which."""
    share, total = recipe.tables[table].broken_share, recipe.rows_of(table)
    return total // BLOCK_ROWS * round(share * BLOCK_ROWS) + round(share * (total % BLOCK_ROWS))


def broken(recipe: Recipe, table: str) -> dict[str, int]:
    """How many rows of a table are broken in each way."""
    blocks = -(-recipe.rows_of(table) // BLOCK_ROWS)
    counts = Counter(way for i in range(blocks) for _, way in chosen(recipe, table, i))
    return dict(counts)


def break_lines(encoded: bytes, picks: list[tuple[int, str]], mark: bytes) -> bytes:
    """The bytes of a block with the picked lines broken; ``mark`` stands between fields."""
    if not picks:
        return encoded
    lines = encoded.split(b"\n")
    for row, way in picks:
        lines[row] = _BREAKERS[way](lines[row], mark)
    return b"\n".join(lines)


def _without_last(line: bytes, mark: bytes) -> bytes:
    return line.rpartition(mark)[0] if mark in line else b""


def _with_one_more(line: bytes, mark: bytes) -> bytes:
    return line + mark + b"surplus"


def _open_quote(line: bytes, mark: bytes) -> bytes:
    first, found, rest = line.partition(mark)
    return b'"' + first + b'" astray' + found + rest


def _bad_number(line: bytes, mark: bytes) -> bytes:
    rest, found, _ = line.rpartition(mark)
    return rest + found + b"12..5x"


def _bad_encoding(line: bytes, mark: bytes) -> bytes:
    first, found, rest = line.partition(mark)
    return first + b"\xff" + found + rest


_BREAKERS = dict(
    zip(
        WAYS,
        (_without_last, _with_one_more, _open_quote, _bad_number, _bad_encoding),
        strict=True,
    )
)
