"""Tables made inside Spark: the blocks of a recipe are drawn by the same generator in its tasks,
and written as part files by its executors. Its driver: ``python -m ivrell.core.spark.making``.

A task draws blocks that follow each other, so part files in the order of their names hold the rows
in the order that one machine writes them in, sorted tables too, and nothing is shuffled. A task
that was lost draws its blocks again, which gives the same rows.
"""

import json
import os
import shutil
import sys
import time
import zipfile
from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict
from pathlib import Path
from typing import Any

import pyarrow as pa
from pydantic import BaseModel

from ivrell.core.contain.sandbox import give, why_not
from ivrell.core.errors import BadInput, Stopped
from ivrell.core.locks import alone
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.making import Progress
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.store import Made, known
from ivrell.core.records.wire import SparkPlace
from ivrell.core.spark.driver import ASKED, SAID, DriverFailed, driven, driver_folder
from ivrell.core.spark.event_log import Tally, log_in
from ivrell.core.spark.places import At

FORMS = ("parquet", "csv")
"""Forms that Spark writes."""

_SECONDS = 7 * 86_400.0
_BLOCKS_A_TASK = 16
_MOST_TASKS = 100_000
_RETRIES = 4
_ROWS = "rows"
"""Folder of the part files: Spark removes and makes it as it goes."""


class _Asked(BaseModel):
    """What a driver is to make: a table of a resolved recipe, in so many tasks (0 for its own
    choice), and where."""

    place: SparkPlace
    recipe: str
    table: str
    wanted: Input
    tasks: int
    address: str


class _Told(BaseModel):
    """What was made: bytes and rows of all files, and how many tasks were done again."""

    size_bytes: int
    rows: int
    retried: int


class SparkStore:
    """Tables that were made on a cluster's storage, and what is known of them here.

    Args:
        folder: for the records.
        at: gives the place that makes them.
        storage: where they stand: a folder, or an address that Spark knows.
    """

    def __init__(self, folder: Path, at: Callable[[], At], storage: str) -> None:
        self._folder = folder
        self._at = at
        self._storage = storage

    def ensure(
        self,
        recipe: Recipe,
        table: str,
        wanted: Input,
        *,
        tasks: int = 0,
        progress: Progress | None = None,
        stopped: Callable[[], bool] | None = None,
    ) -> Made:
        """Make a table as wanted, unless it is there.

        Args:
            recipe: a resolved recipe.
            tasks: that its blocks are drawn in; some blocks a task unless given.
            progress: told after each task.
            stopped: asked meanwhile; when it says yes, Stopped is raised and nothing is left.

        Raises BadInput where Spark cannot write it so, or fails.
        """
        _check(wanted)
        fingerprint = recipe.fingerprint(table)
        name = wanted.file_name(table)
        record = self._folder / fingerprint[:24] / f"{name}.json"
        record.parent.mkdir(parents=True, exist_ok=True)
        with alone(record.with_suffix(".lock"), stopped):
            if (made := known(record)) and self._stands(made):
                return made
            address = f"{self._storage}/ivrell-made/{fingerprint[:24]}/{name}"
            made = self._make(recipe, table, wanted, tasks, address, progress, stopped)
            temporary = record.with_name(record.name + ".tmp")
            temporary.write_text(json.dumps(asdict(made)))
            temporary.replace(record)
            return made

    def _stands(self, made: Made) -> bool:
        """Whether what was made is still there, as far as that can be seen from here."""
        return all(Path(path).exists() for path in made.paths if path.startswith("/"))

    def _make(
        self,
        recipe: Recipe,
        table: str,
        wanted: Input,
        tasks: int,
        address: str,
        progress: Progress | None,
        stopped: Callable[[], bool] | None,
    ) -> Made:
        at = self._at()
        here = _own(address)
        rows = recipe.rows_of(table)
        asked = _Asked(
            place=at.place, recipe=recipe.model_dump_json(by_alias=True), table=table,
            wanted=wanted, tasks=tasks or wanted.parts * (wanted.parts > 1), address=address,
        )  # fmt: skip
        began = time.monotonic()
        try:
            with driver_folder() as folder:
                tell = _Telling(folder, table, wanted.form, rows, progress, stopped)
                inputs = [str(own.path) for name in recipe.tables if (own := recipe.own_file(name))]
                said = driven(
                    "ivrell.core.spark.making", asked.model_dump_json(), at, folder,
                    inputs=inputs, writable=[str(here)] if here else [], seconds=_SECONDS,
                    poll=tell.poll,
                )  # fmt: skip
                told = _Told.model_validate_json(said)
        except BaseException as error:
            at.leave()
            if here:
                shutil.rmtree(here, ignore_errors=True)
            if isinstance(error, (DriverFailed, ValueError)):
                raise BadInput(
                    f"{table} could not be made in Spark: {error}",
                    where=f"data.tables.{table}",
                    hint="Look at the cluster with ./ivrell clusters, or make it on one machine.",
                ) from None
            raise
        at.leave()
        paths = [f"{address}/{_ROWS}"]
        if here:
            paths = sorted(map(str, (here / _ROWS).rglob("part-*")))
        return Made(
            table=table, form=wanted.form, paths=paths, rows=told.rows, size_bytes=told.size_bytes,
            seconds=time.monotonic() - began, fingerprint=recipe.fingerprint(table), bytes_hash="",
            duplicates=Generator(recipe).duplicates(table), codec=wanted.codec,
            split_by=wanted.split_by,
        )  # fmt: skip


def _own(address: str) -> Path | None:
    """A folder for executors to write to, where the storage is one of this machine: theirs."""
    if not address.startswith("/"):
        return None
    folder = Path(address)
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    if why_not() is None:
        give(folder)
    return folder


