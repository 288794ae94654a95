"""Reading formulas of the OpenFormula standard, with Ivrell's braces for tables' columns.

``{barges.hull}`` is the whole range of a column, ``{barges}`` that of a table, ``{row.barge}``
the cell of a column on the formula's own row. Precedence as in the standard, from loosest:
comparison, ``&``, ``+ -``, ``* /``, ``^``, prefix ``+ -``, ``%``; all are taken from the left.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from ivrell.core.sheets.functions import FUNCTIONS

_TOKEN = re.compile(
    r"""
      (?P<space>\s+)
    | (?P<number>(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)
    | (?P<text>"(?:[^"]|"")*")
    | (?P<brace>\{[A-Za-z_]\w*(?:\.[A-Za-z_]\w*)?\})
    | (?P<bracket>\[[^\]]*\])
    | (?P<name>[A-Za-z_][\w.]*)
    | (?P<error>\#[A-Z/0]+[!?]?)
    | (?P<sign><>|<=|>=|[-+*/^&=<>%();{}|,])
    """,
    re.VERBOSE,
)
_LEVELS = (("=", "<>", "<", "<=", ">", ">="), ("&",), ("+", "-"), ("*", "/"), ("^",))
_CELL = re.compile(r"^\$?('?[^'.]*'?)?\.\$?[A-Z]{1,3}\$?\d{1,7}(:\.\$?[A-Z]{1,3}\$?\d{1,7})?$")


_DEEPEST = 300
_MOST_OPENED = 50
"""Of parentheses and functions within each other."""


class FormulaError(Exception):
    """A formula that cannot be used; ``position`` counts characters from 0."""

    def __init__(self, message: str, position: int, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.position = position
        self.hint = hint


@dataclass(frozen=True)
class Token:
    """A piece of a formula: its sort, its text, where it begins."""

    sort: str
    text: str
    position: int


@dataclass(frozen=True)
class Node:
    """A part of a formula: ``sort`` is number, text, error, column, cells, call, prefix, percent,
    array, missing, or an operator between two parts; ``value`` its own text or name."""

    sort: str
    value: str
    position: int
    parts: tuple["Node", ...] = field(default_factory=tuple)
    depth: int = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        depth = 1 + max((part.depth for part in self.parts), default=0)
        if depth > _DEEPEST:
            raise FormulaError(
                f"The formula goes deeper than {_DEEPEST} operations.", self.position,
                "Part it over several columns or cells.",
            )  # fmt: skip
        object.__setattr__(self, "depth", depth)

    def walk(self) -> Iterator["Node"]:
        """This node and all below it."""
        yield self
        for part in self.parts:
            yield from part.walk()

    @property
    def place(self) -> tuple[str, str]:
        """Table and column of a ``column`` node; no column where it is the whole table."""
        table, _, column = self.value.partition(".")
        return table, column


def tokens(text: str) -> list[Token]:
    """The pieces of a formula, without its first ``=``. Raises FormulaError."""
    found = []
    position = len(text) - len(text.lstrip())
    if text[position : position + 1] != "=":
        raise FormulaError("A formula begins with =.", position)
    position += 1
    while position < len(text):
        match = _TOKEN.match(text, position)
        if match is None:
            shown = text[position]
            if shown == '"':
                raise FormulaError("This text has no closing quote.", position)
            raise FormulaError(f"“{shown}” has no meaning here.", position)
        assert match.lastgroup
        if match.lastgroup != "space":
            found.append(Token(match.lastgroup, match[0], position))
        position = match.end()
    return [*found, Token("end", "", len(text))]


def parse(text: str) -> Node:
    """The tree of a formula. Raises FormulaError with the place of the first mistake."""
    reader = _Reader(tokens(text))
    node = reader.compared()
    rest = reader.now
    if rest.sort != "end":
        if rest.text == ",":
            raise FormulaError(
                "Arguments are parted by a semicolon, not a comma.", rest.position, "Write ; here."
            )
        raise FormulaError(f"“{rest.text}” is one too many here.", rest.position)
    return node


class _Reader:
    def __init__(self, pieces: list[Token]) -> None:
        self._pieces = pieces
        self._at = 0
        self._opened = 0

    @property
    def now(self) -> Token:
        return self._pieces[self._at]

    def _next(self) -> Token:
        self._at += 1
        return self._pieces[self._at - 1]

    def compared(self) -> Node:
        self._opened += 1
        if self._opened > _MOST_OPENED:
            raise FormulaError(
                f"More than {_MOST_OPENED} parentheses stand within each other.",
                self.now.position, "Part the formula over several columns or cells.",
            )  # fmt: skip
        node = self._level(0)
        self._opened -= 1
        return node

    def _level(self, level: int) -> Node:
        if level == len(_LEVELS):
            return self._prefixed()
        node = self._level(level + 1)
        while self.now.sort == "sign" and self.now.text in _LEVELS[level]:
            sign = self._next()
            node = Node(sign.text, sign.text, sign.position, (node, self._level(level + 1)))
        return node

    def _prefixed(self) -> Node:
        if self.now.sort == "sign" and self.now.text in "+-":
            signs = []
            while self.now.sort == "sign" and self.now.text in "+-":
                signs.append(self._next())
            node = self._prefixed()
            for sign in reversed(signs):
                node = Node("prefix", sign.text, sign.position, (node,))
            return node
        node = self._single()
        while self.now.text == "%":
            sign = self._next()
            node = Node("percent", "%", sign.position, (node,))
        return node

    def _single(self) -> Node:
        token = self._next()
        if token.sort in ("number", "text", "error"):
            return Node(token.sort, token.text, token.position)
        if token.sort == "brace":
            return Node("column", token.text[1:-1], token.position)
        if token.sort == "bracket":
            inside = token.text[1:-1]
            if not _CELL.match(inside):
                raise FormulaError(
                    f"“{token.text}” is no reference.", token.position,
                    "Write [.A1], [.A1:.B9], or [$'sheet'.A1].",
                )  # fmt: skip
            return Node("cells", inside, token.position)
        if token.sort == "name":
            return self._called(token)
        if token.text == "(":
            node = self.compared()
            self._close(")", token)
            return node
        if token.text == "{":
            return self._array(token)
        if token.sort == "end":
            raise FormulaError("The formula ends where a value is wanted.", token.position)
        if token.text == ",":
            raise FormulaError(
                "Arguments are parted by a semicolon, not a comma.", token.position, "Write ;."
            )
        raise FormulaError(f"A value is wanted here, not “{token.text}”.", token.position)

    def _called(self, name: Token) -> Node:
        if self.now.text != "(":
            raise FormulaError(
                f"“{name.text}” is neither a function nor a reference.", name.position,
                "A column is {table.column}, a cell of the own row {row.column}.",
            )  # fmt: skip
        known = name.text.upper()
        if known not in FUNCTIONS:
            raise FormulaError(
                f"The standard has no function {known}.", name.position, _like(known)
            )
        opened = self._next()
        parts: list[Node] = []
        while self.now.text != ")":
            if self.now.text == ";":
                parts.append(Node("missing", "", self.now.position))
            else:
                parts.append(self.compared())
            if self.now.text == ";":
                self._next()
                if self.now.text == ")":
                    parts.append(Node("missing", "", self.now.position))
            elif self.now.text != ")":
                break
        self._close(")", opened)
        return Node("call", known, name.position, tuple(parts))

    def _array(self, opened: Token) -> Node:
        parts = []
        signs = ""
        while True:
            parts.append(self._prefixed())
            if self.now.text in (";", "|"):
                signs += self._next().text
                continue
            break
        self._close("}", opened)
        return Node("array", signs, opened.position, tuple(parts))

    def _close(self, wanted: str, opened: Token) -> None:
        token = self.now
        if token.text == wanted:
            self._next()
            return
        if token.text == ",":
            raise FormulaError(
                "Arguments are parted by a semicolon, not a comma.", token.position, "Write ; here."
            )
        if token.sort == "end":
            raise FormulaError(f"“{opened.text}” is never closed.", opened.position)
        raise FormulaError(f"“{wanted}” is wanted here, not “{token.text}”.", token.position)


def _like(name: str) -> str:
    import difflib

    near = difflib.get_close_matches(name, FUNCTIONS, 2)
    return f"Did you mean {' or '.join(near)}?" if near else ""


def written(node: Node) -> str:
    """A tree as a formula again, without its first =, every part in parentheses."""
    parts = [written(part) for part in node.parts]
    if node.sort == "column":
        return f"{{{node.value}}}"
    if node.sort == "cells":
        return f"[{node.value}]"
    if node.sort == "call":
        return f"{node.value}({';'.join(parts)})"
    if node.sort == "prefix":
        return f"({node.value}{parts[0]})"
    if node.sort == "percent":
        return f"({parts[0]}%)"
    if node.sort == "array":
        between = [*node.value, ""]
        return "{" + "".join(p + sign for p, sign in zip(parts, between, strict=True)) + "}"
    if parts:
        return f"({parts[0]}{node.value}{parts[1]})"
    return node.value
