"""Options of the command line that are the fields of a plan, made from them.

A flag is the field's name without its unit, behind ``--limit`` for limits; what is not said takes
the plan's own usual value.
"""

import argparse
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import format_limit, format_seconds, parse_bytes, parse_seconds
from ivrell.core.records.plan import Disturbed, Limits, Plan, Search, Until

FORMER_FLAGS = {
    "--calls-per-process": "--kept",
    "--min-sample": "--shortest",
    "--seed": "--order-seed",
}
"""Flags of earlier versions, which are still taken."""

_FLAGS = {
    "narrower_than": "--until",
    "within": "--search",
    "sandbox": "--no-sandbox",
    "approaches": "--only",
    "order_seed": "--seed",
}
_PERCENT = ("narrower_than", "within", "share", "repeat")
_ELSEWHERE = {"until", "search", "knobs", "points", "limits", "own_files", "disturbed"}
_PREFIX: dict[type[BaseModel], str] = {
    Plan: "--",
    Until: "--",
    Search: "--search-",
    Disturbed: "--disturbed-",
    Limits: "--limit-",
}
_OPENED_BY: dict[type[BaseModel], tuple[str, str]] = {
    Until: ("until", "narrower_than"),
    Search: ("search", "within"),
}
"""Parts that a plan has only where one of their options is given: the plan's field, that option."""


class Option(NamedTuple):
    """A flag, the part of a plan and the field that it sets."""

    flag: str
    part: type[BaseModel]
    name: str
    field: FieldInfo

    @property
    def dest(self) -> str:
        """Where the parsed value stands."""
        return f"{self.part.__name__}.{self.name}"


def options() -> Iterator[Option]:
    """Every option that a plan's fields make."""
    for part in _PREFIX:
        for name, field in part.model_fields.items():
            if part is Plan and name in _ELSEWHERE:
                continue
            flag = _FLAGS.get(name) or _PREFIX[part] + _without_unit(name).replace("_", "-")
            yield Option(flag, part, name, field)


def _without_unit(name: str) -> str:
    for unit in ("_bytes", "_seconds", "_s"):
        if name.endswith(unit):
            return name.removesuffix(unit)
    return name


def add_plan_options(parser: argparse.ArgumentParser) -> None:
    """Give a command the options of a plan."""
    for option in options():
        flags = [option.flag]
        if former := FORMER_FLAGS.get(option.flag):
            flags.append(former)
        told: dict[str, Any] = {"dest": option.dest, "default": None, "help": _help(option)}
        if option.name == "sandbox":
            told |= {"action": "store_const", "const": "off", "help": "run outside of sandboxes"}
        elif option.name == "background":
            told |= {"action": "append", "metavar": "LOAD"}
        elif option.name == "within":
            told |= {"nargs": "?", "const": f"{100 * option.field.default:g}", "metavar": "PERCENT"}
        elif option.field.annotation is bool:
            told |= {"action": "store_const", "const": True}
        else:
            told |= {"metavar": _metavar(option)}
        parser.add_argument(*flags, **told)


def _metavar(option: Option) -> str:
    if option.name in _PERCENT:
        return "PERCENT"
    if option.name.endswith("_bytes"):
        return "SIZE"
    if option.name == "seconds" or option.name.endswith(("_s", "_seconds")):
        return "S"
    if option.name == "cache":
        return "warm,cold"
    if option.name == "approaches":
        return "ID,ID"
    return "N,N" if _is_list(option.field) else "N"


def _help(option: Option) -> str:
    words = (
        option.field.description
        or _nested(option.field)
        or "ids of the approaches that run, all but retired ones unless given"
    )
    usual = option.field.default
    if option.name == "order_seed":
        return f"{words} (random unless given)"
    if isinstance(usual, bool | list) or usual is None or option.name in _FLAGS:
        return words
    if option.name in _PERCENT:
        return f"{words} ({100 * usual:g} %% unless given)"
    if option.name.endswith("_bytes"):
        shown = format_limit(usual)
    elif option.name.endswith(("seconds", "_s")):
        shown = format_seconds(usual) if usual else "0"
    else:
        shown = f"{usual:g}" if isinstance(usual, float) else str(usual)
    return f"{words} ({shown} unless given)"


def _nested(field: FieldInfo) -> str:
    """The description of a field that may be None, which stands with its other type."""
    for part in get_args(field.annotation):
        for note in getattr(part, "__metadata__", ()):
            if isinstance(note, FieldInfo) and note.description:
                return note.description
    return ""


def _is_list(field: FieldInfo) -> bool:
    return get_origin(field.annotation) is list


def given_in(args: argparse.Namespace) -> dict[str, Any]:
    """The fields of a plan that the options set, as plain data. Raises BadInput."""
    found: dict[type[BaseModel], dict[str, Any]] = {part: {} for part in _PREFIX}
    for option in options():
        text = getattr(args, option.dest)
        if text is not None:
            found[option.part][option.name] = _value(option, text)
    plan = found[Plan]
    for part, (field, opener) in _OPENED_BY.items():
        if opener in found[part]:
            plan[field] = found[part]
        elif found[part]:
            flags = ", ".join(o.flag for o in options() if o.part is part and o.name in found[part])
            flag = _FLAGS[opener]
            raise BadInput(f"{flags} goes with {flag}.", hint=f"Say {flag} 10, for ten per cent.")
    for part, field in ((Limits, "limits"), (Disturbed, "disturbed")):
        if found[part]:
            plan[field] = found[part]
    return plan


def _value(option: Option, text: Any) -> Any:
    if option.name in ("sandbox", "background") or option.field.annotation is bool:
        return text
    try:
        return _reader(option)(text)
    except ValueError:
        raise BadInput(f'{option.flag} {text}: "{text}" is not {_metavar(option)}.') from None


def _reader(option: Option) -> Callable[[str], Any]:
    if option.name in _PERCENT:
        return lambda text: float(text.rstrip(" %")) / 100
    if option.name.endswith("_bytes"):
        return parse_bytes
    if option.name == "seconds" or option.name.endswith(("_s", "_seconds")):
        return parse_seconds
    if option.name == "approaches":
        return lambda text: [lane for lane in text.split(",") if lane] or None
    if option.name == "threads":
        return lambda text: [int(n) for n in text.split(",") if n] or [None]
    if _is_list(option.field):
        return lambda text: text.split(",")
    return float if option.field.annotation is float else int
