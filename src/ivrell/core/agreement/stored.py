"""Answers whose rows stay where executors wrote them: what is kept of them beside the others."""

import os
import shutil
import stat
from pathlib import Path

import pyarrow as pa

from ivrell.core.spark.answers import is_stored

_FILE = "file://"


class StoredParts:
    """Rows of answers that are kept in files of their own, beside the answer's own file.

    What lies in a folder of this machine is moved there; what lies on a storage elsewhere stays,
    and its address is kept.
    """

    def take(self, kept: Path, file: Path, parts: str) -> None:
        """Keep the rows that an answer's file tells of, where it tells of some. Raises OSError
        where they are not there, ValueError where they are no plain files."""
        if not parts or not tells_of_others(file):
            return
        if parts.startswith(_FILE):
            # A storage of this machine: what lies there is a stranger's too.
            _check(Path(parts.removeprefix(_FILE)))
        if not parts.startswith("/"):
            self._address(kept).write_text(parts)
            return
        folder = Path(parts)
        _check(folder)
        own = self._folder(kept)
        shutil.rmtree(own, ignore_errors=True)
        shutil.move(folder, own)

    def address(self, kept: Path) -> str:
        """Where the rows are of an answer that is kept so: a folder or an address; "" where its
        file holds them."""
        if self._folder(kept).is_dir():
            return str(self._folder(kept))
        try:
            return self._address(kept).read_text()
        except FileNotFoundError:
            return ""

    def _folder(self, kept: Path) -> Path:
        return kept.with_suffix(".parts")

    def _address(self, kept: Path) -> Path:
        return kept.with_suffix(".address")


def tells_of_others(file: Path) -> bool:
    """Whether an answer's file only tells of rows that are elsewhere."""
    with pa.memory_map(str(file)) as source:
        return is_stored(pa.ipc.open_file(source).read_all())


def _check(folder: Path) -> None:
    """Raise ValueError where a folder that strangers' code wrote holds anything but plain files,
    with no other name; make them Ivrell's own."""
    for at, folders, files in os.walk(folder):
        for name in (*folders, *files):
            path = Path(at, name)
            state = path.lstat()
            plain = stat.S_ISREG(state.st_mode) and state.st_nlink == 1
            if not plain and not stat.S_ISDIR(state.st_mode):
                raise ValueError(f"what was written holds no plain file: {name}")
    if not folder.is_dir() or folder.is_symlink():
        raise FileNotFoundError("the rows that it tells of are not there")
    if os.geteuid() == 0:
        for at, _, files in os.walk(folder):
            for path in (Path(at), *(Path(at, name) for name in files)):
                os.chown(path, 0, 0, follow_symlinks=False)
