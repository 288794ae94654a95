"""Folders for the time of a trial, which those that died are swept for."""

import logging
import multiprocessing
import os
import re
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from multiprocessing.util import Finalize
from pathlib import Path

log = logging.getLogger("ivrell.folders")
_PREFIX = "ivrell-run-"
_LONGEST_S = 600
SHARED_MEMORY = Path("/dev/shm")
_NAME = re.compile(rf"{_PREFIX}(\d+)-")


def remove(folder: Path) -> None:
    """Remove a folder and all in it, however deeply it is nested; what cannot be removed is logged
    and left, and stops nobody."""
    try:
        shutil.rmtree(folder, ignore_errors=True)
    except RecursionError:
        # Folders in folders, thousands of them; rm(1) needs no stack for each.
        pass
    if folder.is_symlink() or not folder.exists():
        return
    done = subprocess.run(
        ["rm", "-rf", "--one-file-system", "--", str(folder)],
        stdin=subprocess.DEVNULL, capture_output=True, check=False, timeout=_LONGEST_S,
    )  # fmt: skip
    if done.returncode:
        log.warning(
            "%s could not be removed: %s", folder, done.stderr[-500:].decode("utf-8", "replace")
        )


def sweep() -> None:
    """Remove folders of processes of this account that were killed."""
    for place in (Path(tempfile.gettempdir()), SHARED_MEMORY):
        for path in place.glob(f"{_PREFIX}*"):
            named = _NAME.match(path.name)
            # What another process removes meanwhile, or sweeps too, is gone.
            with suppress(FileNotFoundError):
                if named and path.lstat().st_uid == os.getuid() and not _lives(int(named[1])):
                    remove(path)


def keep_pools_in_sight() -> None:
    """Let the sockets by which pools of this process start others lie in a folder that is swept for
    it where it is killed; the library has no public word for where they are."""
    settings = multiprocessing.current_process()._config  # type: ignore[attr-defined]
    if settings.get("tempdir") is None:
        folder = Path(tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-"))
        settings["tempdir"] = str(folder)
        Finalize(None, remove, args=(folder,), exitpriority=-100)


@contextmanager
def own_folder(place: Path | None = None) -> Iterator[Path]:
    """A folder of this process's own, gone with the block, or swept for it where it was killed;
    no other account can come to it. It is where temporary files lie, unless in another ``place``
    that is swept too."""
    sweep()
    folder = Path(tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-", dir=place))
    try:
        yield folder
    finally:
        remove(folder)


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
