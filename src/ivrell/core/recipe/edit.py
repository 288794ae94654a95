"""Changing the text of a recipe in place: comments and order stay as they were."""

import re
import tomllib
from typing import Any

import tomlkit
import tomlkit.exceptions
from pydantic import BaseModel, ConfigDict
from tomlkit.items import Array

from ivrell.core.base.errors import BadInput
from ivrell.core.base.toml_values import holdable
from ivrell.core.recipe.kinds.base import Name
from ivrell.core.records.json import Json


class Edit(BaseModel):
    """One change of a recipe.

    ``rename`` gives a table another name, and all that refers to it. With a ``column`` (its place
    in the table, from 0) the fields of that column are set, else those of the table; None takes a
    field out. ``add`` puts a new column with the fields at the end; ``remove`` takes the column, or
    the whole table, out. Without a ``table`` the recipe's own fields (its seed) are set.
    """

    model_config = ConfigDict(extra="forbid")

    table: str | None = None
    column: int | None = None
    fields: dict[str, Json] = {}
    add: bool = False
    remove: bool = False
    rename: Name | None = None


def changed(data_text: str, edit: Edit) -> str:
    """The recipe's text after a change; whether it still holds is for others to say.

    Raises BadInput when the text is not TOML or has no such table or column.
    """
    holdable(edit.fields)
    try:
        document = tomlkit.parse(data_text)
        data: Any = document["data"]
    except (tomlkit.exceptions.TOMLKitError, RecursionError):
        raise BadInput(
            "The recipe's text cannot be read.", hint="Mend it as text first, then go on here."
        ) from None
    if edit.table is None:
        _set(data, edit.fields)
        return tomlkit.dumps(document)
    tables = data.get("tables", {})
    if edit.table not in tables:
        if not edit.add or edit.column is not None:
            raise BadInput(f'There is no table "{edit.table}".')
        tables[edit.table] = _new_table(edit.fields)
        return tomlkit.dumps(document)
    if edit.rename is not None:
        return _renamed(data_text, edit.table, edit.rename)
    table = tables[edit.table]
    if edit.column is None and edit.remove:
        del tables[edit.table]
    elif edit.column is None and edit.add:
        _append(table, edit.fields)
    elif edit.column is None:
        _set(table, edit.fields)
    elif not 0 <= edit.column < len(table.get("columns", [])):
        raise BadInput(f"Table {edit.table} has no column {edit.column + 1}.")
    elif edit.remove:
        del table["columns"][edit.column]
    else:
        _set(table["columns"][edit.column], edit.fields)
    return tomlkit.dumps(document)


def _renamed(data_text: str, old: str, new: str) -> str:
    """The recipe's text with another name for a table, where it stands and where others refer to
    it. Headings are changed as text, for a table that is put in again loses its place."""
    before = tomllib.loads(data_text)["data"]
    if new != old and new in before["tables"]:
        raise BadInput(f'There is a table "{new}" already.', hint="Give it another name.")
    heading = re.compile(rf"^(\s*\[+\s*data\s*\.\s*tables\s*\.\s*){old}(?=\s*[.\]])", re.M)
    document = tomlkit.parse(heading.sub(rf"\g<1>{new}", data_text))
    tables: Any = document["data"]["tables"]
    for table in (*before["tables"].values(), *tables.values()):
        for column in table.get("columns", []):
            if str(column.get("to", "")).startswith(f"{old}."):
                column["to"] = f"{new}.{column['to'].removeprefix(f'{old}.')}"
    wanted = {new if name == old else name: table for name, table in before["tables"].items()}
    text = tomlkit.dumps(document)
    if tomllib.loads(text)["data"] != {**before, "tables": wanted}:
        raise BadInput("The name of this table is written in a way that only text can change.")
    return text


def _set(place: Any, fields: dict[str, Any]) -> None:
    for name, value in fields.items():
        if value is None:
            if name in place:
                del place[name]
        elif place.get(name) != value:
            place[name] = _inline(value)


def _inline(value: Any) -> Any:
    if isinstance(value, dict):
        table = tomlkit.inline_table()
        table.update(value)
        return table
    return value


def _append(table: Any, fields: dict[str, Any]) -> None:
    column = tomlkit.inline_table()
    column.update({name: _inline(value) for name, value in fields.items() if value is not None})
    columns = table.get("columns")
    if not isinstance(columns, Array):
        raise BadInput("The columns of this table are written in a way that only text can change.")
    columns.add_line(column, indent="  ")


def _new_table(fields: dict[str, Any]) -> Any:
    table = tomlkit.table()
    columns = tomlkit.array()
    column = tomlkit.inline_table()
    column.update({"name": "number", "kind": "sequence"})
    columns.add_line(column, indent="  ")
    columns.add_line(indent="")
    table.update({"rows": 1000, **fields})
    table["columns"] = columns
    return table
