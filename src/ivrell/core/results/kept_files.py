"""Files that a lane's run left, kept for people to open. They are a stranger's: names and sizes are
what the lane made them."""

import logging
import os
import stat
from collections.abc import Callable, Iterable
from pathlib import Path

from ivrell.core.base.errors import Stopped
from ivrell.core.base.waits import never

log = logging.getLogger("ivrell.results")
MOST_FILES = 1_000
"""More are left where they are."""

_PIECE_BYTES = 1 << 22


def keep_files(
    left: Iterable[os.DirEntry[str]],
    to: Path,
    most_bytes: int,
    wanted_stop: Callable[[], bool] = never,
) -> None:
    """Copy plain files into a folder, under their own names; a second one of a name has a number
    before it. What is more than ``most_bytes`` together, or no plain file, is left, and so is the
    rest once ``wanted_stop`` says so. A file that cannot be kept stops no trial."""
    to.mkdir(parents=True, exist_ok=True)
    room, kept = most_bytes, 0
    for entry in left:
        if kept == MOST_FILES:
            log.warning("%s: of more than %d files the rest is not kept", to, MOST_FILES)
            break
        try:
            room -= _copied(entry.path, to, room, wanted_stop)
            kept += 1
        except Stopped:
            log.warning("%s is not kept, nor what comes behind it: stopped", entry.path)
            break
        except OSError as error:
            log.warning("%s is not kept: %s", entry.path, error)


def _copied(path: str, to: Path, room: int, wanted_stop: Callable[[], bool]) -> int:
    """Copy one file; its bytes. Raises OSError for one that is not to be kept, Stopped."""
    handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    with os.fdopen(handle, "rb") as given:
        state = os.fstat(handle)
        if not stat.S_ISREG(state.st_mode):
            raise OSError("it is no plain file")
        if state.st_size > room:
            raise OSError("there is no room for it within the limit of files")
        place = _free(to, Path(path).name)
        with place.open("xb") as copy:
            while piece := given.read(_PIECE_BYTES):
                if wanted_stop():
                    place.unlink()
                    raise Stopped
                copy.write(piece)
            # What is written back later would disturb the runs that follow.
            copy.flush()
            os.fdatasync(copy.fileno())
    return state.st_size


def _free(to: Path, name: str) -> Path:
    """A path of that name, or with a number before it where there is one already."""
    path, number = to / name, 2
    while path.exists() or path.is_symlink():
        path = to / f"{number}-{name}"
        number += 1
    return path
