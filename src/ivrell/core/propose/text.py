"""What shape a text column has: a code, packed entries, a pattern, or running words."""

import re
from collections import Counter
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

_CLASSES = (("[0-9]", str.isdigit), ("[A-Z]", str.isupper), ("[a-z]", str.islower))
_LOOKED_AT = 5_000


def text_settings(values: pa.Array, unique: bool) -> dict[str, Any]:
    """Settings of a kind of the same shape; ``values`` hold no nulls.

    No value of the sample stands in them: letters and digits become classes, names of slots
    are made up; only marks such as "-" that stand in every value are kept.
    """
    for look in (_code, _packed, _pattern):
        if found := look(values, unique):
            return found
    return _words(values)


def _code(values: pa.Array, unique: bool) -> dict[str, Any] | None:
    digits = pc.extract_regex(values, r"^(?P<digits>[0-9]+)(?P<suffix>[A-Za-z]?)$")
    if digits.null_count:
        return None
    widths = pc.utf8_length(pc.struct_field(digits, "digits")).unique()
    if len(widths) > 1:
        return None
    width = widths[0].as_py()
    suffixed = pc.mean(pc.not_equal(pc.struct_field(digits, "suffix"), "")).as_py()
    settings: dict[str, Any] = {"kind": "code", "width": width}
    if unique:
        settings["unique"] = True
    else:
        zeros = pc.mean(pc.starts_with(values, "0")).as_py()
        if zeros == 1:
            # Then it is no code that may begin with zeros, but a pattern that does.
            return None
        settings["zeros_share"] = min(round(zeros, 3), 0.999)
    if suffixed:
        settings["suffix_share"] = min(round(suffixed, 3), 0.999)
    return settings


def _packed(values: pa.Array, unique: bool) -> dict[str, Any] | None:
    some = values.slice(0, _LOOKED_AT).to_pylist()
    for between in (";", ",", "|", " "):
        for equals in ("=", ":"):
            entry = re.compile(rf"^[^{re.escape(between + equals)}]+{re.escape(equals)}(-?[0-9]+)$")
            parts = [text.split(between) for text in some]
            if not all(entry.match(part) for row in parts for part in row):
                continue
            names = {part.split(equals)[0] for row in parts for part in row}
            sizes = [len(row) for row in parts]
            if max(sizes) < 2 or len(names) > 100 or max(sizes) > len(names):
                continue
            numbers = [int(part.split(equals)[1]) for row in parts for part in row]
            return {
                "kind": "packed",
                "slots": [_stand_in(n, name) for n, name in enumerate(sorted(names))],
                "fewest": min(sizes),
                "most": max(sizes),
                "low": min(numbers),
                "high": max(numbers),
                "between": between,
                "equals": equals,
            }
    return None


def _stand_in(number: int, name: str) -> str:
    """A made-up name for a slot, as long as its own."""
    letter = chr(ord("a") + number % 26)
    tail = str(number // 26) if number >= 26 else ""
    return (letter * max(1, len(name) - len(tail))) + tail


def _pattern(values: pa.Array, unique: bool) -> dict[str, Any] | None:
    some = values.slice(0, _LOOKED_AT).to_pylist()
    if len({len(text) for text in some}) != 1 or not 0 < len(some[0]) <= 60:
        return None
    pieces = []
    for letters in zip(*some, strict=True):
        seen = set(letters)
        name = next((name for name, test in _CLASSES if all(map(test, seen))), None)
        if name is None:
            if len(seen) > 1 or seen & set("[]{}\\^") or letters[0].isalnum():
                return None
            name = letters[0]
        pieces.append(name)
    if not any(piece.startswith("[") for piece in pieces):
        return None
    pattern = ""
    for piece, times in _runs(pieces):
        pattern += (
            piece if times == 1 else f"{piece}{{{times}}}" if len(piece) > 1 else piece * times
        )
    return {"kind": "text", "pattern": pattern, **({"unique": True} if unique else {})}


def _runs(pieces: list[str]) -> list[tuple[str, int]]:
    runs: list[tuple[str, int]] = []
    for piece in pieces:
        if runs and runs[-1][0] == piece:
            runs[-1] = (piece, runs[-1][1] + 1)
        else:
            runs.append((piece, 1))
    return runs


def _words(values: pa.Array) -> dict[str, Any]:
    sizes = Counter(max(1, len(text.split())) for text in values.slice(0, _LOOKED_AT).to_pylist())
    return {"kind": "words", "fewest": min(sizes), "most": max(sizes)}
