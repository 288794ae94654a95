"""Errors that a user can cause: what was wrong, where, and what to do."""


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


class Stopped(Exception):
    """The user asked for long work to stop; nothing half made is left behind."""
