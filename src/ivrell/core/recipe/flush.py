"""Bringing a file to the disk while it is still being written."""

import os
import threading

_EVERY_BYTES = 64 * 2**20


class EarlyFlush:
    """Flushes a growing file in a thread of its own, so that the last flush is short."""

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor
        self._pending = 0
        self._thread: threading.Thread | None = None

    def wrote(self, size: int) -> None:
        """Tell that so many bytes were written."""
        self._pending += size
        busy = self._thread is not None and self._thread.is_alive()
        if self._pending >= _EVERY_BYTES and not busy:
            self._pending = 0
            self._thread = threading.Thread(target=os.fdatasync, args=(self._descriptor,))
            self._thread.start()

    def finish(self) -> None:
        """Wait for the thread; the file may be closed after that."""
        if self._thread:
            self._thread.join()
