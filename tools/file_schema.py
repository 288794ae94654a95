"""Prints the JSON Schema of the comparison file: python -m tools.file_schema."""

import json

from pydantic.json_schema import GenerateJsonSchema

from ivrell.core.comparison.model import Comparison


def text() -> str:
    """The schema as it is published."""
    schema = Comparison.model_json_schema(by_alias=True)
    schema["title"] = "Ivrell comparison file"
    format_ = schema["properties"]["format"]["const"]
    head = {"$schema": GenerateJsonSchema.schema_dialect, "$id": f"urn:ivrell:{format_}"}
    return json.dumps(head | schema, indent=2, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    print(text(), end="")
