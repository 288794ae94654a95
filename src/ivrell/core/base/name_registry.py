"""Names that stand for things of this machine, kept for its owner alone."""

import json
import os
from collections.abc import Mapping
from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.base.locks import alone

_MOST_NAME = 60
_OTHERS_S = 30.0


class Registered:
    """A file of names, each with what it stands for.

    Args:
        path: the file; made when something is put into it.
        what: the sort of thing, such as "runtime".
        asked_as: how a lane asks for one.
        put_as: how one is registered, with NAME in it.
    """

    def __init__(self, path: Path, *, what: str, asked_as: str, put_as: str) -> None:
        self._path = path
        self._what = what
        self._asked_as = asked_as
        self._put_as = put_as

    def all(self) -> dict[str, str]:
        """Every name with what it stands for. Raises BadInput where the file cannot be read:
        taken for empty, it would be lost with the next change."""
        try:
            found = json.loads(self._path.read_text())
            if not isinstance(found, dict) or not all(
                isinstance(word, str) for pair in found.items() for word in pair
            ):
                raise ValueError("it holds something else than names")
        except FileNotFoundError:
            return {}
        except (OSError, ValueError) as error:
            raise BadInput(
                f"The list of every registered {self._what} cannot be read: {error}.",
                where=str(self._path),
                hint="Put it right, or move it away and register each one anew.",
            ) from error
        return found

    def put(self, name: str, value: str) -> None:
        """Let a name stand for something."""
        with alone(self._path.with_suffix(".lock"), wait_s=_OTHERS_S):
            self._keep(self.all() | {name: value})

    def check_name(self, name: str) -> None:
        """Raise BadInput for what cannot be a name."""
        if not name.strip() or len(name) > _MOST_NAME:
            raise BadInput(
                f"A {self._what} needs a name.", where="name", hint=f"Up to {_MOST_NAME} letters."
            )

    def get(self, name: str) -> str:
        """What a name stands for. Raises BadInput where it is not registered."""
        kept = self.all()
        if name in kept:
            return kept[name]
        known = ", ".join(kept) or "none"
        put_as = self._put_as.replace("NAME", name)
        raise BadInput(
            f'There is no {self._what} "{name}" on this machine.',
            where=self._asked_as,
            hint=f"Registered: {known}. Add it on the machine page, or with: {put_as}",
        )

    def remove(self, name: str) -> None:
        """Forget a name. Raises BadInput where it is not registered."""
        with alone(self._path.with_suffix(".lock"), wait_s=_OTHERS_S):
            self.get(name)
            self._keep({other: value for other, value in self.all().items() if other != name})

    def _keep(self, kept: Mapping[str, str]) -> None:
        self._path.parent.mkdir(parents=True, exist_ok=True)
        temporary = self._path.with_suffix(".part")
        # A connection string holds a password.
        flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC
        with os.fdopen(os.open(temporary, flags, 0o600), "w") as file:
            json.dump(dict(kept), file, indent=1)
        temporary.replace(self._path)
