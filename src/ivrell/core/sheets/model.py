"""What a sheet approach says. Standard library only."""

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal, TypeVar

Layout = Literal["rows", "helper", "array", "cell"]
Kind = Literal["number", "text", "date", "timestamp"]
Part = Literal["bring", "fill", "calculate", "change", "read", "save"]

PARTS: tuple[Part, ...] = ("bring", "fill", "calculate", "change", "read", "save")
"""What a run does, in order."""


@dataclass(frozen=True, kw_only=True)
class Column:
    """A column of the answer sheet.

    ``layout``: one formula a row ("rows"), the same but left out of the answer ("helper"), one
    array formula over the whole column ("array"), or a single cell ("cell"). ``kind`` says how
    its values are to be read where they are no plain numbers or text.
    """

    __pydantic_config__ = {"extra": "forbid", "str_max_length": 20_000}

    name: str
    formula: str
    layout: Layout = "rows"
    kind: Kind | None = None


@dataclass(frozen=True, kw_only=True)
class Cell:
    """A named cell: an input with a ``value``, or a part of a model with a ``formula``."""

    __pydantic_config__ = {"extra": "forbid", "str_max_length": 20_000}

    name: str
    value: float | str | None = None
    formula: str = ""


@dataclass(frozen=True, kw_only=True)
class Repeat:
    """A repeat table: the cell ``result`` for each of the values 1 to ``times`` (a number, or a
    table: as many as it has rows) of the cell ``input``; its rows are the answer, in columns
    ``input`` and ``result``."""

    __pydantic_config__ = {"extra": "forbid"}

    input: str
    result: str
    times: int | str


@dataclass(frozen=True, kw_only=True)
class Change:
    """What is changed before the sheet is calculated again: a named cell, or a table's column in
    a row (from 1)."""

    __pydantic_config__ = {"extra": "forbid"}

    to: float | str
    cell: str = ""
    table: str = ""
    column: str = ""
    row: int = 1


@dataclass(frozen=True, kw_only=True)
class Sheet:
    """All that stands on the sheets of an approach.

    ``sorted`` names tables by a column, as in ``barges(number)``, that are brought in in its
    order although they are made in another: to sort them is not timed, so it is another task.
    ``rows_of`` is the table that the answer's rows stand beside (the last one unless named),
    ``header`` whether tables and answer have one; ``timed`` the parts of a run between the two
    readings of the clock, which follow each other.
    """

    columns: tuple[Column, ...] = ()
    cells: tuple[Cell, ...] = ()
    repeat: Repeat | None = None
    change: Change | None = None
    sorted: tuple[str, ...] = ()
    rows_of: str = ""
    header: bool = True
    timed: tuple[Part, ...] = ("bring", "fill", "calculate", "read")


_KNOB = re.compile(r"\{knobs\.(\w+)\}")
_Sheet = TypeVar("_Sheet", bound=Sheet)


def with_knobs(sheet: _Sheet, knobs: Mapping[str, Any] | None) -> _Sheet:
    """A sheet whose formulas have the values of knobs for ``{knobs.NAME}``; a knob that there is
    not stays as it is written. Without values a number of the same length stands there, for
    whoever reads formulas only."""

    def written(found: re.Match[str]) -> str:
        if knobs is None:
            return "0".ljust(len(found[0]))
        if found[1] not in knobs:
            return found[0]
        value = knobs[found[1]]
        if isinstance(value, bool):
            return "TRUE()" if value else "FALSE()"
        if isinstance(value, int | float):
            return str(value)
        return '"' + str(value).replace('"', '""') + '"'

    return replace(
        sheet,
        columns=tuple(replace(c, formula=_KNOB.sub(written, c.formula)) for c in sheet.columns),
        cells=tuple(
            replace(c, formula=_KNOB.sub(written, c.formula)) if c.formula else c
            for c in sheet.cells
        ),
    )
