"""Writing one table in one form, a block at a time; what was half made can be gone on with."""

import json
import os
import shutil
import time
from collections.abc import Callable
from contextlib import ExitStack, closing
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import BinaryIO

import xxhash

from ivrell.core.base.errors import BadInput, Stopped
from ivrell.core.recipe.encode import MOST_FILES, Files, encoded_blocks
from ivrell.core.recipe.flush import EarlyFlush
from ivrell.core.recipe.forms import Encoded, places
from ivrell.core.recipe.model import BLOCK_ROWS

Progress = Callable[[str, str, int, int], None]
"""Called with table, form, rows made and rows in all."""

_STATE = "half-made.json"
_NOTE_EVERY_S = 1.0
_READ = 1 << 22


@dataclass
class _State:
    """How far a making came: the next block, the bytes of open files that stand for sure,
    the files that are whole, and the seconds taken."""

    block: int = 0
    open: dict[str, int] = field(default_factory=dict)
    whole: list[str] = field(default_factory=list)
    seconds: float = 0.0


class _Sink:
    """A binary file whose bytes go to the disk early, and into a hash where one is given."""

    def __init__(self, file: BinaryIO, digest: xxhash.xxh3_128 | None) -> None:
        self._file = file
        self._digest = digest
        self._early = EarlyFlush(file.fileno())
        self.closed = False

    def write(self, data: bytes) -> int:
        if self._file.closed:
            # A columnar writer that was given up says its last when it is collected.
            return len(data)
        if self._digest:
            self._digest.update(data)
        self._file.write(data)
        self._early.wrote(len(data))
        return len(data)

    def flush(self) -> None:
        self._file.flush()

    def tell(self) -> int:
        return self._file.tell()

    def writable(self) -> bool:
        return True

    def readable(self) -> bool:
        return False

    def seekable(self) -> bool:
        return False

    def to_disk(self) -> None:
        self._file.flush()
        os.fsync(self._file.fileno())

    def close(self) -> None:
        """Let go of the file; called by writers too, which must not close it early."""
        self.closed = True

    def release(self) -> None:
        self._early.finish()
        self._file.close()


