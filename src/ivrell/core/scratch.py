"""Folders for the time of a trial, which those that died are swept for."""

import os
import re
import shutil
import tempfile
from pathlib import Path

_PREFIX = "ivrell-run-"
_NAME = re.compile(rf"{_PREFIX}(\d+)-")


def scratch_folder() -> str:
    """A new folder of this process's own, once what processes left that are gone is removed."""
    for path in Path(tempfile.gettempdir()).glob(f"{_PREFIX}*"):
        named = _NAME.match(path.name)
        if named and path.stat().st_uid == os.getuid() and not _lives(int(named[1])):
            shutil.rmtree(path, ignore_errors=True)
    return tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-")


def _lives(pid: int) -> bool:
    return Path(f"/proc/{pid}").exists()
