"""Made data on disk, kept by fingerprint so that it is made once."""

import json
import os
import shutil
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import BinaryIO

import xxhash

from ivrell.core.errors import BadInput, Stopped
from ivrell.core.quantities import format_bytes
from ivrell.core.recipe.encode import Segments, encoded_blocks
from ivrell.core.recipe.flush import EarlyFlush
from ivrell.core.recipe.forms import FORMS, size_in
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.malformed import broken
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe

Progress = Callable[[str, str, int, int], None]
"""Called with table, form, rows made and rows in all."""

_FREE_SPACE_LEFT = 512 * 2**20
_SAMPLE_ROWS = 4096


@dataclass(frozen=True)
class Made:
    """One table in one form on disk.

    ``paths`` holds one file, or each part in order; ``bytes_hash`` (XXH3, 128 bits) is of
    their bytes one behind the other; ``seconds`` is what making them took; ``broken`` counts
    the lines broken on purpose by the way they are, ``duplicates`` the rows that repeat
    another.
    """

    table: str
    form: str
    paths: list[str]
    rows: int
    size_bytes: int
    seconds: float
    fingerprint: str
    bytes_hash: str
    broken: dict[str, int] = field(default_factory=dict)
    duplicates: int = 0

    @property
    def given(self) -> str | list[str]:
        """What an approach is given: the path, or the list of paths of the parts."""
        return self.paths[0] if len(self.paths) == 1 else self.paths


class _Hashed:
    """A binary file whose bytes go into a hash on their way, and to the disk early."""

    def __init__(self, sink: BinaryIO, digest: xxhash.xxh3_128) -> None:
        self._sink = sink
        self._digest = digest
        self.early = EarlyFlush(sink.fileno())
        self.closed = False

    def write(self, data: bytes) -> int:
        self._digest.update(data)
        self._sink.write(data)
        self.early.wrote(len(data))
        return len(data)

    def flush(self) -> None:
        self._sink.flush()

    def tell(self) -> int:
        return self._sink.tell()

    def writable(self) -> bool:
        return True

    def readable(self) -> bool:
        return False

    def seekable(self) -> bool:
        return False

    def close(self) -> None:
        self.closed = True


@dataclass(frozen=True)
class Kept:
    """A folder of made data as the cache lists it: its tables, bytes, and when last used."""

    fingerprint: str
    tables: list[str]
    size_bytes: int
    used_at: float


