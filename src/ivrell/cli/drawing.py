"""Lanes over a knob, drawn in the characters of a terminal."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import floor, log
from string import ascii_uppercase

HEIGHT = 14
_MARGIN = 11
_NARROWEST = 50


@dataclass(frozen=True)
class Line:
    """A lane's values by size, all above 0."""

    name: str
    values: Mapping[float, float]


@dataclass(frozen=True)
class _Axis:
    """Logarithmic, from ``low`` to ``high`` over so many characters."""

    low: float
    high: float
    length: int

    def at(self, value: float) -> int:
        if self.high == self.low:
            return self.length // 2
        return round((self.length - 1) * log(value / self.low) / log(self.high / self.low))


def drawing(
    lines: Sequence[Line],
    crossings: Sequence[float],
    told: Callable[[float], str],
    told_size: Callable[[float], str],
    width: int,
) -> str:
    """A drawing with both axes logarithmic: a letter a lane at each size, dots between, ``|`` where
    the lead changes, and below it which letter is which lane.

    Args:
        lines: of at most 26 lanes.
        crossings: sizes where the lead changes.
        told: says a value, ``told_size`` a size.
        width: characters of a line.
    """
    lines = [line for line in lines if line.values][: len(ascii_uppercase)]
    sizes = sorted({size for line in lines for size in line.values})
    values = [value for line in lines for value in line.values.values()]
    if len(sizes) < 2:
        return ""
    x = _Axis(sizes[0], sizes[-1], max(width, _NARROWEST) - _MARGIN - 1)
    y = _Axis(min(values), max(values), HEIGHT)
    canvas = [[" "] * x.length for _ in range(HEIGHT)]
    for at in crossings:
        if x.low <= at <= x.high:
            for row in canvas:
                row[x.at(at)] = "|"
    for line in lines:
        _join(canvas, line, x, y)
    for letter, line in zip(ascii_uppercase, lines, strict=False):
        for size, value in line.values.items():
            _put(canvas, x.at(size), y.at(value), letter)
    labels = {HEIGHT - 1: told(y.high), 0: told(y.low), HEIGHT // 2: told((y.low * y.high) ** 0.5)}
    rows = [
        f"{labels.get(place, ''):>{_MARGIN - 1}} {''.join(canvas[place])}".rstrip()
        for place in reversed(range(HEIGHT))
    ]
    names = [f"{letter} {line.name}" for letter, line in zip(ascii_uppercase, lines, strict=False)]
    return "\n".join([*rows, _ticks(sizes, x, told_size), *_wrapped(names, width)])


def _join(canvas: list[list[str]], line: Line, x: _Axis, y: _Axis) -> None:
    """Dots from size to size."""
    points = [(x.at(size), y.at(value)) for size, value in sorted(line.values.items())]
    for (x0, y0), (x1, y1) in pairwise(points):
        for column in range(x0 + 1, x1):
            row = floor(y0 + (y1 - y0) * (column - x0) / (x1 - x0) + 0.5)
            if canvas[row][column] in " |":
                canvas[row][column] = "."


def _put(canvas: list[list[str]], column: int, row: int, letter: str) -> None:
    """A letter, or a star where another lane's stands already."""
    taken = canvas[row][column] in ascii_uppercase
    canvas[row][column] = "*" if taken and canvas[row][column] != letter else letter


def _ticks(sizes: Sequence[float], x: _Axis, told_size: Callable[[float], str]) -> str:
    """Sizes below the axis: the first, the last, and those between that do not touch others."""
    line = [" "] * (_MARGIN + x.length)
    for size in (sizes[0], sizes[-1], *sizes[1:-1]):
        label = told_size(size)
        at = min(_MARGIN + x.at(size), len(line) - len(label))
        around = line[max(at - 2, 0) : at + len(label) + 2]
        if not "".join(around).strip():
            line[at : at + len(label)] = label
    return "".join(line).rstrip()


def _wrapped(names: Sequence[str], width: int) -> list[str]:
    """Names side by side, as many a line as fit."""
    rows = [""]
    for name in names:
        if rows[-1] and len(rows[-1]) + len(name) + 3 > width:
            rows.append("")
        rows[-1] += f"{'   ' if rows[-1] else ''}{name}"
    return [f"{' ' * _MARGIN}{row}" for row in rows]
