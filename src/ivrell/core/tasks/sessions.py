"""Sessions that a run has on a server, told in its folder: whoever ends the run can end them too.

Standard library only.
"""

from pathlib import Path

_FILE = ".sessions"
_MOST = 100


def tell_session(folder: Path, number: int) -> None:
    """Leave word of a session, by the number that the server has for it."""
    with (folder / _FILE).open("a") as file:
        file.write(f"{number}\n")


def sessions_of(folder: Path) -> list[int]:
    """What a run left word of; nothing that is no number is taken from there."""
    path = folder / _FILE
    try:
        if path.is_symlink():
            return []
        with path.open("rb") as file:
            lines = file.read(_MOST * 24).split()[:_MOST]
    except OSError:
        return []
    return [int(line) for line in lines if line.isdigit()]