class DataStore:
    """Tables made from recipes, under one folder: ``<fingerprint>/<table>.<form>``."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def ensure(
        self,
        recipe: Recipe,
        table: str,
        form: str,
        *,
        parts: int = 1,
        workers: int = 1,
        progress: Progress | None = None,
        stopped: Callable[[], bool] | None = None,
    ) -> Made:
        """The table in the form, made now unless it is there already.

        Args:
            recipe: resolved (every row count a number).
            parts: files the rows are split over, nearly evenly and in order.
            workers: processes that draw and encode; the bytes do not depend on it.
            stopped: asked between blocks; when it says yes, Stopped is raised and
                nothing that looks finished is left.

        Raises:
            BadInput: unknown form, more parts than rows, or too little room on disk.
        """
        if form not in FORMS:
            raise BadInput(f'There is no form "{form}".', cure=f"Forms here: {', '.join(FORMS)}.")
        if not 1 <= parts <= recipe.rows_of(table):
            raise BadInput(
                f"{table} has {recipe.rows_of(table):,} rows, which {parts} parts do not fit.",
                cure="Ask for fewer parts.",
            )
        fingerprint = recipe.fingerprint(table)
        folder = self.root / fingerprint[:24]
        name = f"{table}.{form}" if parts == 1 else f"{table}.{form}.in-{parts}"
        record = folder / f"{name}.json"
        if made := _known(record):
            os.utime(folder)
            return made
        folder.mkdir(parents=True, exist_ok=True)
        _clear_unfinished(folder)
        self._check_room(recipe, table, form, folder)
        making = folder / f"{name}.{os.getpid()}.part"
        try:
            made = _make(recipe, table, form, parts, workers, making, progress, stopped)
            final = folder / name
            shutil.rmtree(final, ignore_errors=True)
            final.unlink(missing_ok=True)
            if parts == 1:
                (making / f"{table}.{form}").replace(final)
                paths = [str(final)]
            else:
                making.replace(final)
                paths = [str(final / Path(path).name) for path in made.paths]
        finally:
            shutil.rmtree(making, ignore_errors=True)
        made = Made(**{**asdict(made), "paths": paths, "fingerprint": fingerprint})
        temporary = record.with_name(record.name + ".tmp")
        temporary.write_text(json.dumps(asdict(made)))
        temporary.replace(record)
        return made

    def _check_room(self, recipe: Recipe, table: str, form: str, folder: Path) -> None:
        sample = Generator(recipe).sample(table, _SAMPLE_ROWS)
        wanted = round(size_in(form, sample) / sample.num_rows * recipe.rows_of(table))
        free = shutil.disk_usage(folder).free
        if wanted + _FREE_SPACE_LEFT > free:
            raise BadInput(
                f"{table} as {form} would take about {format_bytes(wanted)}, and "
                f"{format_bytes(free)} are free.",
                where=f"data.tables.{table}.rows",
                cure="Ask for fewer rows, or free some disk space.",
            )

    def kept(self) -> list[Kept]:
        """What is there, the last used first."""
        found = []
        for folder in self.root.glob("*/"):
            files = [path for path in folder.rglob("*") if path.is_file()]
            tables = sorted(path.name.removesuffix(".json") for path in folder.glob("*.json"))
            size = sum(path.stat().st_size for path in files)
            found.append(Kept(folder.name, tables, size, folder.stat().st_mtime))
        return sorted(found, key=lambda kept: -kept.used_at)

    def trim(self, limit_bytes: int) -> int:
        """Remove what was used longest ago until no more than the limit is left.

        Returns the bytes removed.
        """
        kept = self.kept()
        total = sum(entry.size_bytes for entry in kept)
        removed = 0
        while kept and total - removed > limit_bytes:
            entry = kept.pop()
            shutil.rmtree(self.root / entry.fingerprint, ignore_errors=True)
            removed += entry.size_bytes
        return removed


def _known(record: Path) -> Made | None:
    """What a record tells of, when its files are still as it says."""
    try:
        made = Made(**json.loads(record.read_text()))
        size = sum(Path(path).stat().st_size for path in made.paths)
    except (OSError, ValueError, TypeError):
        return None
    return made if size == made.size_bytes else None


def _clear_unfinished(folder: Path) -> None:
    """Remove what a process that was killed had begun."""
    for path in folder.glob("*.part"):
        pid = path.name.split(".")[-2]
        if not pid.isdigit() or not Path(f"/proc/{pid}").exists():
            shutil.rmtree(path, ignore_errors=True)


def _make(
    recipe: Recipe,
    table: str,
    form: str,
    parts: int,
    workers: int,
    making: Path,
    progress: Progress | None,
    stopped: Callable[[], bool] | None,
) -> Made:
    """Write all parts into the folder ``making``; see DataStore.ensure."""
    began = time.monotonic()
    rows = recipe.rows_of(table)
    generator = Generator(recipe)
    making.mkdir()
    digits = len(str(parts))
    name = f"{table}.{form}"
    paths = [
        making / (name if parts == 1 else f"{table}-{part + 1:0{digits}}.{form}")
        for part in range(parts)
    ]
    digest = xxhash.xxh3_128()
    schema = generator.sample(table, 1).schema
    blocks = encoded_blocks(generator, table, form, parts, workers)
    writing = _Parts(paths, form, schema, digest)
    try:
        for index, segments in enumerate(blocks):
            writing.add(segments)
            if progress:
                progress(table, form, min((index + 1) * BLOCK_ROWS, rows), rows)
            if stopped and stopped():
                raise Stopped(f"{table} as {form}")
        writing.finish()
    finally:
        blocks.close()
        writing.close()
    return Made(
        table,
        form,
        [str(path) for path in paths],
        rows,
        sum(path.stat().st_size for path in paths),
        time.monotonic() - began,
        "",
        digest.hexdigest(),
        broken(recipe, table) if FORMS[form].text else {},
        generator.duplicates(table),
    )


class _Parts:
    """Writes segments to their part files, one open at a time."""

    def __init__(
        self, paths: list[Path], form: str, schema: object, digest: xxhash.xxh3_128
    ) -> None:
        self._paths, self._form, self._schema, self._digest = paths, form, schema, digest
        self._file: BinaryIO | None = None
        self._part = -1

    def add(self, segments: Segments) -> None:
        for part, encoded in segments:
            if part != self._part:
                self.finish()
                self._part = part
                self._file = self._paths[part].open("wb")
                self._sink = _Hashed(self._file, self._digest)
                self._writer = FORMS[self._form].writer(self._sink, self._schema)  # type: ignore[arg-type]
            self._writer.add(encoded)

    def finish(self) -> None:
        """Complete the open part and bring it to the disk."""
        if self._file:
            self._writer.close()
            self._file.flush()
            os.fsync(self._file.fileno())
            self.close()

    def close(self) -> None:
        if self._file:
            self._sink.early.finish()
            self._file.close()
            self._file = None
