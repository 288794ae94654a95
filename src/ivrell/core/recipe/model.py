"""A recipe: how the tables of a comparison are generated."""

import hashlib
import json
from collections.abc import Mapping
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ivrell.core.errors import BadInput
from ivrell.core.recipe.kinds import Column, Name

GENERATOR_VERSION = 1
"""Goes up whenever the same recipe and seed would give other values."""

BLOCK_ROWS = 131_072
"""Rows drawn in one go. Part of the fingerprint: other blocks give other values."""

MOST_ROWS = 10_000_000_000


class Table(BaseModel):
    """One generated table: how many rows, and what stands in each column.

    ``rows`` is a number or a knob in braces, such as ``"{rows}"``.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    rows: Annotated[int, Field(ge=1, le=MOST_ROWS)] | Annotated[str, Field(pattern=r"^\{\w+\}$")]
    order: Literal["shuffled"] = "shuffled"
    columns: Annotated[list[Column], Field(min_length=1)]

    @model_validator(mode="after")
    def _names_differ(self) -> Self:
        names = [column.name for column in self.columns]
        for name in names:
            if names.count(name) > 1:
                raise ValueError(f'two columns are called "{name}"; give one another name')
        return self


class Recipe(BaseModel):
    """Tables by name, and the seed that all their values come from."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    seed: Annotated[int, Field(ge=0, lt=2**63)] = 1
    tables: Annotated[dict[Name, Table], Field(min_length=1)]

    def resolved(self, knobs: Mapping[str, Any]) -> "Recipe":
        """The recipe with every knob replaced by its value at one point.

        Raises BadInput when a knob is missing, a row count is not a positive whole
        number, or the columns cannot hold at these row counts.
        """
        tables = {}
        for name, table in self.tables.items():
            where = f"data.tables.{name}.rows"
            rows = table.rows
            if isinstance(rows, str):
                knob = rows[1:-1]
                if knob not in knobs:
                    raise BadInput(
                        f'There is no knob "{knob}".',
                        where=where,
                        cure=f"Add {knob} = [1000000] under [knobs], or write a number.",
                    )
                rows = knobs[knob]
                where = f"knobs.{knob}"
            if isinstance(rows, bool) or not isinstance(rows, int) or not 1 <= rows <= MOST_ROWS:
                raise BadInput(
                    f"{rows!r} is not a number of rows.",
                    where=where,
                    cure=f"Give a whole number from 1 to {MOST_ROWS:,}.",
                )
            tables[name] = table.model_copy(update={"rows": rows})
        recipe = self.model_copy(update={"tables": tables})
        recipe.check()
        return recipe

    def rows_of(self, table: str) -> int:
        """Rows of a table of a resolved recipe."""
        rows = self.tables[table].rows
        assert isinstance(rows, int), "the recipe must be resolved first"
        return rows

    def check(self) -> None:
        """Raise BadInput where the tables of a resolved recipe cannot be made."""
        for name, table in self.tables.items():
            for position, column in enumerate(table.columns):
                where = f"data.tables.{name}.columns[{position}]"
                if target := column.references():
                    self._check_reference(f"{name}.{column.name}", target, where)
                if problem := column.problem(self.rows_of(name)):
                    raise BadInput(problem, where=f"{where} ({column.name})")

    def _check_reference(self, source: str, target: str, where: str) -> None:
        seen = [source]
        while target:
            table, column = target.split(".")
            if table not in self.tables:
                known = ", ".join(self.tables)
                raise BadInput(
                    f'The reference goes to a table "{table}" that does not exist.',
                    where=f"{where}.to",
                    cure=f"Tables here: {known}.",
                )
            if self.column(table, column) is None:
                known = ", ".join(c.name for c in self.tables[table].columns)
                raise BadInput(
                    f'Table "{table}" has no column "{column}" to refer to.',
                    where=f"{where}.to",
                    cure=f"Its columns: {known}.",
                )
            if target in seen:
                raise BadInput(
                    f"These references go round in a circle: {' to '.join([*seen, target])}.",
                    where=where,
                    cure="Let one of the columns be of another kind.",
                )
            seen.append(target)
            found = self.column(table, column)
            target = (found.references() or "") if found else ""

    def column(self, table: str, name: str) -> Column | None:
        """The column of a table by its name, or None."""
        return next((c for c in self.tables[table].columns if c.name == name), None)

    def fingerprint(self, table: str) -> str:
        """Hash of all that decides the values of a table of a resolved recipe.

        Covers the seed, the generator's version and block size, the table's columns and
        rows, and the same of every table it refers to; 64 hexadecimal digits.
        """
        reached = [table]
        for name in reached:
            for column in self.tables[name].columns:
                target = (column.references() or name).split(".")[0]
                if target not in reached:
                    reached.append(target)
        text = json.dumps(
            {
                "generator": GENERATOR_VERSION,
                "block_rows": BLOCK_ROWS,
                "seed": self.seed,
                "tables": {
                    name: self.tables[name].model_dump(mode="json") for name in sorted(reached)
                },
                "table": table,
            },
            sort_keys=True,
        )
        return hashlib.sha256(text.encode()).hexdigest()
