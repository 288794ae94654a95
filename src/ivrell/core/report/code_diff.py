"""Two approaches' code held against each other, line by line."""

from difflib import SequenceMatcher
from itertools import count

from ivrell.core.records.pair import DiffLine


def code_diff(base: str, lane: str) -> list[DiffLine]:
    """Every line of two texts: same, removed from the base, or added in the lane."""
    old, new = base.splitlines(), lane.splitlines()
    found: list[DiffLine] = []
    for kind, a, b, c, d in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if kind == "equal":
            found += [
                DiffLine(kind="same", text=text, base_line=i, lane_line=j)
                for text, i, j in zip(old[a:b], count(a + 1), count(c + 1), strict=False)
            ]
            continue
        found += [
            DiffLine(kind="removed", text=text, base_line=i, lane_line=None)
            for text, i in zip(old[a:b], count(a + 1), strict=False)
        ]
        found += [
            DiffLine(kind="added", text=text, base_line=None, lane_line=j)
            for text, j in zip(new[c:d], count(c + 1), strict=False)
        ]
    return found


def lines_changed(diff: list[DiffLine]) -> int:
    """How many lines changed: a line put in place of another counts once; blank ones not at all."""
    gone = sum(line.kind == "removed" and bool(line.text.strip()) for line in diff)
    came = sum(line.kind == "added" and bool(line.text.strip()) for line in diff)
    return max(gone, came)
