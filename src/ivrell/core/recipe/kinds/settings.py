"""What can be set of each kind of column, as plain data for those who draw forms."""

from typing import Any

from pydantic import BaseModel

from ivrell.core.recipe.kinds import KINDS
from ivrell.core.records.json import Json

_NOT_SET_HERE = {"name", "kind"}


class Setting(BaseModel):
    """One setting of a kind of column: its ``type`` is number, integer, text, boolean, choice, list
    (of texts), numbers (a list of them), moment, value or needle; ``wanted`` that it has no usual
    value."""

    name: str
    type: str
    choices: list[str]
    usual: Json
    wanted: bool


def settings_of(kind: str) -> list[Setting]:
    """The settings of a kind."""
    schema = KINDS[kind].model_json_schema(by_alias=True)
    wanted = schema.get("required", [])
    return [
        Setting(
            name=name,
            type=_type(name, told),
            choices=_choices(told),
            usual=told.get("default"),
            wanted=name in wanted,
        )
        for name, told in schema["properties"].items()
        if name not in _NOT_SET_HERE
    ]


def _alternatives(told: dict[str, Any]) -> list[dict[str, Any]]:
    found = told.get("anyOf", [told])
    return [one for one in found if one.get("type") != "null"]


def _choices(told: dict[str, Any]) -> list[str]:
    return next((list(one["enum"]) for one in _alternatives(told) if "enum" in one), [])


def _type(name: str, told: dict[str, Any]) -> str:
    alternatives = _alternatives(told)
    kinds = {one.get("type", "object") for one in alternatives}
    if name == "needle":
        return "needle"
    if _choices(told):
        return "choice"
    if any(one.get("format", "").startswith("date") for one in alternatives):
        return "moment"
    if "array" in kinds:
        listed = next(one["items"] for one in alternatives if one.get("type") == "array")
        return "numbers" if listed.get("type") == "number" else "list"
    if len(kinds) > 1:
        return "value"
    kind = str(kinds.pop())
    return "text" if kind == "string" else kind
