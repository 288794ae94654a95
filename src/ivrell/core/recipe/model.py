"""A recipe: how the tables of a comparison are generated."""

import hashlib
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from ivrell.core.base.errors import BadInput
from ivrell.core.recipe.csv_look import seen_style
from ivrell.core.recipe.csv_style import CsvStyle
from ivrell.core.recipe.kinds import KINDS, Column, Kind, Knobbed, Name, Share
from ivrell.core.recipe.kinds.base import Needle
from ivrell.core.recipe.own_file import OwnFile, own_file

GENERATOR_VERSION = 2
"""Goes up whenever the same recipe and seed would give other values."""

BLOCK_ROWS = 131_072
"""Rows drawn in one go. Part of the fingerprint: other blocks give other values."""

MOST_ROWS = 10_000_000_000

MOST_REFERRED = 200_000_000
"""Rows of a table that others refer to: its values are held in memory, 8 bytes and more each."""

MOST_COLUMNS = 2_000

Knob = Annotated[str, Field(pattern=r"^\{\w+\}$")]
"""A knob in braces, in the place of its value."""

_LATER = {"quantiles", "weights"}
"""Settings that came to kinds later: where they are not given, tables are the same as before."""

IN_ORDER = "in order"
"""The value of a knob that leaves rows in the order of their numbers."""

_NUMBERS = ("sequence", "integer", "number", "derived")


