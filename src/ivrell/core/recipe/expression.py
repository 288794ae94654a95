"""Arithmetic on columns of the same row, written as a plain expression."""

import ast
import math
from collections.abc import Mapping
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

_OPERATIONS = {
    ast.Add: pc.add_checked,
    ast.Sub: pc.subtract_checked,
    ast.Mult: pc.multiply_checked,
}
_LONGEST = 500
_READ = "numbers, column names, + - * / and parentheses"


def names_in(text: str) -> set[str]:
    """The columns that an expression uses. Raises ValueError when it is none."""
    return {node.id for node in ast.walk(_parsed(text)) if isinstance(node, ast.Name)}


def evaluate(text: str, columns: Mapping[str, pa.Array]) -> pa.Array:
    """Value of the expression for each row; null where any column used is null.

    ``/`` gives float64; the others keep whole numbers whole. Raises ValueError where a whole
    number leaves what 64 bits can hold.
    """
    try:
        return _value(_parsed(text).body, columns)
    except (pa.ArrowInvalid, OverflowError):
        raise ValueError(
            f'"{text}" gives whole numbers that 64 bits cannot hold; multiply by 1.0 first to '
            "reckon with real ones"
        ) from None


def _parsed(text: str) -> ast.Expression:
    if len(text) > _LONGEST:
        raise ValueError(f"an expression has at most {_LONGEST} characters, this one {len(text):,}")
    try:
        tree = ast.parse(text.strip(), mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        raise ValueError(f'"{text}" is not an expression: use {_READ}') from None
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and not _is_number(node.value):
            raise ValueError(f'"{text}" holds what is no number of 64 bits: use {_READ}')
        good = isinstance(
            node,
            ast.Expression | ast.BinOp | ast.UnaryOp | ast.USub | ast.Name | ast.Load
            | ast.Add | ast.Sub | ast.Mult | ast.Div
            | ast.Constant,
        )  # fmt: skip
        if not good:
            raise ValueError(f'"{text}" holds what cannot be used here: use {_READ}')
    return tree


def _is_number(value: object) -> bool:
    if type(value) is float:
        return math.isfinite(value)
    return type(value) is int and abs(value) < 2**63


def _value(node: ast.expr, columns: Mapping[str, pa.Array]) -> Any:
    if isinstance(node, ast.Constant):
        return pa.scalar(node.value)
    if isinstance(node, ast.Name):
        return columns[node.id]
    if isinstance(node, ast.UnaryOp):
        return pc.negate_checked(_value(node.operand, columns))
    assert isinstance(node, ast.BinOp)
    left, right = _value(node.left, columns), _value(node.right, columns)
    if isinstance(node.op, ast.Div):
        return pc.divide(pc.cast(left, pa.float64()), pc.cast(right, pa.float64()))
    return _OPERATIONS[type(node.op)](left, right)
