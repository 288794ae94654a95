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
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import asdict, replace
from functools import partial
from pathlib import Path
from typing import Any

import pyarrow as pa
from pydantic import BaseModel, TypeAdapter

from ivrell.core.base.errors import BadInput, Stopped
from ivrell.core.base.folders import package_folder
from ivrell.core.base.locks import alone
from ivrell.core.contain.sandbox import give, why_not
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.making import Progress
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.store import Made, known
from ivrell.core.records.wire import SparkPlace
from ivrell.core.spark.driver import ASKED, SAID, DriverFailed, driven, driver_folder
from ivrell.core.spark.event_log import Tally, Used, log_in
from ivrell.core.spark.places import At, Places

FORMS = ("parquet", "csv")
"""Forms that Spark writes."""

_SECONDS = 7 * 86_400.0
_BLOCKS_A_TASK = 16
_MOST_TASKS = 100_000
_FEWEST_TASKS = 8
_SAMPLE_ROWS = 4096
_MANY = 0.5
_RETRIES = 4
_ROWS = "rows"
"""Folder of the part files: Spark removes and makes it as it goes."""


class _Wanted(BaseModel):
    """A table that a driver is to make, in so many tasks (0 for its own choice), and where."""

    table: str
    address: str
    tasks: int = 0


class _Asked(BaseModel):
    """What a driver is to make: tables of a resolved recipe, in one session."""

    place: SparkPlace
    recipe: str
    wanted: Input
    tables: list[_Wanted]


class _Told(BaseModel):
    """What was made of a table: bytes of all files, seconds, and how many tasks were done again."""

    size_bytes: int
    seconds: float
    retried: int


_SAYS: TypeAdapter[dict[str, _Told]] = TypeAdapter(dict[str, _Told])


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
        self.retried_tasks = 0
        """Tasks that were done again, in all that was made so far."""

    def ensure(
        self,
        recipe: Recipe,
        tables: Iterable[str],
        wanted: Input,
        *,
        tasks: int = 0,
        progress: Progress | None = None,
        stopped: Callable[[], bool] | None = None,
    ) -> dict[str, Made]:
        """Make tables as wanted, unless they are there; what is missing in one session.

        Args:
            recipe: a resolved recipe.
            tasks: that the blocks of each are drawn in; some blocks a task unless given.
            progress: told after each task.
            stopped: asked meanwhile; when it says yes, Stopped is raised, and what is not whole is
                removed.

        Raises BadInput where Spark cannot write it so, or fails.
        """
        _check(wanted)
        tasks = tasks or wanted.parts * (wanted.parts > 1)
        self._folder.mkdir(parents=True, exist_ok=True)
        with alone(self._folder / "making.lock", stopped):
            missing = [table for table in tables if self._found(recipe, table, wanted) is None]
            if missing:
                asked = [
                    _Wanted(table=table, address=self._address(recipe, table, wanted), tasks=tasks)
                    for table in missing
                ]
                self._make(recipe, asked, wanted, progress, stopped)
            found = {table: self._found(recipe, table, wanted) for table in tables}
        return {table: made for table, made in found.items() if made}

    def _record(self, recipe: Recipe, table: str, wanted: Input) -> Path:
        folder = self._folder / recipe.fingerprint(table)[:24]
        return folder / f"{wanted.file_name(table)}.json"

    def _address(self, recipe: Recipe, table: str, wanted: Input) -> str:
        name = recipe.fingerprint(table)[:24]
        return f"{self._storage}/ivrell-made/{name}/{wanted.file_name(table)}"

    def _found(self, recipe: Recipe, table: str, wanted: Input) -> Made | None:
        """A table that stands there, as far as that can be seen from here."""
        return known(self._record(recipe, table, wanted))

    def _make(
        self,
        recipe: Recipe,
        asked: list[_Wanted],
        wanted: Input,
        progress: Progress | None,
        stopped: Callable[[], bool] | None,
    ) -> None:
        at = self._at()
        own = {one.table: _own(one.address) for one in asked}
        text = _Asked(
            place=at.place, recipe=recipe.model_dump_json(by_alias=True), wanted=wanted,
            tables=asked,
        ).model_dump_json()  # fmt: skip
        files = [str(file.path) for name in recipe.tables if (file := recipe.own_file(name))]
        try:
            with driver_folder() as folder:
                rows = {one.table: recipe.rows_of(one.table) for one in asked}
                tell = _Telling(folder, rows, wanted.form, progress, stopped)
                said = driven(
                    "ivrell.core.spark.making", text, at, folder, inputs=files,
                    writable=[str(place) for place in own.values() if place],
                    seconds=_SECONDS, poll=tell.poll,
                )  # fmt: skip
            told = _SAYS.validate_json(said)
        except BaseException as error:
            for place in own.values():
                if place:
                    shutil.rmtree(place, ignore_errors=True)
            if isinstance(error, (DriverFailed, ValueError)):
                names = ", ".join(own)
                raise BadInput(
                    f"{names} could not be made in Spark: {error}",
                    where="data.tables",
                    hint="Look at the cluster with ./ivrell clusters, or make them here.",
                ) from None
            raise
        finally:
            at.leave()
        for one in asked:
            self._keep(recipe, one, wanted, told[one.table])

    def _keep(self, recipe: Recipe, one: _Wanted, wanted: Input, told: _Told) -> None:
        paths = [f"{one.address}/{_ROWS}"]
        size = told.size_bytes
        if paths[0].startswith("/"):
            paths = sorted(map(str, Path(paths[0]).rglob("part-*")))
            size = sum(Path(path).stat().st_size for path in paths)
        self.retried_tasks += told.retried
        made = Made(
            table=one.table, form=wanted.form, paths=paths, rows=recipe.rows_of(one.table),
            size_bytes=size, seconds=told.seconds, fingerprint=recipe.fingerprint(one.table),
            bytes_hash="", duplicates=Generator(recipe).duplicates(one.table), codec=wanted.codec,
            split_by=wanted.split_by,
        )  # fmt: skip
        record = self._record(recipe, one.table, wanted)
        record.parent.mkdir(exist_ok=True)
        temporary = record.with_name(record.name + ".tmp")
        temporary.write_text(json.dumps(asdict(made)))
        temporary.replace(record)


