"""What findings are shown as, whoever draws it: headings, and cells with their words."""

from typing import Literal

from pydantic import BaseModel

Drawing = Literal["runs", "interval", "bar", "parts", "words"]
"""How a column is drawn where there is room for drawing: every run on an axis of time, a ratio with
its interval, a bar from nought, parts of a bar, or its words alone."""

Tone = Literal["plain", "bad", "caution"]


class Heading(BaseModel, frozen=True):
    """A column: ``label`` names it and ``note`` says more, ``how`` says how its values are got;
    ``usual`` ones are shown unless others are chosen. ``measure`` says whether it is one of the
    measures, which have an order and an axis."""

    key: str
    label: str
    how: str
    unit: str
    drawing: Drawing
    note: str = ""
    usual: bool = False
    measure: bool = True


class Part(BaseModel, frozen=True):
    """A part of a value, by name; the rest has none. Those that overlap add up to more."""

    name: str | None
    value: float


class BoardCell(BaseModel, frozen=True):
    """A lane in a column: its words, what may follow them in a fainter voice, the whole of what
    there is to say about it, and the value that a bar is drawn of, or its parts. No words, where
    it is not told."""

    text: str
    more: str = ""
    about: str = ""
    value: float | None = None
    parts: list[Part] = []
    overlap: bool = False
    tone: Tone = "plain"


class BoardRow(BaseModel, frozen=True):
    """A lane on the board: its cells by the key of their column; columns that it tells nothing of
    are not among them. ``trouble`` says what kept it from its end, or is empty."""

    lane: str
    cells: dict[str, BoardCell]
    trouble: str = ""


class Board(BaseModel, frozen=True):
    """Lanes side by side, in the order of the ranking."""

    headings: list[Heading]
    rows: list[BoardRow]
