"""Prints the JSON Schema of the comparison file: python -m tools.file_schema."""

import json

from ivrell.core.comparison.model import Comparison


def text() -> str:
    """The schema as it is published."""
    schema = Comparison.model_json_schema(by_alias=True)
    schema["title"] = "Ivrell comparison file"
    return json.dumps(schema, indent=2, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    print(text(), end="")
