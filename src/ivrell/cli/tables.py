"""Tables of text in which nothing is ever cut."""

import shutil
import sys
from collections.abc import Sequence
from dataclasses import dataclass

_GAP = "  "


@dataclass(frozen=True)
class Heading:
    """A column: its words, whether it holds text (else numbers, set to the right), and how soon
    it may be left out where there is too little room: 0 never, the highest first."""

    words: str
    text: bool = False
    dispensable: int = 0


def table(headings: Sequence[Heading], rows: Sequence[Sequence[str]]) -> str:
    """The lines of a table. On a terminal that is too narrow columns are left out, and said so;
    elsewhere it is as wide as it needs. A row may be shorter than the headings: its last cell
    then runs on."""
    room = shutil.get_terminal_size().columns if sys.stdout.isatty() else None
    kept = list(range(len(headings)))
    left_out: list[str] = []
    while room and _width(headings, rows, kept) > room:
        spare = [place for place in kept if headings[place].dispensable]
        if not spare:
            break
        place = max(spare, key=lambda p: headings[p].dispensable)
        kept.remove(place)
        left_out.append(headings[place].words)
    widths = [_column(headings, rows, place) for place in kept]
    lines = [_line([headings[place].words for place in kept], headings, kept, widths)]
    for row in rows:
        cells = [row[place] if place < len(row) else "" for place in kept]
        lines.append(_line(cells, headings, kept, widths, len(row) < len(headings)))
    if left_out:
        lines.append(f"(For want of room without: {', '.join(left_out)}.)")
    return "\n".join(lines)


def _column(headings: Sequence[Heading], rows: Sequence[Sequence[str]], place: int) -> int:
    # The last cell of a short row runs on, so it asks for no room.
    cells = [row[place] for row in rows if place < len(row) - (len(row) < len(headings))]
    return max(map(len, [headings[place].words, *cells]))


def _width(headings: Sequence[Heading], rows: Sequence[Sequence[str]], kept: list[int]) -> int:
    return sum(_column(headings, rows, place) + len(_GAP) for place in kept) - len(_GAP)


def _line(
    cells: Sequence[str],
    headings: Sequence[Heading],
    kept: list[int],
    widths: list[int],
    short: bool = False,
) -> str:
    told = [
        cell if short and len(cell) > width else
        cell.ljust(width) if headings[place].text else cell.rjust(width)
        for cell, place, width in zip(cells, kept, widths, strict=True)
    ]  # fmt: skip
    return _GAP.join(told).rstrip()
