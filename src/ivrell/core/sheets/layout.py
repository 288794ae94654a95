"""Where tables, answer columns, inputs and repeats stand, and formulas as the engine takes them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ivrell.core.sheets.formula import FormulaError, Node, parse, tokens
from ivrell.core.sheets.functions import engine_name
from ivrell.core.sheets.model import Repeat

MOST_ROWS = 1_048_576
ANSWER = "answer"
CELLS = "cells"
REPEATS = "repeats"
OWN_ROW = "row"


def letters(index: int) -> str:
    """Name of a column of a sheet, counted from 0: A, B, ..., Z, AA, ..."""
    found = ""
    index += 1
    while index:
        index, rest = divmod(index - 1, 26)
        found = chr(65 + rest) + found
    return found


@dataclass(frozen=True)
class Block:
    """Columns on a sheet, ``rows`` of values each, under a header or not."""

    sheet: str
    columns: Sequence[str]
    rows: int
    header: bool = True

    @property
    def first(self) -> int:
        """Row number of the first values, from 1."""
        return 2 if self.header else 1

    def letter(self, column: str) -> str:
        """Letters of a column."""
        return letters(list(self.columns).index(column))

    def whole(self, column: str, until: str | None = None) -> str:
        """Range of a column, or of those up to another, fixed."""
        first, last = self.letter(column), self.letter(until or column)
        return f"$'{self.sheet}'.${first}${self.first}:${last}${self.first + self.rows - 1}"

    def cell(self, column: str) -> str:
        """Cell of a column in the first row, its row moving along."""
        return f"$'{self.sheet}'.${self.letter(column)}{self.first}"


@dataclass(frozen=True)
class Places:
    """All that a formula may name.

    Attributes:
        tables: tables on their sheets.
        rows_of: the table whose rows the answer's rows stand beside.
        answer: the answer sheet's columns, helpers among them.
        cells: names of single cells, in the order in which they stand.
    """

    tables: Mapping[str, Block]
    rows_of: str
    answer: Block
    cells: Sequence[str]

    def times(self, repeat: Repeat) -> int:
        """How often a model is repeated."""
        return self.tables[repeat.times].rows if isinstance(repeat.times, str) else repeat.times

    def address(self, node: Node) -> str:
        """A ``column`` node as an address. Raises FormulaError where it names nothing."""
        table, column = node.place
        if table == OWN_ROW:
            return self._own_row(column, node)
        if table == CELLS:
            if column not in self.cells:
                raise _unknown(f"cell {column}", self.cells, node)
            return f"$'{CELLS}'.$B${list(self.cells).index(column) + 1}"
        block = self.answer if table == ANSWER else self.tables.get(table)
        if block is None:
            raise _unknown(f"table {table}", [*self.tables, ANSWER], node)
        if not column:
            return block.whole(block.columns[0], block.columns[-1])
        if column not in block.columns:
            raise _unknown(f"column {column} in {table}", block.columns, node)
        return block.whole(column)

    def on_answer(self, node: Node) -> str | None:
        """The answer's own column that a ``column`` node names, or None."""
        table, column = node.place
        beside = self.tables[self.rows_of].columns if table == OWN_ROW else ()
        own = table in (ANSWER, OWN_ROW) and column not in beside
        return column if own and column in self.answer.columns else None

    def _own_row(self, column: str, node: Node) -> str:
        block = self.tables[self.rows_of]
        if column in block.columns:
            return block.cell(column)
        if column in self.answer.columns:
            return self.answer.cell(column)
        known = [*block.columns, *self.answer.columns]
        raise _unknown(f"column {column} on the own row", known, node)

    def translated(self, formula: str) -> str:
        """A formula as the engine's interface takes it. Raises FormulaError."""
        parse(formula)
        pieces = ["="]
        for token in tokens(formula):
            if token.sort == "brace":
                pieces.append(self.address(Node("column", token.text[1:-1], token.position)))
            elif token.sort == "bracket":
                pieces.append(token.text[1:-1].replace(":.", ":").removeprefix("."))
            elif token.sort == "name":
                pieces.append(engine_name(token.text.upper()))
            else:
                pieces.append(token.text)
        return "".join(pieces)


def _unknown(what: str, known: Sequence[str], node: Node) -> FormulaError:
    return FormulaError(f"There is no {what}.", node.position, f"Known: {', '.join(known)}.")