class Table(BaseModel):
    """One table: how many rows, in which order, and what stands in each column; or ``file``, a
    csv or parquet file of the user's own, as it is (``file_hash`` then says which bytes are
    meant, and the file is refused when it has others; ``csv`` how it is written).

    ``rows`` is a number or a knob in braces, such as ``"{rows}"``. ``order`` is "shuffled"
    (each row number once, in random order), "by COLUMN" (rising in that column) or absent
    (row numbers go up); or a knob, whose value "in order" stands for absent. ``duplicate_share`` of
    the rows repeat another one whole, ``malformed_share`` of the lines are broken on purpose in
    text forms: shares, or knobs.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    rows: Annotated[int, Field(ge=0, le=MOST_ROWS)] | Knob | None = None
    file: Annotated[str, Field(min_length=1)] | None = None
    csv: CsvStyle | None = None
    file_hash: Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")] | None = None
    order: Annotated[str, Field(pattern=r"^(shuffled|by \w+|\{\w+\})$")] | None = None
    duplicate_share: Share | Knob = 0.0
    malformed_share: Share | Knob = 0.0
    columns: list[Column] = []

    @model_validator(mode="after")
    def _made_or_own(self) -> Self:
        if self.file is None and (self.rows is None or not self.columns):
            lacking = "rows" if self.rows is None else "columns"
            raise ValueError(f"{lacking} is missing; a table has rows and columns, or a file")
        if self.file is None and self.csv is not None:
            raise ValueError("csv says how a file of your own is written; this table has none")
        if self.file is not None:
            made = ("columns", "duplicate_share", "malformed_share", "order")
            usual = type(self).model_fields
            if given := [name for name in made if getattr(self, name) != usual[name].default]:
                raise ValueError(f"a table that is a file takes no {given[0]}: it is as it is")
        return self

    @model_validator(mode="after")
    def _names_differ(self) -> Self:
        if again := _name_twice([column.name for column in self.columns]):
            raise ValueError(f'two columns are called "{again}"; give one another name')
        return self

    @property
    def repeated_share(self) -> float:
        """Share of the rows that repeat another one, at one point."""
        return self.duplicate_share if isinstance(self.duplicate_share, float) else 0.0

    @property
    def broken_share(self) -> float:
        """Share of the lines that are broken on purpose, at one point."""
        return self.malformed_share if isinstance(self.malformed_share, float) else 0.0

    @property
    def sorted_by(self) -> str | None:
        """The column that the rows rise in, if any."""
        return self.order[3:] if self.order and self.order != "shuffled" else None

    def drawing_order(self) -> list[Kind]:
        """The columns, each behind those that it needs.

        Raises ValueError when some need each other, or one that is not there.
        """
        waiting = {column.name: column for column in self.columns}
        found: list[Kind] = []
        while waiting:
            ready = [c for c in waiting.values() if not c.needs() & waiting.keys()]
            if not ready:
                raise ValueError(f"these columns need each other: {', '.join(waiting)}")
            found += ready
            for column in ready:
                del waiting[column.name]
        return found

    def needed_by(self, name: str) -> list[Kind]:
        """The column of that name behind those that it needs, and that these need."""
        wanted = {name}
        order = self.drawing_order()
        for column in reversed(order):
            if column.name in wanted:
                wanted |= column.needs()
        return [column for column in order if column.name in wanted]


def _name_twice(names: list[str]) -> str | None:
    seen: set[str] = set()
    return next((name for name in names if name in seen or seen.add(name)), None)  # type: ignore[func-returns-value]


def _check_names(table: str, columns: list[Column]) -> None:
    if again := _name_twice([column.name for column in columns]):
        raise BadInput(
            f'Two columns are called "{again}", one of them a repeated one.',
            where=f"data.tables.{table}.columns",
            hint="Give one another name.",
        )


def _with_own_file(name: str, table: Table) -> Table:
    """The table with its file's rows and hash. Raises BadInput when it is another file than
    the one meant."""
    assert table.file is not None
    path = table.file
    table = _with_its_style(table)
    try:
        own = own_file(path, BLOCK_ROWS, table.csv)
    except BadInput as error:
        raise BadInput(error.what, where=f"data.tables.{name}.file", hint=error.hint) from None
    if table.file_hash not in (None, own.hash):
        raise BadInput(
            f"{table.file} holds other bytes than those meant: its hash is {own.hash}.",
            where=f"data.tables.{name}.file_hash",
            hint="Bring the file back, or write its new hash.",
        )
    return table.model_copy(update={"rows": own.rows, "file_hash": own.hash})


def _with_its_style(table: Table) -> Table:
    """The table with how its csv is written, found by looking where the recipe does not say."""
    assert table.file is not None
    path = Path(table.file).expanduser()
    if table.csv is not None or path.suffix != ".csv":
        return table
    # What is no plain file, or not there, is refused as it is opened; to look at a pipe would wait.
    try:
        seen = seen_style(path) if path.is_file() else CsvStyle()
    except (OSError, ValueError):
        return table
    # The usual style is not said, as it was before files were looked at: data keep their names.
    return table.model_copy(update={"csv": seen}) if seen.words else table


def _with_needle(table: str, column: Column, knobs: Mapping[str, Any]) -> Column:
    """The column with a needle's place taken from its knob. Raises BadInput."""
    needle = column.needle
    if needle is None or not isinstance(needle.at, str) or not needle.at.startswith("{"):
        return column
    knob = needle.at[1:-1]
    where = f"data.tables.{table} ({column.name}.needle)"
    if knob not in knobs:
        raise BadInput(f'There is no knob "{knob}".', where=where, hint="Add it under [knobs].")
    try:
        at = Needle(value=needle.value, at=knobs[knob])
    except ValidationError:
        at = needle
    if at.at == needle.at or str(at.at).startswith("{"):
        raise BadInput(
            f"{knobs[knob]!r} is no place for a needle.",
            where=f"knobs.{knob}",
            hint='Give "first", "middle", "last", "absent", or a share from 0 to 1.',
        )
    return column.model_copy(update={"needle": at})


def _at(table: str, column: Column, knobs: Mapping[str, Any]) -> Column:
    """A column as it is at one point. Raises BadInput."""
    return column.column(KINDS, knobs, table) if isinstance(column, Knobbed) else column


def _share_at(share: float | str, where: str, knobs: Mapping[str, Any]) -> float:
    """A share, taken from its knob where it is one. Raises BadInput."""
    if not isinstance(share, str):
        return float(share)
    knob = share[1:-1]
    if knob not in knobs:
        raise BadInput(f'There is no knob "{knob}".', where=where, hint="Add it under [knobs].")
    found = knobs[knob]
    if isinstance(found, bool) or not isinstance(found, int | float) or not 0 <= found < 1:
        raise BadInput(
            f"{found!r} is no share.",
            where=f"knobs.{knob}",
            hint="Give a number from 0 up to but without 1.",
        )
    return float(found)


