"""Reading the comparison file, with errors that name the place."""

import re
import tomllib
from pathlib import Path
from typing import Any

import tomlkit
import tomlkit.exceptions
from pydantic import ValidationError

from ivrell.core.base.errors import BadInput
from ivrell.core.base.wording import path_of, sentence
from ivrell.core.comparison.model import Comparison
from ivrell.core.engines.registry import BROKEN, ENGINES
from ivrell.core.recipe.kinds import KINDS

_CURES = {
    "extra_forbidden": "Remove it, or check its spelling{near}.",
    "unexpected_keyword_argument": "Remove it, or check its spelling{near}.",
    "missing": "Add it.",
    "missing_argument": "Add it.",
    "union_tag_invalid": "Write one of {expected_tags}.",
    "union_tag_not_found": "Add {discriminator} to say which kind it is.",
}

MOST_CHARACTERS = 2_000_000
MOST_LINES = 20_000
"""Bounds of a file: what reads it takes time by the square of empty lines."""


def parse(text: str, *, source: str = "") -> Comparison:
    """Read a comparison from the text of its file.

    Raises BadInput that names the key path and, where it can be found, the line; when
    several things are wrong, the first is told in full and the others are counted.
    """
    for amount, most, what in (
        (len(text), MOST_CHARACTERS, "characters"),
        (text.count("\n"), MOST_LINES, "lines"),
    ):
        if amount > most:
            raise BadInput(
                f"The file has {amount:,} {what}; a comparison has at most {most:,}.",
                where=source,
                hint="Let a recipe or a file of your own make the data.",
            )
    try:
        document = _document(text)
    except (tomlkit.exceptions.TOMLKitError, RecursionError) as error:
        raise BadInput(
            f"The file is not TOML: {str(error).rstrip('.')}.",
            where=_place(source, getattr(error, "line", None)),
            hint="Mend that line; strings need quotes, tables need [brackets], and each key "
            "stands once in its table.",
        ) from None
    try:
        return Comparison.model_validate(document)
    except ValidationError as error:
        raise _told(error, text, source) from None


def _document(text: str) -> dict[str, Any]:
    """What the text says. The quick reader stops at the first mistake and names no line in a way
    that can be told; the one that edits files does, and takes what earlier versions took."""
    try:
        return tomllib.loads(text)
    except ValueError:
        return tomlkit.parse(text).unwrap()


def load(path: Path) -> Comparison:
    """Read a comparison file. Raises BadInput when it cannot be read or used."""
    return parse(read_text(path), source=path.name)


def read_text(path: Path) -> str:
    """The text of a comparison file. Raises BadInput when it cannot be read."""
    try:
        return path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise BadInput(f"There is no file {path}.", hint="Check the path.") from None
    except UnicodeDecodeError as error:
        raise BadInput(
            f"{path.name} is not UTF-8 text (byte {error.start}).", hint="Save it as UTF-8."
        ) from None
    except OSError as error:
        raise BadInput(f"{path} cannot be read: {error.strerror}.") from None


def _place(source: str, line: int | None) -> str:
    return ", ".join(filter(None, [source, f"line {line}" if line else ""]))


_TAGS = {"union", *ENGINES, *KINDS}


def _told(error: ValidationError, text: str, source: str) -> BadInput:
    problems = error.errors(include_url=False)
    problem = problems[0]
    keys = [part for position, part in enumerate(problem["loc"]) if _is_key(problem, position)]
    message = sentence(problem)
    if not keys and ": " in message:
        # Rules over the whole file name their place at the head of the message.
        place, message = message.split(": ", 1)
        keys = [place]
    path = path_of(tuple(keys))
    context = {"near": "", **problem.get("ctx", {})}
    if problem["type"] in ("extra_forbidden", "unexpected_keyword_argument"):
        message = f'There is no setting "{keys[-1]}" here'
        if near := _near(keys, problem):
            context["near"] = f" (here there are: {near})"
    elif problem["type"] in ("missing", "missing_argument"):
        message = f'"{keys[-1]}" is missing'
    elif problem["type"] == "union_tag_invalid":
        message = f'There is no {context.get("discriminator")} "{context.get("tag")}"'
        message = message.replace("'", "")
        if told := BROKEN.get(str(context.get("tag"))):
            message = f'The engine "{context.get("tag")}" {told}'
    hint = _CURES.get(problem["type"], "").format_map(_Known(context))
    if len(problems) > 1:
        others = f"{len(problems) - 1} more"
        hint = f"{hint} ({others} to mend after this.)".strip()
    line = _line_of(text, keys)
    where = ", ".join(filter(None, [_place(source, line), path]))
    return BadInput(message[:1].upper() + message[1:].rstrip(".") + ".", where=where, hint=hint)


class _Known(dict[str, Any]):
    def __missing__(self, key: str) -> str:
        return ""


def _is_key(problem: Any, position: int) -> bool:
    """Whether a part of pydantic's location stands in the file: it also names union tags."""
    part = problem["loc"][position]
    before = problem["loc"][position - 1] if position else None
    if isinstance(part, int):
        return True
    if isinstance(before, int) and part in _TAGS:
        return False
    return not re.search(r"[\[\]()]|^(int|str|float|bool|constrained-\w+)$", part)


def _near(keys: list[Any], problem: Any) -> str:
    tags = [part for part in problem["loc"] if part in _TAGS]
    if tags and tags[-1] in ENGINES:
        fields = ENGINES[tags[-1]].approach.__dataclass_fields__
        return ", ".join(fields)
    if tags:
        settings = KINDS[tags[-1]].model_fields
        return ", ".join(setting.alias or name for name, setting in settings.items())
    return ""


def _line_of(text: str, keys: list[Any]) -> int | None:
    """The line where a key stands, by following the headers; None where it is not found."""
    names = [str(key) for key in keys if not isinstance(key, int)]
    if not names:
        return None
    table = [name for name in names[:-1] if name != "columns"]
    index = next((key for key in keys if isinstance(key, int)), 0)
    header: list[str] = []
    seen = -1
    best = None
    for number, line in enumerate(text.splitlines(), 1):
        if found := re.match(r"\s*\[\[?\s*([^\]]+?)\s*\]", line):
            header = [part.strip(" \"'") for part in found[1].split(".")]
            seen += line.lstrip().startswith("[[")
            if header == names[: len(header)] and (header != ["approach"] or seen == index):
                best = best if best and header != table else number
        inside = header == table[: len(header)] and (header != ["approach"] or seen == index)
        named = re.search(rf"(?:^|[{{,\s]){re.escape(names[-1])}\s*=", line)
        if inside and named and len(header) >= len(names) - 2:
            return number
    return best
