"""Columns with knobs in the place of numbers: what they are is known at one point."""

import re
from collections.abc import Mapping
from typing import Any, Self

from pydantic import TypeAdapter, ValidationError, model_serializer

from ivrell.core.base.errors import BadInput
from ivrell.core.base.wording import sentence
from ivrell.core.recipe.kinds.base import Kind
from ivrell.core.records.json import Json

_KNOB = re.compile(r"\{[A-Za-z_]\w*\}")
_NUMBERS = {"number", "integer"}
KNOB_SCHEMA = {"type": "string", "pattern": r"^\{[A-Za-z_]\w*\}$"}
"""How a schema says that a knob may stand there."""


class Knobbed(Kind):
    """A column with some knobs, as it is ``written``: its settings without name and kind."""

    kind: str
    written: dict[str, Json]

    @classmethod
    def of(cls, fields: Mapping[str, Any], kinds: Mapping[str, type[Kind]]) -> Self:
        """From what stands for a column. Raises ValueError for a setting that its kind has not."""
        kind = str(fields["kind"])
        known = kinds[kind].model_json_schema(by_alias=True)["properties"]
        for name in fields.keys() - known.keys():
            raise ValueError(f'there is no setting "{name}" of {kind} columns')
        written = {name: fields[name] for name in fields if name not in ("name", "kind")}
        return cls(name=fields.get("name", ""), kind=kind, written=written)

    @model_serializer
    def _as_written(self) -> dict[str, Any]:
        return {"name": self.name, "kind": self.kind, **self.written}

    def column(self, kinds: Any, knobs: Mapping[str, Any], table: str) -> Kind:
        """The column with its knobs' values, as one of ``kinds``. Raises BadInput."""
        where = f"data.tables.{table} ({self.name}"
        fields = {"name": self.name, "kind": self.kind, **self.written}
        for name, value in fields.items():
            if not is_knob(value) or name not in numeric(kinds[self.kind]):
                continue
            knob = str(value)[1:-1]
            if knob not in knobs:
                raise BadInput(
                    f'There is no knob "{knob}".',
                    where=f"{where}.{name})",
                    hint="Add it under [knobs], or write a number.",
                )
            fields[name] = knobs[knob]
        try:
            return TypeAdapter(kinds[self.kind]).validate_python(fields)  # type: ignore[no-any-return]
        except ValidationError as error:
            problem = error.errors(include_url=False)[0]
            setting = f".{problem['loc'][0]}" if problem["loc"] else ""
            raise BadInput(
                f"{sentence(problem)[:1].upper()}{sentence(problem)[1:].rstrip('.')}.",
                where=f"{where}{setting})",
                hint="Mend the setting, or the values of its knob.",
            ) from None


def is_knob(value: object) -> bool:
    """Whether a value is a knob in braces."""
    return isinstance(value, str) and _KNOB.fullmatch(value) is not None


def numeric(kind: type[Kind]) -> dict[str, dict[str, Any]]:
    """Settings of a kind that are numbers, with their schemas, by name."""
    told = kind.model_json_schema(by_alias=True)["properties"]
    return {
        name: one
        for name, one in told.items()
        if {part.get("type") for part in one.get("anyOf", [one])} & _NUMBERS
        and not any(part.get("type") == "string" for part in one.get("anyOf", [one]))
    }


def has_knobs(fields: object, kinds: Mapping[str, type[Kind]]) -> bool:
    """Whether what stands for a column has a knob in the place of a number."""
    if not isinstance(fields, Mapping) or not any(map(is_knob, fields.values())):
        return False
    kind = kinds.get(str(fields.get("kind")))
    return kind is not None and any(is_knob(fields.get(name)) for name in numeric(kind))
