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
def own_folder() -> Iterator[Path]:
    """A folder of this process's own, gone with the block, or swept for it where it was killed;
    no other account can come to it."""
    for path in Path(tempfile.gettempdir()).glob(f"{_PREFIX}*"):
        named = _NAME.match(path.name)
        if named and path.lstat().st_uid == os.getuid() and not _lives(int(named[1])):
            shutil.rmtree(path, ignore_errors=True)
    folder = Path(tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-"))
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def scratch() -> Iterator[Path]:
    """A folder for runs' own folders within one of this process's own. Where it is shown in a
    sandbox, without what lies above it, every user there may pass through it."""
    with own_folder() as outer:
        inner = outer / "runs"
        inner.mkdir()
        inner.chmod(0o711)
        yield inner


def _lives(pid: int) -> bool:
    return Path(f"/proc/{pid}").exists()
