"""Finding processes that must not be there any more."""

import os
from pathlib import Path


def processes_with(mark: str, *, environment: bool = False, but: str = "") -> list[int]:
    """Processes other than this one whose command line, or else environment, holds a mark;
    ``but`` leaves those out that hold another."""
    found = []
    for path in Path("/proc").glob("[0-9]*"):
        told = b""
        for name in ("cmdline", "environ") if environment else ("cmdline",):
            try:
                told += (path / name).read_bytes()
            except OSError:
                continue
        if but and but.encode() in told:
            continue
        if mark.encode() in told and path.name != str(os.getpid()):
            found.append(int(path.name))
    return found
