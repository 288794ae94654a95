"""Logs: one line an event, in files that are turned over before they grow large.

An error that somebody is told of stands in the log under a reference that they are told too.
"""

import logging
import logging.handlers
import os
import secrets
import sys
from io import TextIOWrapper
from pathlib import Path

MOST_BYTES = 4 * 2**20
_OLDER_FILES = 3


class OneLine(logging.Formatter):
    """A line an event, with its trace, if any, behind it on the same line."""

    def __init__(self) -> None:
        super().__init__("%(asctime)s %(levelname)s %(name)s: %(message)s")

    def format(self, record: logging.LogRecord) -> str:
        lines = (line.rstrip() for line in super().format(record).splitlines())
        return " | ".join(line for line in lines if line)


class _Own(logging.handlers.RotatingFileHandler):
    """Files that nobody else can read, the turned-over ones too."""

    def _open(self) -> TextIOWrapper:
        stream = super()._open()
        os.fchmod(stream.fileno(), 0o600)
        return stream

    def handleError(self, record: logging.LogRecord) -> None:
        """Go without what a full disk does not take: whoever writes there is told of it."""
        if not isinstance(sys.exc_info()[1], OSError):
            super().handleError(record)


def file_handler(path: Path) -> logging.Handler:
    """What writes events to a file of their owner's alone, and keeps three older ones."""
    path.parent.mkdir(parents=True, exist_ok=True)
    handler = _Own(path, maxBytes=MOST_BYTES, backupCount=_OLDER_FILES, encoding="utf-8")
    handler.setFormatter(OneLine())
    return handler


def log_commands(folder: Path, *, verbose: bool) -> None:
    """Let commands log to a folder, and with ``verbose`` to standard error; where the folder
    cannot be written to they go without."""
    root = logging.getLogger("ivrell")
    root.setLevel(logging.DEBUG if verbose else logging.INFO)
    root.propagate = False
    try:
        root.addHandler(file_handler(folder / "commands.log"))
    except OSError:
        root.addHandler(logging.NullHandler())
    if verbose:
        shown = logging.StreamHandler(sys.stderr)
        shown.setFormatter(OneLine())
        root.addHandler(shown)


def referred(log: logging.Logger, message: str, *given: object) -> str:
    """Log the error that is being handled, with its trace; the reference that it stands under."""
    reference = secrets.token_hex(4)
    log.error(f"{reference} {message}", *given, exc_info=True)
    return reference
