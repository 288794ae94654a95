"""Tables of text in which nothing is ever cut: long words go on below, and what has no room is
named."""

import shutil
import sys
import textwrap
from collections.abc import Sequence
from dataclasses import dataclass

WIDTH = 100
"""Columns of text that a table takes at most where there is no terminal to be asked."""

_GAP = "  "
_LEAST = 24
_NOTHING = {"", "0", "0 B", "0 s"}


@dataclass(frozen=True)
class Heading:
    """A column: its words, whether it holds text (else numbers, set to the right), how soon it may
    be left out where there is too little room (0 never, the highest first), and whether its cells
    may go on below. One that may be left out is, where it says nothing of any row."""

    words: str
    text: bool = False
    dispensable: int = 0
    wraps: bool = False


def room() -> int:
    """Columns of text that a table may take."""
    return shutil.get_terminal_size().columns if sys.stdout.isatty() else WIDTH


def table(headings: Sequence[Heading], rows: Sequence[Sequence[str]]) -> str:
    """The lines of a table. Where it would be too wide, columns that wrap are made narrower, then
    columns are left out, which is said. A row may be shorter than the headings: its last cell then
    runs on."""
    kept = [
        place
        for place, heading in enumerate(headings)
        if not heading.dispensable or not _says_nothing(rows, place)
    ]
    left_out: list[str] = []
    while True:
        widths = _widths(headings, rows, kept)
        spare = [place for place in kept if headings[place].dispensable]
        if _total(widths) <= room() or not spare:
            break
        place = max(spare, key=lambda p: headings[p].dispensable)
        kept.remove(place)
        left_out.append(headings[place].words)
    lines = _lines([headings[place].words for place in kept], headings, kept, widths)
    for row in rows:
        cells = [row[place] if place < len(row) else "" for place in kept]
        lines += _lines(cells, headings, kept, widths, len(row) < len(headings))
    if left_out:
        lines.append(f"(For want of room without: {', '.join(left_out)}.)")
    return "\n".join(lines)


def fits(headings: Sequence[Heading], rows: Sequence[Sequence[str]]) -> bool:
    """Whether a table has room without leaving anything out."""
    return _total(_widths(headings, rows, list(range(len(headings))))) <= room()


def _says_nothing(rows: Sequence[Sequence[str]], place: int) -> bool:
    return all(place >= len(row) or row[place] in _NOTHING for row in rows)


def _total(widths: Sequence[int]) -> int:
    return sum(widths) + len(_GAP) * (len(widths) - 1)


def _widths(
    headings: Sequence[Heading], rows: Sequence[Sequence[str]], kept: Sequence[int]
) -> list[int]:
    """Widths of the columns kept, with those that wrap as narrow as there is need for."""
    widths = [_column(headings, rows, place) for place in kept]
    for at, place in enumerate(kept):
        over = _total(widths) - room()
        if headings[place].wraps and over > 0:
            widths[at] = max(min(_LEAST, widths[at]), widths[at] - over)
    return widths


def _column(headings: Sequence[Heading], rows: Sequence[Sequence[str]], place: int) -> int:
    # The last cell of a short row runs on, so it asks for no room.
    cells = [row[place] for row in rows if place < len(row) - (len(row) < len(headings))]
    return max(map(len, [headings[place].words, *cells]))


def _lines(
    cells: Sequence[str],
    headings: Sequence[Heading],
    kept: Sequence[int],
    widths: Sequence[int],
    short: bool = False,
) -> list[str]:
    """A row, which goes on below where a cell wraps."""
    parts = [
        textwrap.wrap(cell, width) or [""] if headings[place].wraps else [cell]
        for cell, place, width in zip(cells, kept, widths, strict=True)
    ]
    lines = []
    for at in range(max(map(len, parts))):
        told = []
        for part, place, width in zip(parts, kept, widths, strict=True):
            cell = part[at] if at < len(part) else ""
            runs_on = short and len(cell) > width
            told.append(
                cell if runs_on else
                cell.ljust(width) if headings[place].text else cell.rjust(width)
            )  # fmt: skip
        lines.append(_GAP.join(told).rstrip())
    return lines
