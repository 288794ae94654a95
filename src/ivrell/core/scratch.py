"""Folders for the time of a trial, which those that died are swept for."""

import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

_PREFIX = "ivrell-run-"
_NAME = re.compile(rf"{_PREFIX}(\d+)-")


@contextmanager
def scratch() -> Iterator[Path]:
    """A new folder of this process's own, gone with the block, once what processes left that are
    gone is removed.

    No other account can come to it. Where it is shown in a sandbox, without what lies above it,
    every user there may pass through it.
    """
    for path in Path(tempfile.gettempdir()).glob(f"{_PREFIX}*"):
        named = _NAME.match(path.name)
        if named and path.stat().st_uid == os.getuid() and not _lives(int(named[1])):
            shutil.rmtree(path, ignore_errors=True)
    outer = Path(tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-"))
    try:
        inner = outer / "runs"
        inner.mkdir()
        inner.chmod(0o711)
        yield inner
    finally:
        shutil.rmtree(outer, ignore_errors=True)


def _lives(pid: int) -> bool:
    return Path(f"/proc/{pid}").exists()