def _order_at(order: str | None, where: str, knobs: Mapping[str, Any]) -> str | None:
    """An order, taken from its knob where it is one. Raises BadInput."""
    if order is None or not order.startswith("{"):
        return order
    knob = order[1:-1]
    if knob not in knobs:
        raise BadInput(f'There is no knob "{knob}".', where=where, hint="Add it under [knobs].")
    found = knobs[knob]
    if found == IN_ORDER:
        return None
    if not isinstance(found, str) or not (found == "shuffled" or found.startswith("by ")):
        raise BadInput(
            f"{found!r} is no order.", where=f"knobs.{knob}",
            hint=f'Give "{IN_ORDER}", "shuffled" or "by COLUMN".',
        )  # fmt: skip
    return found


class Recipe(BaseModel):
    """Tables by name, and the seed that all their values come from."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    seed: Annotated[int, Field(ge=0, lt=2**63)] = 1
    tables: Annotated[dict[Name, Table], Field(min_length=1)]

    def resolved(self, knobs: Mapping[str, Any]) -> "Recipe":
        """The recipe with every knob replaced by its value at one point.

        Raises BadInput when a knob is missing, a row count is not a whole number, or the
        columns cannot hold at these row counts.
        """
        tables = {}
        for name, table in self.tables.items():
            if table.file is not None:
                tables[name] = _with_own_file(name, table)
                continue
            where = f"data.tables.{name}.rows"
            rows = table.rows
            if isinstance(rows, str):
                knob = rows[1:-1]
                if knob not in knobs:
                    raise BadInput(
                        f'There is no knob "{knob}".',
                        where=where,
                        hint=f"Add {knob} = [1000000] under [knobs], or write a number.",
                    )
                rows = knobs[knob]
                where = f"knobs.{knob}"
            if isinstance(rows, bool) or not isinstance(rows, int) or not 0 <= rows <= MOST_ROWS:
                raise BadInput(
                    f"{rows!r} is not a number of rows.",
                    where=where,
                    hint=f"Give a whole number from 0 to {MOST_ROWS:,}.",
                )
            columns = [
                _with_needle(name, one, knobs)
                for column in table.columns
                for one in _at(name, column, knobs).repeated()
            ]
            _check_names(name, columns)
            if len(columns) > MOST_COLUMNS:
                raise BadInput(
                    f"The table has {len(columns):,} columns with the repeated ones; a table has "
                    f"at most {MOST_COLUMNS:,}.",
                    where=f"data.tables.{name}.columns",
                    hint="Repeat fewer.",
                )
            shares = {
                share: _share_at(getattr(table, share), f"data.tables.{name}.{share}", knobs)
                for share in ("duplicate_share", "malformed_share")
            }
            order = _order_at(table.order, f"data.tables.{name}.order", knobs)
            tables[name] = table.model_copy(
                update={"rows": rows, "columns": columns, "order": order, **shares}
            )
        recipe = self.model_copy(update={"tables": tables})
        recipe.check()
        return recipe

    def counted_by(self, knob: str) -> bool:
        """Whether a knob sets the rows of some table."""
        return any(table.rows == f"{{{knob}}}" for table in self.tables.values())

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
                self._check_needs(table, column, f"{where} ({column.name})")
            self._check_order(name, table)

    def _check_needs(self, table: Table, column: Kind, where: str) -> None:
        for needed in sorted(column.needs()):
            other = next((c for c in table.columns if c.name == needed), None)
            if other is None:
                known = ", ".join(c.name for c in table.columns if c is not column)
                raise BadInput(
                    f'The formula uses a column "{needed}" that this table does not have.',
                    where=where,
                    hint=f"Its other columns: {known}.",
                )
            if other.kind_name() not in _NUMBERS:
                raise BadInput(
                    f'The formula uses "{needed}", which is no number but of kind '
                    f"{other.kind_name()}.",
                    where=where,
                    hint=f"Use columns of these kinds: {', '.join(_NUMBERS)}.",
                )

    def _check_order(self, name: str, table: Table) -> None:
        try:
            table.drawing_order()
        except ValueError as error:
            raise BadInput(
                f"Derived columns go round in a circle: {error}.",
                where=f"data.tables.{name}.columns",
                hint="Let one of them be of another kind.",
            ) from None
        wanted = table.sorted_by
        if wanted is None:
            return
        column = self.column(name, wanted)
        if column is None:
            known = ", ".join(c.name for c in table.columns)
            raise BadInput(
                f'There is no column "{wanted}" to sort by.',
                where=f"data.tables.{name}.order",
                hint=f"Columns here: {known}.",
            )
        if type(column).draw_sorted is Kind.draw_sorted:
            raise BadInput(
                f"A table cannot be sorted by a {column.kind_name()} column.",
                where=f"data.tables.{name}.order",
                hint="Sort by a number, a moment, a category or a reference.",
            )

    def _check_reference(self, source: str, target: str, where: str) -> None:
        seen = [source]
        while target:
            table, column = target.split(".")
            if table not in self.tables:
                known = ", ".join(self.tables)
                raise BadInput(
                    f'The reference goes to a table "{table}" that does not exist.',
                    where=f"{where}.to",
                    hint=f"Tables here: {known}.",
                )
            own = self.own_file(table)
            names = own.schema.names if own else [c.name for c in self.tables[table].columns]
            if column not in names:
                known = ", ".join(names)
                raise BadInput(
                    f'Table "{table}" has no column "{column}" to refer to.',
                    where=f"{where}.to",
                    hint=f"Its columns: {known}.",
                )
            if not self.rows_of(table) and self.rows_of(source.split(".")[0]):
                raise BadInput(
                    f'Table "{table}" has no rows whose "{column}" could be referred to.',
                    where=f"{where}.to",
                    hint="Give that table rows, or set this one to zero.",
                )
            if self.rows_of(table) > MOST_REFERRED:
                raise BadInput(
                    f'Table "{table}" has {self.rows_of(table):,} rows, and a column that others '
                    f"refer to is held in memory: {MOST_REFERRED:,} at most.",
                    where=f"{where}.to",
                    hint="Refer to a table of fewer rows, or take a sequence of your own.",
                )
            if target in seen:
                raise BadInput(
                    f"These references go round in a circle: {' to '.join([*seen, target])}.",
                    where=where,
                    hint="Let one of the columns be of another kind.",
                )
            seen.append(target)
            found = self.column(table, column)
            target = (found.references() or "") if found else ""

    def own_file(self, table: str) -> OwnFile | None:
        """The user's own file that a table is, if it is one."""
        found = self.tables[table]
        return own_file(found.file, BLOCK_ROWS, found.csv) if found.file is not None else None

    def based_on(self, folder: Path) -> "Recipe":
        """The recipe with paths of own files that start from a folder written in whole."""
        tables = {
            name: table.model_copy(update={"file": str(folder / Path(table.file).expanduser())})
            if table.file is not None
            else table
            for name, table in self.tables.items()
        }
        return self.model_copy(update={"tables": tables})

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
                "tables": {name: self._deciding(name) for name in sorted(reached)},
                "table": table,
            },
            sort_keys=True,
        )
        return hashlib.sha256(text.encode()).hexdigest()

    def _deciding(self, name: str) -> dict[str, Any]:
        """What of a table decides its values: its settings, or its own file's hash."""
        table = self.tables[name]
        if table.file is not None:
            style = {"csv": table.csv.as_dict()} if table.csv else {}
            return {"file_hash": table.file_hash, **style}
        told = table.model_dump(mode="json", exclude={"file", "file_hash", "csv"})
        for column in told["columns"]:
            # Of resolved tables always one; left out, as it was before there was such a setting.
            del column["repeat"]
            for inner in (column, *column.get("fields", ())):
                for setting in _LATER & inner.keys():
                    if inner[setting] is None:
                        del inner[setting]
        return told
