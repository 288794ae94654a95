"""What a model says of values that it does not take, in plain words."""

from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError

_NAMES = "^[A-Za-z_]"
_LONGEST_SHOWN = 100


@dataclass(frozen=True)
class Told:
    """The first thing wrong: a sentence without its full stop, the path of keys to it, and how
    many more there are."""

    message: str
    path: str
    more: int


def told(error: ValidationError) -> Told:
    """The first of what a validation found, in words."""
    problems = error.errors(include_url=False)
    first = problems[0]
    return Told(sentence(first), path_of(first["loc"]), len(problems) - 1)


def path_of(keys: tuple[int | str, ...]) -> str:
    """A path of keys as it is written: ``tables.locks.columns[1]``."""
    path = ""
    for key in keys:
        path += f"[{key}]" if isinstance(key, int) else f".{key}" if path else str(key)
    return path


def _brief(value: str | int | float) -> str:
    """A value as it stands in a file, cut in the middle where it is long."""
    whole = repr(value)
    if len(whole) <= _LONGEST_SHOWN:
        return whole
    half = _LONGEST_SHOWN // 2
    return f"{whole[:half]} ... {whole[-half:]} ({len(str(value)):,} characters)"


def sentence(problem: Any) -> str:
    """What is wrong with one value, in words."""
    kind, context = problem["type"], problem.get("ctx", {})
    value = problem.get("input")
    shown = f", not {_brief(value)}" if isinstance(value, str | int | float | bool) else ""
    if kind == "string_pattern_mismatch" and str(context.get("pattern", "")).startswith(_NAMES):
        return (
            "a name holds letters, digits and underscores alone, up to 63, and begins with no "
            f"digit{shown}"
        )
    words = {
        "string_pattern_mismatch": "it is not written as it must be",
        "greater_than": "it must be more than {gt}",
        "greater_than_equal": "it must be at least {ge}",
        "less_than": "it must be less than {lt}",
        "less_than_equal": "it must be at most {le}",
        "int_type": "it must be a whole number",
        "int_parsing": "it must be a whole number",
        "int_from_float": "it must be a whole number",
        "float_type": "it must be a number",
        "float_parsing": "it must be a number",
        "bool_type": "it must be true or false",
        "bool_parsing": "it must be true or false",
        "string_type": "it must be text",
        "list_type": "it must be a list",
        "dict_type": "it must be a table of keys",
        "model_type": "it must be a table of keys",
        "too_short": "it needs at least {min_length} entries",
        "too_long": "it may have at most {max_length} entries",
        "string_too_short": "it needs at least {min_length} characters",
        "string_too_long": "it may have at most {max_length} characters",
        "literal_error": "it must be {expected}",
        "finite_number": "it must be a finite number",
        "missing": "it is missing",
    }
    if kind in words:
        return words[kind].format(**context) + shown
    message = str(problem["msg"]).removeprefix("Value error, ").rstrip(".")
    return message + (shown if kind not in ("value_error", "missing", "extra_forbidden") else "")
