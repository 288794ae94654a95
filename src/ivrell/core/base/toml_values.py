"""Whether a file can hold what somebody asks to be written into it."""

import re
from collections.abc import Mapping
from typing import Any

from ivrell.core.base.errors import BadInput

_DEEPEST = 20


def holdable(fields: Mapping[str, Any]) -> None:
    """Raise BadInput where TOML cannot hold a value of some fields: null within a list or a table,
    or text that is none. A field that is null itself is one that goes."""
    for name, value in fields.items():
        if value is not None and (wrong := _not_held(value)):
            raise BadInput(
                f"{wrong} cannot stand in a comparison file.", where=name, hint="Leave it out."
            )


def _not_held(value: Any, deep: int = 0) -> str:
    if value is None:
        return "null"
    if deep > _DEEPEST:
        return f"What is nested deeper than {_DEEPEST} times"
    if isinstance(value, str) and re.search("[\x00\ud800-\udfff]", value):
        return "Text with NUL or half a character"
    parts = value.values() if isinstance(value, Mapping) else value
    if isinstance(value, Mapping | list | tuple):
        return next(filter(None, (_not_held(part, deep + 1) for part in parts)), "")
    return ""
