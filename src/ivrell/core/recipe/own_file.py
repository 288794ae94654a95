"""A user's own file as a table: known by its hash, read in blocks like a generated one."""

import shutil
import stat
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path

import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet
import xxhash

from ivrell.core.base.errors import BadInput
from ivrell.core.base.folders import data_folder
from ivrell.core.recipe.csv_look import header_alone
from ivrell.core.recipe.csv_style import CsvStyle
from ivrell.core.recipe.reading import parse_options, read_sample

_READ = 1 << 22


class OwnFile:
    """A csv or parquet file as it is.

    For looking at it, for other forms of it and for columns that refer to it, its rows are
    kept once more as parquet in Ivrell's own folder, a row group a block, under its hash.
    """

    def __init__(self, path: Path, block_rows: int, style: CsvStyle) -> None:
        self.path = path
        self.hash = _hash(path)
        folder = data_folder() / "own"
        mark = f"-{style.mark}" if style.mark else ""
        kept = folder / f"{self.hash}-{block_rows}{mark}.parquet"
        if not kept.exists():
            folder.mkdir(parents=True, exist_ok=True)
            _keep(path, kept, block_rows, style)
        self._file = pyarrow.parquet.ParquetFile(kept, memory_map=True)

    @property
    def form(self) -> str:
        """The form that it is in as it stands."""
        return self.path.suffix.removeprefix(".")

    @property
    def rows(self) -> int:
        """Rows, without a header."""
        return int(self._file.metadata.num_rows)

    @property
    def schema(self) -> pa.Schema:
        """Names and Arrow types of its columns."""
        return self._file.schema_arrow

    def block(self, index: int) -> pa.RecordBatch:
        """The rows of one block; of a file without rows there is one, which has none."""
        if not self.rows:
            return pa.RecordBatch.from_pylist([], schema=self.schema)
        return self._file.read_row_group(index).combine_chunks().to_batches()[0]

    def column(self, name: str) -> pa.Array:
        """All values of one column."""
        return self._file.read([name]).column(0).combine_chunks()


def own_file(path: str, block_rows: int, style: CsvStyle | None = None) -> OwnFile:
    """The file at a path, read anew when it has changed; ``style`` says how csv is written.

    Raises BadInput when it is not there or cannot be read.
    """
    try:
        found = Path(path).expanduser().resolve(strict=True)
        state = found.stat()
    except OSError as error:
        raise BadInput(
            f"The file {path} cannot be read: {error.strerror}.",
            hint="Write its whole path, or one that starts from the comparison file's folder.",
        ) from None
    if not stat.S_ISREG(state.st_mode):
        raise BadInput(f"{path} is no plain file.", hint="Name a csv or parquet file.")
    return _known(found, state.st_mtime_ns, state.st_size, block_rows, style or CsvStyle())


@lru_cache(maxsize=32)
def _known(path: Path, _changed: int, _size: int, block_rows: int, style: CsvStyle) -> OwnFile:
    return OwnFile(path, block_rows, style)


def _hash(path: Path) -> str:
    digest = xxhash.xxh3_128()
    with path.open("rb", buffering=0) as file:
        while data := file.read(_READ):
            digest.update(data)
    return digest.hexdigest()


def _keep(path: Path, kept: Path, block_rows: int, style: CsvStyle) -> None:
    sample, _ = read_sample(path, style, whole=True)
    schema = pa.schema([pa.field(field.name, field.type) for field in sample.schema])
    temporary = kept.with_suffix(".tmp")
    try:
        _write(_blocks(_batches(path, schema, style), block_rows), schema, temporary)
    except pa.ArrowInvalid:
        # What looked like numbers at first is not all numbers: then it is text.
        text = pa.schema([(name, pa.string()) for name in schema.names])
        _write(_blocks(_batches(path, text, style), block_rows), text, temporary)
    temporary.replace(kept)


def _batches(path: Path, schema: pa.Schema, style: CsvStyle) -> Iterator[pa.RecordBatch]:
    if path.suffix == ".parquet":
        for batch in pyarrow.parquet.ParquetFile(path).iter_batches():
            yield batch.rename_columns(schema.names)
        return
    if header_alone(path, style):
        return
    convert = pyarrow.csv.ConvertOptions(
        column_types={field.name: field.type for field in schema},
        strings_can_be_null=True,
        decimal_point=style.decimal,
    )
    options = pyarrow.csv.ReadOptions(
        column_names=schema.names, skip_rows=int(style.header), encoding=style.encoding
    )
    yield from pyarrow.csv.open_csv(
        path, read_options=options, parse_options=parse_options(style), convert_options=convert
    )


def _blocks(batches: Iterator[pa.RecordBatch], rows: int) -> Iterator[pa.Table]:
    """The same rows, ``rows`` at a time."""
    waiting: list[pa.RecordBatch] = []
    held = 0
    for batch in batches:
        waiting.append(batch)
        held += batch.num_rows
        while held >= rows:
            table = pa.Table.from_batches(waiting)
            yield table.slice(0, rows)
            waiting = table.slice(rows).to_batches()
            held -= rows
    if held:
        yield pa.Table.from_batches(waiting)


def _write(blocks: Iterator[pa.Table], schema: pa.Schema, path: Path) -> None:
    with pyarrow.parquet.ParquetWriter(path, schema, compression="lz4") as writer:
        for block in blocks:
            writer.write_table(block, row_group_size=block.num_rows)


def cleared() -> None:
    """Remove all that is kept of own files; the files themselves are not touched."""
    shutil.rmtree(data_folder() / "own", ignore_errors=True)
    _known.cache_clear()