class Making:
    """One table being written below a folder of its own.

    A stop or a kill leaves the folder with a note of how far it came; another Making of the
    same goes on there: after the last noted block for forms whose blocks' bytes follow each
    other, after the last whole file for the others.
    """

    def __init__(self, files: Files, folder: Path) -> None:
        self.files = files
        self.folder = folder
        self._open: dict[str, tuple[_Sink, object]] = {}
        self._digest: xxhash.xxh3_128 | None = None
        self._state = self._taken_up()

    def run(
        self, workers: int, progress: Progress | None, stopped: Callable[[], bool] | None
    ) -> tuple[list[Path], float, str]:
        """Write what is left. Returns the files in order, seconds taken in all, and the hash
        of their bytes one behind the other.

        Raises Stopped when ``stopped`` says so between two blocks.
        """
        began = time.monotonic() - self._state.seconds
        noted = time.monotonic()
        rows = self.files.generator.recipe.rows_of(self.files.table)
        start = self._state.block
        # Bytes are hashed on their way where they are written in the order of the hash.
        if start == 0 and not self.files.split_by:
            self._digest = xxhash.xxh3_128()
        try:
            with closing(encoded_blocks(self.files, workers, start)) as blocks:
                for index, segments in enumerate(blocks, start):
                    for name, encoded in segments:
                        self._add(name, encoded, index)
                    if progress:
                        done = min((index + 1) * BLOCK_ROWS, rows)
                        progress(self.files.table, self.files.wanted.form, done, rows)
                    asked = bool(stopped and stopped())
                    if asked or time.monotonic() - noted > _NOTE_EVERY_S:
                        noted = time.monotonic()
                        self._note(index + 1, noted - began)
                    if asked:
                        raise Stopped(f"{self.files.table} as {self.files.wanted.form}")
                for name in list(self._open):
                    self._finish(name)
        finally:
            for sink, _ in self._open.values():
                sink.release()
        paths = [self.folder / name for name in self._names()]
        digest = self._digest or _hash_of(paths)
        (self.folder / _STATE).unlink(missing_ok=True)
        self._write_places()
        return paths, time.monotonic() - began, digest.hexdigest()

    def _taken_up(self) -> _State:
        """What an earlier making left, brought back to its last sure state."""
        try:
            state = _State(**json.loads((self.folder / _STATE).read_text()))
        except (OSError, ValueError, TypeError):
            state = _State()
        if not self.files.form.appended:
            state.open = {}
        known = {**state.open, **dict.fromkeys(state.whole, -1)}
        for path in list(self.folder.rglob("*")) if self.folder.exists() else []:
            name = str(path.relative_to(self.folder))
            if path.is_file() and name != _STATE and name not in known:
                path.unlink()
        try:
            for name, size in state.open.items():
                if (self.folder / name).stat().st_size < size:
                    raise FileNotFoundError(name)
                os.truncate(self.folder / name, size)
        except OSError:
            shutil.rmtree(self.folder, ignore_errors=True)
            state = _State()
        self.folder.mkdir(parents=True, exist_ok=True)
        return state

    def _add(self, name: str, encoded: Encoded, index: int) -> None:
        if name in self._state.whole:
            return
        if name not in self._open:
            self._begin(name, index)
        self._open[name][1].add(encoded)  # type: ignore[attr-defined]

    def _begin(self, name: str, index: int) -> None:
        """Open a file; where parts follow each other, the one before is whole now."""
        if not self.files.split_by:
            for before in list(self._open):
                self._finish(before)
                self._note(index, None)
        if len(self._open) >= MOST_FILES:
            raise BadInput(
                f"{self.files.split_by} has more than {MOST_FILES:,} different values, and each "
                "would be a file.",
                where="input.split_by",
                hint="Split by a column with fewer values.",
            )
        path = self.folder / name
        path.parent.mkdir(exist_ok=True)
        going_on = name in self._state.open
        sink = _Sink(path.open("ab" if going_on else "wb"), self._digest)
        if not going_on and (head := self.files.form.head(self.files.layout)):
            sink.write(head)
        writer = self.files.form.writer(sink, self.files.layout)  # type: ignore[arg-type]
        self._open[name] = (sink, writer)

    def _finish(self, name: str) -> None:
        """Complete a file and bring it to the disk."""
        sink, writer = self._open.pop(name)
        writer.close()  # type: ignore[attr-defined]
        sink.to_disk()
        sink.release()
        self._state.whole.append(name)

    def _note(self, block: int, seconds: float | None) -> None:
        """Keep how far it came. Columnar files that are open would have to be begun again,
        so their note stays at the block where they begin."""
        if seconds is not None:
            self._state.seconds = seconds
        if self.files.form.appended:
            self._state.block = block
            for name, (sink, _) in self._open.items():
                sink.flush()
                self._state.open[name] = sink.tell()
        elif seconds is None:
            self._state.block = block
        self._state.open = {
            name: size for name, size in self._state.open.items() if name not in self._state.whole
        }
        temporary = self.folder / f"{_STATE}.tmp"
        temporary.write_text(json.dumps(asdict(self._state)))
        temporary.replace(self.folder / _STATE)

    def _names(self) -> list[str]:
        if self.files.split_by:
            return sorted(set(self._state.whole))
        return [self.files.part_name(part) for part in range(self.files.parts)]

    def _write_places(self) -> None:
        """Beside fixed-width files, where their fields stand."""
        if self.files.wanted.form == "fixed":
            path = self.folder / f"{self.files.table}.places.json"
            path.write_text(json.dumps(places(self.files.layout), indent=1))


def _hash_of(paths: list[Path]) -> xxhash.xxh3_128:
    digest = xxhash.xxh3_128()
    for path in paths:
        with path.open("rb", buffering=0) as file:
            while data := file.read(_READ):
                digest.update(data)
    return digest


def half_made(folder: Path) -> int | None:
    """Blocks that stand in a folder of a making that was stopped, or None."""
    with ExitStack() as stack:
        try:
            file = stack.enter_context((folder / _STATE).open())
            return int(json.load(file)["block"])
        except (OSError, ValueError, KeyError):
            return None