def store_at(places: Places, name: str, folder: Path) -> SparkStore:
    """The store of the place of that name; records of what is made lie in a folder. Raises BadInput
    where there is no such place, or it has no storage."""
    cluster = places.cluster(name)
    if not cluster.storage:
        raise BadInput(
            f"The cluster {name} has no storage to make tables on.",
            where="at",
            hint="Register it anew with --storage and a folder that all of it reaches.",
        )
    return SparkStore(folder / name, partial(places.at, name), cluster.storage)


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
    """Tells how far a making came, from the log of its session, and stops it when asked.

    Tables are made one after the other, so rows that were written belong to the first ones.
    """

    def __init__(
        self, folder: Path, rows: Mapping[str, int], form: str, progress: Progress | None,
        stopped: Callable[[], bool] | None,
    ) -> None:  # fmt: skip
        self._folder = folder
        self._rows = rows
        self._form = form
        self._progress = progress
        self._stopped = stopped
        self._tally: Tally | None = None
        self._told: dict[str, int] = {}

    def poll(self) -> None:
        """Look at the log. Raises Stopped."""
        if self._stopped and self._stopped():
            raise Stopped(f"tables as {self._form}")
        if self._tally is None and (path := log_in(self._folder)):
            self._tally = Tally(path)
        if self._tally and self._progress:
            written = self._tally.read().used.output_rows
            for table, rows in self._rows.items():
                done = min(rows, written)
                if done and done != self._told.get(table):
                    self._told[table] = done
                    self._progress(table, self._form, done, rows)
                written -= done


def make(session: Any, recipe_json: str, one: _Wanted, wanted: Input) -> None:
    """Draw and write a table of a resolved recipe in a session."""
    from pyspark.sql.pandas.types import from_arrow_schema

    generator = Generator(Recipe.model_validate_json(recipe_json))
    blocks = generator.blocks(one.table)
    tasks = one.tasks
    if not tasks:
        cores = int(session.conf.get("spark.default.parallelism", "") or _FEWEST_TASKS)
        # At least as many as there are cores, so that none is idle.
        tasks = max(cores, min(_MOST_TASKS, -(-blocks // _BLOCKS_A_TASK)))
    schema = spark_schema(generator.schema(one.table))
    drawn = session.range(0, blocks, 1, min(tasks, blocks)).mapInArrow(
        _drawing(recipe_json, one.table), from_arrow_schema(schema, prefer_timestamp_ntz=True)
    )
    writer = drawn.write.mode("overwrite").format(wanted.form)
    if wanted.split_by:
        writer = writer.partitionBy(wanted.split_by)
    if wanted.codec:
        writer = writer.option("compression", wanted.codec)
    if wanted.form == "parquet":
        writer = writer.options(**_without_dictionaries(generator, one.table))
    if wanted.form == "csv":
        style = wanted.csv
        writer = writer.options(
            header=style.header if style else True, sep=style.delimiter if style else ",",
            escape='"', timestampNTZFormat="yyyy-MM-dd'T'HH:mm:ss[.SSSSSS]",
        )  # fmt: skip
    writer.save(f"{one.address}/{_ROWS}")


def _without_dictionaries(generator: Generator, table: str) -> dict[str, str]:
    """Settings of the Parquet writer: columns of which hardly a value comes twice get no
    dictionary, which would be built, found too large and thrown away again and again."""
    sample = generator.sample(table, _SAMPLE_ROWS)
    found = {"parquet.page.write-checksum.enabled": "false"}
    for name, column in zip(sample.schema.names, sample.columns, strict=True):
        if pa.types.is_nested(column.type):
            continue
        if len(column.unique()) > _MANY * max(1, sample.num_rows):
            found[f"parquet.enable.dictionary#{name}"] = "false"
    return found


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
    root = package_folder()
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
    watch = None
    if is_connect(asked.place):
        session.addArtifacts(str(_shipped(folder)), pyfile=True)
    else:
        watch = Watch(session, folder)
        if not asked.place.seen:
            session.sparkContext.addPyFile(str(_shipped(folder)))
    told = {}
    for one in asked.tables:
        if watch:
            watch.settle()
        before = replace(watch.tally.used) if watch and watch.tally else Used()
        began = time.monotonic()
        make(session, asked.recipe, one, asked.wanted)
        seconds = time.monotonic() - began
        if watch:
            watch.settle()
        used = watch.tally.used if watch and watch.tally else Used()
        told[one.table] = _Told(
            size_bytes=used.output_bytes - before.output_bytes,
            seconds=seconds,
            retried=used.retried_tasks - before.retried_tasks,
        )
    (folder / SAID).write_bytes(_SAYS.dump_json(told))


if __name__ == "__main__":
    main(Path(sys.argv[1]))
    sys.stdout.flush()
    os._exit(0)
