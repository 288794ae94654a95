"""JSON Lines on disk: a record a line, ended by "\\n" alone, as the format has it."""

import json
import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

_PIECE = 1 << 20


def whole_lines(path: Path) -> list[dict[str, Any]]:
    """The records of a file, without a last line that was cut off; none where there is no file.

    Other characters that some take for ends of lines, such as U+2028, may stand in records.
    """
    try:
        text = path.read_bytes()
    except FileNotFoundError:
        return []
    return [json.loads(line) for line in text[: text.rfind(b"\n") + 1].split(b"\n") if line]


def cut_to_whole_lines(path: Path) -> None:
    """Take off a last line that was cut off, in place: nothing else of the file is written."""
    with path.open("r+b") as file:
        end = file.seek(0, os.SEEK_END)
        while end:
            start = max(0, end - _PIECE)
            file.seek(start)
            at = file.read(end - start).rfind(b"\n")
            if at >= 0:
                end = start + at + 1
                break
            end = start
        file.truncate(end)


def as_line(record: Mapping[str, Any]) -> str:
    """A record as its line."""
    return json.dumps(record, ensure_ascii=False) + "\n"
