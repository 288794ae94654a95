"""Users of a private database server that are made for one run and dropped after it."""

import os
import re
import secrets
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

_PREFIX = "ivrell_run_"
_NAME = re.compile(rf"{_PREFIX}(\d+)_[0-9a-f]+")


@dataclass(frozen=True)
class RunUser:
    """A user for one run: its name, which a copy that is made for the run has too, and its
    password."""

    name: str
    password: str


def new_user() -> RunUser:
    """A user that nobody has been before; its name tells which process made it."""
    name = f"{_PREFIX}{os.getpid()}_{secrets.token_hex(6)}"
    return RunUser(name, secrets.token_urlsafe(18))


def forsaken(names: Iterable[object]) -> list[str]:
    """Those of names that were made for runs by processes that are gone."""
    made = ((str(name), _NAME.fullmatch(str(name))) for name in names)
    return [name for name, by in made if by and not Path(f"/proc/{by[1]}").exists()]
