"""Errors that a user can cause: what was wrong, where, and what to do."""

import errno
from collections.abc import Iterator
from contextlib import contextmanager

_FULL = (errno.ENOSPC, errno.EDQUOT)
_SAID = ("no space left", "disk is full", "disk full", "disk quota exceeded")
"""How databases and libraries say it that have errors of their own."""


class BadInput(Exception):
    """Something the user gave cannot be used.

    Attributes:
        what: one sentence saying what is wrong.
        where: the place, as a key path (``data.tables.locks.columns[1].kind``),
            a file with a line, or an approach's id with a line; may be empty.
        hint: what to do about it; may be empty.
    """

    def __init__(self, what: str, *, where: str = "", hint: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.hint = hint

    def __str__(self) -> str:
        place = f"{self.where}: " if self.where else ""
        hint = f" {self.hint}" if self.hint else ""
        return f"{place}{self.what}{hint}"


class OtherVersions(BadInput):
    """What a trial began with is another version now; it can go on where that is asked for."""


class NotAvailable(BadInput):
    """What some lanes need is not there now; others go on without them."""


class Stopped(Exception):
    """The user asked for long work to stop; nothing half made is left behind."""


def is_disk_full(error: BaseException) -> bool:
    """Whether an error, of the system's or of a library's, says that the disk is full."""
    if isinstance(error, OSError) and error.errno in _FULL:
        return True
    said = str(error).lower()
    return any(words in said for words in _SAID)


@contextmanager
def room_on_disk(place: object) -> Iterator[None]:
    """Tell of a full disk as what a user can do something about. Raises BadInput, with the place
    where it was noticed."""
    try:
        yield
    except BadInput as error:
        if error.where and is_disk_full(error) and not error.hint:
            error.hint = _MAKE_ROOM
        raise
    except Exception as error:
        if not is_disk_full(error):
            raise
        raise BadInput(
            "The disk is full; what was finished until then is kept.",
            where=str(getattr(error, "filename", None) or place),
            hint=_MAKE_ROOM,
        ) from error


_MAKE_ROOM = "Make room: made data can be removed on the machine page. Then run it again."
