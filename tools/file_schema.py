"""Prints the JSON Schema of the comparison file: python -m tools.file_schema."""

import json
from typing import Any

from pydantic.json_schema import GenerateJsonSchema

from ivrell.core.comparison.model import Comparison
from ivrell.core.recipe.kinds import KINDS
from ivrell.core.recipe.kinds.knobbed import KNOB_SCHEMA, numeric


def text() -> str:
    """The schema as it is published."""
    schema = Comparison.model_json_schema(by_alias=True)
    for kind in KINDS.values():
        settings = schema["$defs"][kind.__name__]["properties"]
        for name in numeric(kind):
            settings[name] = _or_a_knob(settings[name])
    schema["title"] = "Ivrell comparison file"
    format_ = schema["properties"]["format"]["const"]
    head = {"$schema": GenerateJsonSchema.schema_dialect, "$id": f"urn:ivrell:{format_}"}
    return json.dumps(head | schema, indent=2, ensure_ascii=False) + "\n"


def _or_a_knob(told: dict[str, Any]) -> dict[str, Any]:
    """The schema of a number, with a knob in its place allowed."""
    kept = {name: told.pop(name) for name in ("title", "default") if name in told}
    return kept | {"anyOf": [*told.pop("anyOf", [told]), KNOB_SCHEMA]}


if __name__ == "__main__":
    print(text(), end="")
