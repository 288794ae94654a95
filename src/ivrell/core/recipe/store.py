"""Made data on disk, kept by fingerprint so that it is made once."""

import hashlib
import json
import multiprocessing
import os
import shutil
import time
from collections import deque
from collections.abc import Callable
from collections.abc import Generator as Generated
from concurrent.futures import Future, ProcessPoolExecutor
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import BinaryIO

from ivrell.core.errors import BadInput, Stopped
from ivrell.core.quantities import format_bytes
from ivrell.core.recipe.forms import FORMS, file_name, size_in
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe

Progress = Callable[[str, str, int, int], None]
"""Called with table, form, rows made and rows in all."""

_FREE_SPACE_LEFT = 512 * 2**20
_SAMPLE_ROWS = 4096


@dataclass(frozen=True)
class Made:
    """One table in one form on disk.

    ``sha256`` is of the file's bytes; ``seconds`` is what making it took.
    """

    table: str
    form: str
    path: str
    rows: int
    size_bytes: int
    seconds: float
    fingerprint: str
    sha256: str


class _Hashed:
    """A binary file that hashes what is written to it in order."""

    def __init__(self, sink: BinaryIO) -> None:
        self._sink = sink
        self.digest = hashlib.sha256()
        self.closed = False

    def write(self, data: bytes) -> int:
        self.digest.update(data)
        self._sink.write(data)
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


_generators: dict[str, Generator] = {}


def _encode(recipe_json: str, table: str, form: str, index: int) -> bytes:
    generator = _generators.get(recipe_json)
    if generator is None:
        _generators.clear()
        generator = _generators[recipe_json] = Generator(Recipe.model_validate_json(recipe_json))
    return FORMS[form].encode(generator.block(table, index), index)


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
        workers: int = 1,
        progress: Progress | None = None,
        stopped: Callable[[], bool] | None = None,
    ) -> Made:
        """The table in the form, made now unless it is there already.

        Args:
            recipe: resolved (every row count a number).
            workers: processes that draw and encode; the bytes do not depend on it.
            stopped: asked between blocks; when it says yes, Stopped is raised and
                nothing that looks finished is left.

        Raises:
            BadInput: unknown form, or too little room on disk.
        """
        if form not in FORMS:
            raise BadInput(f'There is no form "{form}".', cure=f"Forms here: {', '.join(FORMS)}.")
        fingerprint = recipe.fingerprint(table)
        path = self.root / fingerprint[:24] / file_name(table, form)
        record = path.with_name(path.name + ".json")
        if path.exists() and record.exists():
            made = Made(**json.loads(record.read_text()))
            if path.stat().st_size == made.size_bytes:
                return made
        path.parent.mkdir(parents=True, exist_ok=True)
        self._check_room(recipe, table, form, path.parent)
        made = self._make(recipe, table, form, path, fingerprint, workers, progress, stopped)
        temporary = record.with_name(record.name + ".part")
        temporary.write_text(json.dumps(asdict(made)))
        temporary.replace(record)
        return made

    def _check_room(self, recipe: Recipe, table: str, form: str, folder: Path) -> None:
        sample = Generator(recipe).sample(table, _SAMPLE_ROWS)
        per_row = size_in(form, sample) / sample.num_rows
        wanted = round(per_row * recipe.rows_of(table))
        free = shutil.disk_usage(folder).free
        if wanted + _FREE_SPACE_LEFT > free:
            raise BadInput(
                f"{table} as {form} would take about {format_bytes(wanted)}, and "
                f"{format_bytes(free)} are free.",
                where=f"data.tables.{table}.rows",
                cure="Ask for fewer rows, or free some disk space.",
            )

    def _make(
        self,
        recipe: Recipe,
        table: str,
        form: str,
        path: Path,
        fingerprint: str,
        workers: int,
        progress: Progress | None,
        stopped: Callable[[], bool] | None,
    ) -> Made:
        began = time.monotonic()
        rows = recipe.rows_of(table)
        generator = Generator(recipe)
        schema = generator.sample(table, 1).schema
        part = path.with_name(f"{path.name}.{os.getpid()}.part")
        try:
            with part.open("wb") as file:
                sink = _Hashed(file)
                writer = FORMS[form].writer(sink, schema)  # type: ignore[arg-type]
                blocks = self._encoded(generator, table, form, workers)
                for index, encoded in enumerate(blocks):
                    writer.add(encoded)
                    if progress:
                        progress(table, form, min((index + 1) * BLOCK_ROWS, rows), rows)
                    if stopped and stopped():
                        blocks.close()
                        raise Stopped(f"{table} as {form}")
                writer.close()
                file.flush()
                os.fsync(file.fileno())
            part.replace(path)
        finally:
            part.unlink(missing_ok=True)
        return Made(
            table,
            form,
            str(path),
            rows,
            path.stat().st_size,
            time.monotonic() - began,
            fingerprint,
            sink.digest.hexdigest(),
        )

    def _encoded(
        self, generator: Generator, table: str, form: str, workers: int
    ) -> Generated[bytes, None, None]:
        """Encoded blocks in order, drawn by this process or by ``workers`` others."""
        blocks = generator.blocks(table)
        if workers <= 1 or blocks == 1:
            for index in range(blocks):
                yield FORMS[form].encode(generator.block(table, index), index)
            return
        text = generator.recipe.model_dump_json(by_alias=True)
        context = multiprocessing.get_context("spawn")
        with ProcessPoolExecutor(min(workers, blocks), mp_context=context) as pool:
            waiting: deque[Future[bytes]] = deque()
            try:
                for index in range(blocks):
                    waiting.append(pool.submit(_encode, text, table, form, index))
                    if len(waiting) > 2 * workers:
                        yield waiting.popleft().result()
                while waiting:
                    yield waiting.popleft().result()
            finally:
                for future in waiting:
                    future.cancel()
