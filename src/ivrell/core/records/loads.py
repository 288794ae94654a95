"""Background loads by name: busy cores, memory traffic, disk traffic. Standard library only."""

import re

QUIET = "quiet"
KNOWN = (QUIET, "1 busy core", "2 busy cores", "memory", "disk")
"""Loads to choose from; more cores and several at once can be written."""

_WORDS = re.compile(r"(?:(\d+) busy cores?|memory|disk)")
_CORE = "while True: pass"
_MEMORY = """
block = bytearray(256 << 20)
while True:
    block[:128 << 20] = block[128 << 20:]
"""
_DISK = """
import os, sys
with open(sys.argv[1], "wb", buffering=0) as file:
    while True:
        file.seek(0)
        for _ in range(64):
            file.write(bytes(1 << 20))
        os.fsync(file.fileno())
"""


def loads_in(text: str) -> list[str]:
    """Programs of a load such as ``"1 busy core"``, ``"memory"`` or ``"2 busy cores, disk"``.

    Raises ValueError for words that name no load.
    """
    if text == QUIET:
        return []
    found: list[str] = []
    for word in text.split(","):
        named = _WORDS.fullmatch(word.strip())
        if not named:
            raise ValueError(
                f'"{word.strip()}" is no background load; write "quiet", "1 busy core", "memory", '
                '"disk", or several with commas between'
            )
        if named[1]:
            found += [_CORE] * int(named[1])
        else:
            found.append(_MEMORY if word.strip() == "memory" else _DISK)
    return found
