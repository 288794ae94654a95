"""Text in which every column has its place: the same characters of every line."""

import pyarrow as pa
import pyarrow.compute as pc

from ivrell.core.base.errors import BadInput
from ivrell.core.recipe.forms.base import Layout, Picks, TextForm, in_seconds, text_bytes


class Fixed(TextForm):
    """Fixed width: no header, a line a row, numbers to the right of their field and all else
    to the left, spaces for null; the fields' places stand in a file beside it."""

    suffix = "fixed"

    def encode(self, batch: pa.RecordBatch, layout: Layout, picks: Picks) -> bytes:
        rows = in_seconds(batch)
        fields = [
            _padded(name, column, layout.widths[name])
            for name, column in zip(rows.schema.names, rows.columns, strict=True)
        ]
        lines = pc.binary_join_element_wise(*fields, pa.scalar("\n"), "")
        data = text_bytes(lines)
        return _broken(data, picks, layout) if picks else data


def places(layout: Layout) -> list[dict[str, int | str]]:
    """Where each column stands in a line: its name, first character from 0, and width."""
    found: list[dict[str, int | str]] = []
    start = 0
    for name in layout.schema.names:
        found.append({"name": name, "start": start, "width": layout.widths[name]})
        start += layout.widths[name]
    return found


def _padded(name: str, column: pa.Array, width: int) -> pa.Array:
    number = pa.types.is_integer(column.type) or pa.types.is_floating(column.type)
    text = pc.fill_null(column.cast(pa.string()), "")
    longest = pc.max(pc.utf8_length(text)).as_py() or 0
    if longest > width:
        raise BadInput(
            f"A value of {name} has {longest} characters and its field in a fixed-width line has "
            f"{width}.",
            where=name,
            hint="Take another form, or bound the column's values.",
        )
    if pc.any(pc.match_substring_regex(text, "[\r\n]")).as_py():
        raise BadInput(
            f"A value of {name} holds a line end, which a fixed-width line cannot.", where=name
        )
    return pc.utf8_lpad(text, width) if number else pc.utf8_rpad(text, width)


def _broken(data: bytes, picks: Picks, layout: Layout) -> bytes:
    lines = data.split(b"\n")
    last = layout.widths[layout.schema.names[-1]]
    for row, way in picks:
        line = lines[row]
        lines[row] = {
            "missing field": line[:-last],
            "extra field": line + b"surplus",
            "open quote": b'"' + line,
            "bad number": line[:-6] + b"12..5x",
            "bad encoding": line[:1] + b"\xff" + line[2:],
        }[way]
    return b"\n".join(lines)
