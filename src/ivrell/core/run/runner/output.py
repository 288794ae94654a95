"""What a run printed: its beginning, its end, and how much there was."""

_KEPT = 32 * 1024


class Output:
    """Takes everything, keeps both ends."""

    def __init__(self) -> None:
        self.size = 0
        self._head = b""
        self._tail = b""

    def add(self, data: bytes) -> None:
        """Take more of it."""
        self.size += len(data)
        room = _KEPT - len(self._head)
        self._head += data[:room]
        self._tail = (self._tail + data[room:])[-_KEPT:]

    def text(self) -> str:
        """Both ends as text, with the size of the gap between them."""
        left_out = self.size - len(self._head) - len(self._tail)
        gap = f"\n… {left_out:,} bytes left out …\n" if left_out > 0 else ""
        shown = self._head.decode("utf-8", "replace") + gap + self._tail.decode("utf-8", "replace")
        return shown.replace("\0", "\ufffd")
