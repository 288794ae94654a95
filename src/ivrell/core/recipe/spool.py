"""Encoded blocks on their way from one process to another."""

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TypeAlias

import pyarrow as pa

from ivrell.core.base.temp_dirs import SHARED_MEMORY, own_folder
from ivrell.core.recipe.forms import Encoded

Segments: TypeAlias = list[tuple[str, Encoded]]
"""What of a block goes to which file, in order; files by their path below the table's place."""

_ROOM = 512 * 2**20


@dataclass(frozen=True)
class Spooled:
    """A block put by in a file: for each segment its name, bytes, and whether it is a batch."""

    path: str
    segments: tuple[tuple[str, int, bool], ...]

    @contextmanager
    def taken(self) -> Iterator[Segments]:
        """The segments, mapped into memory; afterwards the file may hold another block."""
        found: Segments = []
        with pa.memory_map(self.path) as file:
            for name, size, is_batch in self.segments:
                data = file.read_buffer(size)
                if is_batch:
                    data = pa.ipc.open_stream(data).read_next_batch()
                found.append((name, data))
            try:
                yield found
            finally:
                found.clear()


def put_by(segments: Segments, path: Path) -> Spooled:
    """Put a block's segments into one file, over what it held: to give its pages back and take
    others would cost a sixth of drawing a block."""
    told = []
    path.touch()
    with path.open("r+b") as file:
        for name, encoded in segments:
            start = file.tell()
            is_batch = isinstance(encoded, pa.RecordBatch)
            if is_batch:
                with pa.ipc.new_stream(file, encoded.schema) as writer:
                    writer.write_batch(encoded)
            else:
                file.write(encoded)
            told.append((name, file.tell() - start, is_batch))
    return Spooled(str(path), tuple(told))


@contextmanager
def spool_folder() -> Iterator[Path]:
    """A folder for blocks on their way: in shared memory where there is room."""
    try:
        roomy = shutil.disk_usage(SHARED_MEMORY).free > _ROOM
    except OSError:
        roomy = False
    with own_folder(SHARED_MEMORY if roomy else None) as folder:
        yield folder
