"""What the conductor says to the runner, line by line. Standard library only."""

import json
import os

GONE = "gone"


class Words:
    """Lines from a descriptor, with nothing kept where a wait for the descriptor cannot see it."""

    def __init__(self, fd: int) -> None:
        self.fd = fd
        self._left = b""

    @property
    def waiting(self) -> bool:
        """Whether a whole line was read already."""
        return b"\n" in self._left

    def next(self) -> str:
        """The next line, waited for; empty when the other end is closed."""
        while not self.waiting:
            data = os.read(self.fd, 1 << 16)
            if not data:
                return ""
            self._left += data
        line, _, self._left = self._left.partition(b"\n")
        return line.decode()

    def for_run(self, number: int) -> str:
        """The next word, if it is for the run of that number: a late one for an earlier run is
        passed over as an empty word. GONE when the other end is closed."""
        line = self.next()
        if not line:
            return GONE
        said = json.loads(line)
        return str(said["word"]) if said.get("run") == number and "word" in said else ""
