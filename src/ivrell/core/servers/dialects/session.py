"""A session on a database server by the database API for Python (PEP 249), whatever the driver.

Standard library only: what a worker loads besides is the driver itself.
"""

import importlib
from collections.abc import Mapping, Sequence
from typing import Any

from ivrell.core.records.wire import Client
from ivrell.core.servers.dialects.base import Ask

MARK = "\ue000"
"""Stands for a bound value until the driver's way of marking it is known: it is in no text."""

_MARKS = {
    "qmark": "?",
    "format": "%s",
    "pyformat": "%({name})s",
    "named": ":{name}",
    "numeric": ":{place}",
    "numeric_dollar": "${place}",
}


def opened(client: Client) -> Any:
    """A session, each statement on its own. Raises the driver's error."""
    session = importlib.import_module(client.driver).connect(*client.given, **client.named)
    own = getattr(session, "autocommit", None)
    if callable(own):
        own(True)
    elif own is not True:
        session.autocommit = True
    return session


def ask_of(session: Any) -> Ask:
    """How a session is asked; each statement has a cursor of its own."""

    def ask(statement: str) -> list[tuple[Any, ...]]:
        cursor = session.cursor()
        try:
            cursor.execute(statement)
            return [tuple(row) for row in cursor.fetchall()] if cursor.description else []
        finally:
            cursor.close()

    return ask


def bound(
    style: str, text: str, names: Sequence[str], knobs: Mapping[str, Any]
) -> tuple[str, Sequence[Any] | Mapping[str, Any]]:
    """A statement as a driver takes it, and the values that go with it.

    Args:
        style: the driver's ``paramstyle``; ``numeric_dollar`` besides those of PEP 249.
        text: with MARK where a value is bound.
        names: the knob of each, in order.
    """
    if not names:
        return text, ()
    first, *rest = text.split(MARK)
    values = [knobs[name] for name in names]
    if style in ("format", "pyformat"):
        first, rest = first.replace("%", "%%"), [piece.replace("%", "%%") for piece in rest]
    pieces = [first]
    for place, (name, piece) in enumerate(zip(names, rest, strict=True), 1):
        pieces += [_MARKS[style].format(place=place, name=name), piece]
    text = "".join(pieces)
    by_name = style in ("pyformat", "named")
    return text, ({name: knobs[name] for name in names} if by_name else values)
