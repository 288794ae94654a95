"""A folder of what was made once and is used again: counted, trimmed, never removed in use."""

from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from ivrell.core.base.locks import not_in_use


@dataclass(frozen=True)
class Entry:
    """Something that is kept: bytes, when it was last used (seconds since 1970), and what
    removes it."""

    size_bytes: int
    used_at: float
    remove: Callable[[], None]


class Keeping(ABC):
    """A folder of things that can be made again.

    Whoever uses it holds it with ``locks.in_use``; what is made there is made alone, under a lock
    of its own beside its final place, so that nothing that looks finished is half made.
    """

    def __init__(self, root: Path) -> None:
        self.root = root

    @abstractmethod
    def entries(self) -> list[Entry]:
        """Everything that is kept."""

    def trim(self, limit_bytes: int) -> int:
        """Remove what was used longest ago until no more than the limit is left.

        Returns the bytes removed. Raises BadInput where something uses it.
        """
        with not_in_use(self.root):
            entries = sorted(self.entries(), key=lambda entry: entry.used_at)
            left, removed = sum(entry.size_bytes for entry in entries), 0
            for entry in entries:
                if left - removed <= limit_bytes:
                    break
                entry.remove()
                removed += entry.size_bytes
            return removed
