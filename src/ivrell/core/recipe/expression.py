"""Arithmetic on columns of the same row, written as a plain expression."""

import ast
from collections.abc import Mapping
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

_OPERATIONS = {
    ast.Add: pc.add,
    ast.Sub: pc.subtract,
    ast.Mult: pc.multiply,
}
_READ = "numbers, column names, + - * / and parentheses"


def names_in(text: str) -> set[str]:
    """The columns that an expression uses. Raises ValueError when it is none."""
    return {node.id for node in ast.walk(_parsed(text)) if isinstance(node, ast.Name)}


def evaluate(text: str, columns: Mapping[str, pa.Array]) -> pa.Array:
    """Value of the expression for each row; null where any column used is null.

    ``/`` gives float64; the others keep whole numbers whole and raise no error on overflow
    of float64.
    """
    return _value(_parsed(text).body, columns)


def _parsed(text: str) -> ast.Expression:
    try:
        tree = ast.parse(text.strip(), mode="eval")
    except SyntaxError:
        raise ValueError(f'"{text}" is not an expression: use {_READ}') from None
    for node in ast.walk(tree):
        good = isinstance(
            node,
            ast.Expression | ast.BinOp | ast.UnaryOp | ast.USub | ast.Name | ast.Load
            | ast.Add | ast.Sub | ast.Mult | ast.Div,
        ) or (isinstance(node, ast.Constant) and type(node.value) in (int, float))  # fmt: skip
        if not good:
            raise ValueError(f'"{text}" holds what cannot be used here: use {_READ}')
    return tree


def _value(node: ast.expr, columns: Mapping[str, pa.Array]) -> Any:
    if isinstance(node, ast.Constant):
        return pa.scalar(node.value)
    if isinstance(node, ast.Name):
        return columns[node.id]
    if isinstance(node, ast.UnaryOp):
        return pc.negate(_value(node.operand, columns))
    assert isinstance(node, ast.BinOp)
    left, right = _value(node.left, columns), _value(node.right, columns)
    if isinstance(node.op, ast.Div):
        return pc.divide(pc.cast(left, pa.float64()), pc.cast(right, pa.float64()))
    return _OPERATIONS[type(node.op)](left, right)
