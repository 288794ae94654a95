"""Reading SQL far enough to cut it into statements, find stages and place knobs.

Only quoting and comments are understood; all else is left to the engine.
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from ivrell.core.servers.dialects.session import MARK
from ivrell.core.tasks.task import ApproachFailed

_TOKEN = re.compile(
    r"""
      (?P<comment>--[^\n]*|/\*.*?(?:\*/|\Z))
    | (?P<quoted>'(?:[^']|'')*(?:'|\Z)|"(?:[^"]|"")*(?:"|\Z)|\$(\w*)\$.*?(?:\$\3\$|\Z))
    | (?P<cast>::)
    | :(?P<bound>[A-Za-z_]\w*)
    | \{(?P<placed>[A-Za-z_]\w*)\}
    | (?P<end>;)
    | (?P<other>[^'"\-/$:;{]+|.)
    """,
    re.VERBOSE | re.DOTALL,
)
_STAGE = re.compile(r"--\s*stage:\s*(.+?)\s*$")
_PLAIN = re.compile(r"^[\w .%/+-]{0,200}$")


@dataclass(frozen=True)
class Statement:
    """One statement: its text, knobs bound in it, stage it belongs to, line it starts on."""

    text: str
    bound: tuple[str, ...]
    stage: str | None
    line: int


def statements(sql: str, knobs: Mapping[str, Any], *, mark: str = "$") -> list[Statement]:
    """Cut SQL into statements, with ``:knob`` turned into the engine's own bound mark and
    ``{knob}`` replaced by the knob's plain value, in bodies between ``$$`` too, where nothing
    else is touched. Without a ``mark`` the bound values are numbered: $1, $2 and on; with MARK
    that alone stands there, for a driver's own way.

    Raises ApproachFailed for a knob that does not exist or is no plain value.
    """
    found: list[Statement] = []
    bound: list[str] = []
    stage: str | None = None
    text, line, start = "", 1, 0
    for token in _TOKEN.finditer(sql):
        piece = token[0]
        if token["comment"] and (named := _STAGE.match(piece)):
            stage = named[1]
        if token["end"]:
            if start:
                found.append(Statement(text.strip(), tuple(bound), stage, start))
            text, bound, start = "", [], 0
        else:
            written = piece
            for name in filter(None, (token["bound"], token["placed"])):
                _check_known(name, knobs, line)
                if token["bound"]:
                    bound.append(name)
                    written = f"{mark}{name}" if mark else f"${len(bound)}"
                    if mark == MARK:
                        written = MARK
                else:
                    written = _plain(name, knobs[name], line)
            if piece.startswith("$") and token["quoted"]:
                written = _body(piece, knobs, line)
            if piece.strip() and not token["comment"] and not start:
                start = line + piece[: len(piece) - len(piece.lstrip())].count("\n")
            if start:
                text += written
        line += piece.count("\n")
    if start:
        found.append(Statement(text.strip(), tuple(bound), stage, start))
    return found


def _check_known(name: str, knobs: Mapping[str, Any], line: int) -> None:
    if name not in knobs:
        known = ", ".join(knobs) or "none"
        raise ApproachFailed(
            "unknown knob", f"There is no knob “{name}”; there are: {known}.", line
        )


def _body(text: str, knobs: Mapping[str, Any], line: int) -> str:
    """A body of procedural code with its knobs put in; quotes and comments in it stay as they
    are. Raises ApproachFailed for braces that name no knob."""
    mark = text[: text.index("$", 1) + 1]
    ends = len(text) >= 2 * len(mark) and text.endswith(mark)
    inside = text[len(mark) : len(text) - len(mark) if ends else None]
    written = mark
    for token in _TOKEN.finditer(inside):
        piece = token[0]
        if name := token["placed"]:
            _check_known(name, knobs, line)
            piece = _plain(name, knobs[name], line)
        written += piece
        line += token[0].count("\n")
    return written + (mark if ends else "")


def _plain(name: str, value: Any, line: int) -> str:
    written = str(value)
    if not _PLAIN.match(written) or "--" in written:
        raise ApproachFailed(
            "knob is not plain",
            f"The value of knob “{name}” cannot be put into SQL as it stands: letters, digits, "
            "spaces and . % / + - only.",
            line,
        )
    return written
