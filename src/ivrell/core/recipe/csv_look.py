"""How a csv file seems to be written, found by looking at it; standard library only.

Encoding: the whole file is tried as UTF-8. Everything else: from its first lines.
"""

import codecs
import csv
import io
import re
from collections import Counter
from functools import lru_cache
from pathlib import Path

from ivrell.core.recipe.csv_style import BYTE_ORDER_MARK, DELIMITERS, UTF_8, CsvStyle

_HEAD = 1 << 20
_READ = 1 << 22
_LINES = 2000
_WHOLE = re.compile(r"[+-]?\d+(,\d+)?$")
_AMONG_WINDOWS_ALONE = re.compile(rb"[\x80-\x9f]")


def seen_style(path: Path) -> CsvStyle:
    """The style that a csv file's own bytes speak for; the usual one where they speak for none.

    Raises OSError where it cannot be read.
    """
    state = path.stat()
    return _seen(path, state.st_mtime_ns, state.st_size)


def header_alone(path: Path, style: CsvStyle) -> list[str] | None:
    """The names of a csv file's columns where nothing but they stand in it, else None."""
    if not style.header:
        return None
    encoding = "utf-8-sig" if style.encoding == UTF_8 else style.encoding
    with path.open(encoding=encoding, errors="replace", newline="") as file:
        rows = csv.reader(file, delimiter=style.delimiter)
        try:
            names = next(rows, None)
            return None if names is None or any(rows) else names
        except csv.Error:
            return None


@lru_cache(maxsize=64)
def _seen(path: Path, _changed: int, _size: int) -> CsvStyle:
    with path.open("rb") as file:
        head = file.read(_HEAD)
    marked = head.startswith(BYTE_ORDER_MARK)
    encoding = UTF_8 if marked or _is_utf_8(path) else _one_byte_encoding(path)
    whole = head if len(head) < _HEAD else head[: head.rfind(b"\n") + 1]
    text = whole.removeprefix(BYTE_ORDER_MARK).decode(encoding, "replace")
    delimiter, rows = _delimited(text)
    return CsvStyle(
        delimiter=delimiter,  # type: ignore[arg-type]
        quoting="all" if _all_quoted(text, delimiter, rows) else "needed",
        decimal="," if delimiter != "," and _has_decimal_commas(rows[1:]) else ".",
        encoding=encoding,  # type: ignore[arg-type]
        byte_order_mark=marked,
    )


def _is_utf_8(path: Path) -> bool:
    decoder = codecs.getincrementaldecoder(UTF_8)()
    with path.open("rb", buffering=0) as file:
        try:
            while piece := file.read(_READ):
                decoder.decode(piece)
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            return False
    return True


def _one_byte_encoding(path: Path) -> str:
    with path.open("rb", buffering=0) as file:
        while piece := file.read(_READ):
            if _AMONG_WINDOWS_ALONE.search(piece):
                return "windows-1252"
    return "latin-1"


def _delimited(text: str) -> tuple[str, list[list[str]]]:
    """The delimiter by which most of the lines have as many fields as the first one, two at the
    least, and the rows by it."""
    best, found, most = ",", _rows(text, ","), 0.0
    for delimiter in DELIMITERS:
        rows = _rows(text, delimiter)
        if not rows or len(rows[0]) < 2:
            continue
        counts = Counter(map(len, rows))
        alike = counts[len(rows[0])] / len(rows)
        if alike > max(most, 0.5):
            best, found, most = delimiter, rows, alike
    return best, found


def _rows(text: str, delimiter: str) -> list[list[str]]:
    rows: list[list[str]] = []
    try:
        for row in csv.reader(io.StringIO(text, newline=""), delimiter=delimiter):
            rows += [row] if row else []
            if len(rows) >= _LINES:
                break
    except csv.Error:
        # A field longer than the reader takes: the lines before it must do.
        pass
    return rows


def _all_quoted(text: str, delimiter: str, rows: list[list[str]]) -> bool:
    if not rows:
        return False
    written = io.StringIO()
    csv.writer(written, delimiter=delimiter, quoting=csv.QUOTE_ALL, lineterminator="\n").writerows(
        rows
    )
    plain = text.replace("\r\n", "\n")
    return plain.startswith(written.getvalue().rstrip("\n"))


def _has_decimal_commas(rows: list[list[str]]) -> bool:
    """Whether some column holds nothing but numbers without a point, of which one has a comma that
    parts no thousands."""
    columns = list(zip(*rows, strict=False))
    return any(
        all(_WHOLE.match(value) for value in known)
        and any("," in value and len(value.partition(",")[2]) != 3 for value in known)
        for column in columns
        if (known := [value for value in column if value])
    )
