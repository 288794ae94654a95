"""Finding processes that must not be there any more."""

from pathlib import Path


def processes_with(mark: str) -> list[int]:
    """Processes whose command line holds a mark."""
    found = []
    for path in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            if mark.encode() in path.read_bytes():
                found.append(int(path.parent.name))
        except OSError:
            pass
    return found
