"""Prints the JSON Schema of the comparison file, of a bundle's manifest, or of what commands print:
python -m tools.file_schema [bundle|output]."""

import json
import sys
from typing import Any

from pydantic import TypeAdapter
from pydantic.json_schema import GenerateJsonSchema

from ivrell.cli.outputs import OUTPUTS
from ivrell.core.comparison.model import Comparison
from ivrell.core.recipe.kinds import KINDS
from ivrell.core.recipe.kinds.knobbed import KNOB_SCHEMA, numeric
from ivrell.core.records.bundle import FORMAT, Manifest


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


def bundle_text() -> str:
    """The schema of a bundle's manifest as it is published."""
    schema = Manifest.model_json_schema()
    schema["title"] = "Manifest of an Ivrell bundle"
    head = {"$schema": GenerateJsonSchema.schema_dialect, "$id": f"urn:ivrell:{FORMAT}"}
    return json.dumps(head | schema, indent=2, ensure_ascii=False) + "\n"


def output_text() -> str:
    """The schema of what commands print with ``--json``, as it is published: a property each."""
    parts = [(command, "serialization", shape) for command, shape in OUTPUTS.items()]
    found, schema = TypeAdapter.json_schemas(parts, title="What ivrell COMMAND --json prints")
    head = {"$schema": GenerateJsonSchema.schema_dialect, "$id": "urn:ivrell:ivrell-output/1"}
    told = {"properties": {command: found[command, "serialization"] for command in OUTPUTS}}
    return json.dumps(head | schema | told, indent=2, ensure_ascii=False) + "\n"


TEXTS = {"bundle": bundle_text, "output": output_text}

if __name__ == "__main__":
    print(TEXTS.get("".join(sys.argv[1:2]), text)(), end="")
