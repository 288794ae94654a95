"""What comes out of a run is a stranger's word: cleaned once, here. Standard library only."""

import json
import re
from typing import Any

_UNFIT = re.compile("[\x00\ud800-\udfff]")
_DEEPEST = 200
"""Levels: a plan of many steps within steps has dozens."""


def heard_from(line: bytes) -> dict[str, Any]:
    """A line of a worker as an event; empty where it is none.

    Marks that no record can hold (NUL, lone surrogates) become U+FFFD; what is nested deeper
    than any event of Ivrell's is left out.
    """
    try:
        event = json.loads(line)
    except (ValueError, RecursionError):
        return {}
    return clean(event) if isinstance(event, dict) else {}


def clean(value: Any, depth: int = 0) -> Any:
    """A value with every text in it fit to be kept."""
    if isinstance(value, str):
        return clean_text(value)
    if isinstance(value, dict):
        return {
            clean_text(key): clean(part, depth + 1)
            for key, part in value.items()
            if not _too_deep(part, depth)
        }
    if isinstance(value, list):
        return [clean(part, depth + 1) for part in value if not _too_deep(part, depth)]
    return value


def _too_deep(part: Any, depth: int) -> bool:
    return depth >= _DEEPEST and isinstance(part, dict | list)


def clean_text(text: str) -> str:
    """A text without marks that no record can hold."""
    return _UNFIT.sub("\ufffd", text)
