"""Bodies for the API that nobody would send, made by chance from the published schema."""

import json
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import yaml

SCHEMA = Path(__file__).resolve().parents[2] / "docs" / "api" / "openapi.yaml"
_ODD = (
    None, True, 0, -1, 2**31, 2**63, 10**40, 0.5, -0.0, 1e308, float("nan"), float("inf"), "", " ",
    "x", "\x00", "\ud800", "\u2028", "0", "-1", "1e999", "../../etc/passwd", "/dev/zero", "=1+1",
    "{rows}", "%s", "'; DROP TABLE", "a" * 5000, [], {}, [None], [[[]]], {"": None},
    {"a": {"b": []}},
    "2024-02-30", "no such", ["x"] * 300,
)  # fmt: skip
_DEEP = json.loads("[" * 300 + "]" * 300)


class OddBodies:
    """Requests of the published API with bodies that are now and then what they ought to be.

    Args:
        rng: the chance.
        ids: values of the parameters in paths that lead to something.
    """

    def __init__(self, rng: random.Random, ids: dict[str, Any]) -> None:
        self._rng = rng
        self._ids = ids
        told = yaml.safe_load(SCHEMA.read_text())
        self._shapes = told["components"]["schemas"]
        self._doors = [
            (method, path, content["schema"])
            for path, methods in told["paths"].items()
            for method, door in methods.items()
            for kind, content in door.get("requestBody", {}).get("content", {}).items()
            if kind == "application/json" and "{format}" not in path
        ]

    def __iter__(self) -> Iterator[tuple[str, str, str]]:
        while True:
            method, path, shape = self._rng.choice(self._doors)
            for name, good in self._ids.items():
                odd = self._rng.choice(("0", "9" * 30, "x", "%00", "²"))
                path = path.replace(f"{{{name}}}", odd if self._rng.random() < 0.05 else str(good))
            body = json.dumps(self._value(shape, 0))
            if self._rng.random() < 0.05:
                body = body[: self._rng.randrange(len(body) + 1)]
            yield method, path, body

    def _value(self, shape: dict[str, Any], depth: int) -> Any:
        if self._rng.random() < 0.12:
            return _DEEP if self._rng.random() < 0.05 else self._rng.choice(_ODD)
        if "$ref" in shape:
            return self._value(self._shapes[shape["$ref"].rsplit("/", 1)[1]], depth)
        for word in ("anyOf", "oneOf", "allOf"):
            if word in shape:
                return self._value(self._rng.choice(shape[word]), depth)
        if "enum" in shape:
            return self._rng.choice(shape["enum"])
        if "const" in shape:
            return shape["const"]
        kind = shape.get("type")
        if kind == "object" or "properties" in shape:
            return self._record(shape, depth)
        if kind == "array":
            most = 0 if depth > 6 else 3
            items = shape.get("items", {})
            return [self._value(items, depth + 1) for _ in range(self._rng.randint(0, most))]
        if kind in ("integer", "number"):
            return self._rng.choice((0, 1, 2, 5, 300, -3, 10**6))
        if kind == "boolean":
            return self._rng.random() < 0.5
        return self._rng.choice(("loop", "query", "rows", "readings", "elapsed", "x"))

    def _record(self, shape: dict[str, Any], depth: int) -> dict[str, Any]:
        wanted = set(shape.get("required", ()))
        found = {
            name: self._value(field, depth + 1)
            for name, field in shape.get("properties", {}).items()
            if name in wanted or (depth < 6 and self._rng.random() < 0.5)
        }
        if "additionalProperties" in shape and isinstance(shape["additionalProperties"], dict):
            found["rows"] = self._value(shape["additionalProperties"], depth + 1)
        if self._rng.random() < 0.05:
            found["\udc00" if self._rng.random() < 0.3 else "more"] = None
        return found
