"""Made data on disk, kept by fingerprint so that it is made once."""

import json
import os
import shutil
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from functools import partial
from pathlib import Path

from ivrell.core.base.errors import BadInput, Stopped
from ivrell.core.base.locks import alone
from ivrell.core.base.quantities import format_bytes
from ivrell.core.recipe.encode import Files
from ivrell.core.recipe.forms import FORMS, form_called, size_in
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.keeping import Entry, Keeping
from ivrell.core.recipe.making import Making, Progress, half_made
from ivrell.core.recipe.malformed import broken
from ivrell.core.recipe.model import Recipe
from ivrell.core.records.data import MadeTable

_FREE_SPACE_LEFT = 512 * 2**20
_SAMPLE_ROWS = 4096
_HALF = ".half"


@dataclass(frozen=True)
class Made:
    """One table in one form on disk.

    ``paths`` holds one file, or each file in order; ``bytes_hash`` (XXH3, 128 bits) is of
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
    codec: str | None = None
    split_by: str | None = None

    @property
    def given(self) -> str | list[str]:
        """What an approach is given: the path, or the list of paths of the files."""
        alone = len(self.paths) == 1 and not self.split_by
        return self.paths[0] if alone else self.paths

    def record(self) -> MadeTable:
        """As made data is told."""
        return MadeTable.model_validate(asdict(self))

    @property
    def rows_per_second(self) -> float:
        """The rate at which it was made."""
        return self.rows / self.seconds if self.seconds else 0.0


@dataclass(frozen=True)
class Kept:
    """Data of one fingerprint in the store: the tables in their forms, bytes, when last used
    (seconds since 1970), and what of it is only half made."""

    fingerprint: str
    tables: list[str]
    size_bytes: int
    used_at: float
    half_made: list[str] = field(default_factory=list)


class DataStore(Keeping):
    """A folder of made data: one folder a fingerprint, in it one file or folder a form.

    A table is written to a folder of its own beside its final place and moved there when
    whole, so nothing that looks finished is ever half made.
    """

    def ensure(
        self,
        recipe: Recipe,
        table: str,
        wanted: Input | str,
        *,
        workers: int = 1,
        progress: Progress | None = None,
        stopped: Callable[[], bool] | None = None,
    ) -> Made:
        """Make a table as wanted (an input, or just a form) unless it is there already.

        Args:
            recipe: a resolved recipe.
            workers: processes that draw blocks.
            progress: told after every block.
            stopped: asked between blocks; when it says yes, Stopped is raised. What was made
                until then is kept, does not look finished, and is gone on with next time.

        Raises:
            BadInput: it cannot be written so, or there is too little room on disk.
        """
        wanted = Input(form=wanted) if isinstance(wanted, str) else wanted
        form_called(wanted.form)
        fingerprint = recipe.fingerprint(table)
        folder = self.root / fingerprint[:24]
        name = wanted.file_name(table)
        record = folder / f"{name}.json"
        if made := known(record):
            os.utime(folder)
            return made
        if (own := recipe.own_file(table)) and wanted == Input(form=own.form):
            size = own.path.stat().st_size
            return Made(
                table, own.form, [str(own.path)], own.rows, size, 0.0, fingerprint, own.hash
            )
        files = Files(Generator(recipe), table, wanted)
        files.check()
        folder.mkdir(parents=True, exist_ok=True)
        with alone(folder / f"{name}.lock", stopped):
            if made := known(record):
                return made
            self._check_room(files, folder)
            return self._make(files, folder, record, fingerprint, workers, progress, stopped)

    def _make(
        self,
        files: Files,
        folder: Path,
        record: Path,
        fingerprint: str,
        workers: int,
        progress: Progress | None,
        stopped: Callable[[], bool] | None,
    ) -> Made:
        name = record.name.removesuffix(".json")
        half = folder / f"{name}{_HALF}"
        try:
            paths, seconds, digest = Making(files, half).run(workers, progress, stopped)
        except Stopped:
            raise
        except BaseException as error:
            if not isinstance(error, KeyboardInterrupt):
                shutil.rmtree(half, ignore_errors=True)
            raise
        final = folder / name
        shutil.rmtree(final, ignore_errors=True)
        final.unlink(missing_ok=True)
        alone = [half / f"{files.table}.{files.wanted.form}"]
        if paths == alone:
            for beside in half.glob("*.places.json"):
                beside.replace(folder / f"{name}.places.json")
            paths[0].replace(final)
            places = [str(final)]
            shutil.rmtree(half)
        else:
            half.replace(final)
            places = [str(final / path.relative_to(half)) for path in paths]
        recipe = files.generator.recipe
        made = Made(
            files.table,
            files.wanted.form,
            places,
            recipe.rows_of(files.table),
            sum(Path(path).stat().st_size for path in places),
            seconds,
            fingerprint,
            digest,
            broken(recipe, files.table) if files.form.text else {},
            files.generator.duplicates(files.table),
            files.wanted.codec,
            files.split_by,
        )
        temporary = record.with_name(record.name + ".tmp")
        temporary.write_text(json.dumps(asdict(made)))
        temporary.replace(record)
        return made

    def _check_room(self, files: Files, folder: Path) -> None:
        table, form = files.table, files.wanted.form
        sample = files.generator.sample(table, _SAMPLE_ROWS).select(files.layout.schema.names)
        each = size_in(form, sample, files.layout) / max(1, sample.num_rows)
        wanted = round(each * files.generator.recipe.rows_of(table))
        free = shutil.disk_usage(folder).free
        if wanted + _FREE_SPACE_LEFT > free:
            raise BadInput(
                f"{table} as {form} would take about {format_bytes(wanted)}, and "
                f"{format_bytes(free)} are free.",
                where=f"data.tables.{table}.rows",
                hint="Ask for fewer rows, or free some disk space.",
            )

    def kept(self) -> list[Kept]:
        """What is there, the last used first."""
        found = []
        for folder in self.root.glob("*/"):
            files = [path for path in folder.rglob("*") if path.is_file()]
            tables = sorted(
                path.name.removesuffix(".json")
                for path in folder.glob("*.json")
                if not path.name.endswith(".places.json")
            )
            half = sorted(
                path.name.removesuffix(_HALF)
                for path in folder.glob(f"*{_HALF}")
                if half_made(path) is not None
            )
            size = sum(path.stat().st_size for path in files)
            if tables or half:
                found.append(Kept(folder.name, tables, size, folder.stat().st_mtime, half))
        return sorted(found, key=lambda kept: -kept.used_at)

    def find(self, recipe: Recipe, table: str) -> list[Made]:
        """Every way in which a table of a resolved recipe stands made."""
        folder = self.root / recipe.fingerprint(table)[:24]
        found = (known(path) for path in sorted(folder.glob("*.json")))
        return [made for made in found if made and made.table == table]

    def entries(self) -> list[Entry]:
        return [
            Entry(kept.size_bytes, kept.used_at, partial(self._remove, kept.fingerprint))
            for kept in self.kept()
        ]

    def _remove(self, fingerprint: str) -> None:
        shutil.rmtree(self.root / fingerprint, ignore_errors=True)


def known(record: Path) -> Made | None:
    """What a record tells of, when its files are still as it says."""
    try:
        made = Made(**json.loads(record.read_text()))
        size = sum(Path(path).stat().st_size for path in made.paths)
    except (OSError, ValueError, TypeError):
        return None
    return made if size == made.size_bytes else None


__all__ = ["FORMS", "DataStore", "Kept", "Made", "Progress"]