def _check(wanted: Input) -> None:
    if wanted.form not in FORMS:
        raise BadInput(
            f"Spark does not write the form {wanted.form} here.",
            where="input.form",
            hint=f"Take one of {', '.join(FORMS)}, or a place without a storage of its own.",
        )
    if wanted.csv and (wanted.csv.decimal != "." or wanted.csv.encoding != "utf-8"):
        raise BadInput("Spark writes csv in UTF-8, with decimal points.", where="input.csv")


class _Telling:
    """Tells how far a making came, from the log of its session, and stops it when asked."""

    def __init__(
        self, folder: Path, table: str, form: str, rows: int, progress: Progress | None,
        stopped: Callable[[], bool] | None,
    ) -> None:  # fmt: skip
        self._folder = folder
        self._what = table, form
        self._rows = rows
        self._progress = progress
        self._stopped = stopped
        self._tally: Tally | None = None
        self._told = -1

    def poll(self) -> None:
        """Look at the log. Raises Stopped."""
        if self._stopped and self._stopped():
            raise Stopped(f"{self._what[0]} as {self._what[1]}")
        if self._tally is None and (path := log_in(self._folder)):
            self._tally = Tally(path)
        if self._tally and self._progress:
            done = min(self._rows, self._tally.read().used.output_rows)
            if done != self._told:
                self._told = done
                self._progress(*self._what, done, self._rows)


def make(session: Any, asked: _Asked) -> None:
    """Draw and write a table in a session."""
    from pyspark.sql.pandas.types import from_arrow_schema

    recipe = Recipe.model_validate_json(asked.recipe)
    generator = Generator(recipe)
    blocks = generator.blocks(asked.table)
    tasks = asked.tasks or min(_MOST_TASKS, -(-blocks // _BLOCKS_A_TASK))
    # At least as many as there are cores, so that none is idle.
    tasks = asked.tasks or max(tasks, session.sparkContext.defaultParallelism)
    schema = spark_schema(generator.schema(asked.table))
    drawn = session.range(0, blocks, 1, min(tasks, blocks)).mapInArrow(
        _drawing(asked.recipe, asked.table), from_arrow_schema(schema, prefer_timestamp_ntz=True)
    )
    writer = drawn.write.mode("overwrite").format(asked.wanted.form)
    if asked.wanted.split_by:
        writer = writer.partitionBy(asked.wanted.split_by)
    if asked.wanted.codec:
        writer = writer.option("compression", asked.wanted.codec)
    if asked.wanted.form == "csv":
        style = asked.wanted.csv
        writer = writer.options(
            header=style.header if style else True, sep=style.delimiter if style else ",",
            escape='"', timestampNTZFormat="yyyy-MM-dd'T'HH:mm:ss[.SSSSSS]",
        )  # fmt: skip
    writer.save(f"{asked.address}/{_ROWS}")


def spark_schema(schema: pa.Schema) -> pa.Schema:
    """An Arrow schema in the types that Spark has: the same values."""

    def of(kind: pa.DataType) -> pa.DataType:
        if pa.types.is_dictionary(kind):
            return of(kind.value_type)
        if pa.types.is_timestamp(kind):
            return pa.timestamp("us", kind.tz)
        if pa.types.is_uint64(kind):
            return pa.decimal128(20, 0)
        if pa.types.is_unsigned_integer(kind):
            return pa.int64()
        return kind

    return pa.schema([pa.field(field.name, of(field.type)) for field in schema])


def _drawing(
    recipe: str, table: str
) -> Callable[[Iterable[pa.RecordBatch]], Iterator[pa.RecordBatch]]:
    """What a task does with the numbers of its blocks."""

    def draw(numbers: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
        generator = Generator(Recipe.model_validate_json(recipe))
        schema = spark_schema(generator.schema(table))
        for some in numbers:
            for number in some.column(0).to_pylist():
                yield generator.block(table, number).cast(schema)

    return draw


def _shipped(folder: Path) -> Path:
    """Ivrell's core as one file, for executors on machines that do not have it."""
    root = Path(__file__).resolve().parents[2]
    path = folder / "ivrell.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for file in [root / "__init__.py", *sorted((root / "core").rglob("*.py"))]:
            archive.write(file, str(Path("ivrell") / file.relative_to(root)))
    return path


def main(folder: Path) -> None:
    """The driver: makes what is asked, and says what came of it."""
    from ivrell.core.spark.session import Watch, is_connect, open_session

    asked = _Asked.model_validate_json((folder / ASKED).read_text())
    settings = {"spark.task.maxFailures": str(_RETRIES)}
    session = open_session(asked.place, folder, settings)
    if is_connect(asked.place):
        session.addArtifacts(str(_shipped(folder)), pyfile=True)
        make(session, asked)
        rows = session.read.format(asked.wanted.form).load(f"{asked.address}/{_ROWS}").count()
        told = _Told(size_bytes=0, rows=rows, retried=0)
    else:
        if not asked.place.seen:
            session.sparkContext.addPyFile(str(_shipped(folder)))
        watch = Watch(session, folder)
        watch.begin()
        make(session, asked)
        watch.settle()
        used = watch.tally.used if watch.tally else None
        told = _Told(
            size_bytes=used.output_bytes if used else 0,
            rows=Recipe.model_validate_json(asked.recipe).rows_of(asked.table),
            retried=used.retried_tasks if used else 0,
        )
    (folder / SAID).write_text(told.model_dump_json())


if __name__ == "__main__":
    main(Path(sys.argv[1]))
    sys.stdout.flush()
    os._exit(0)
