"""Reading a sample with the types its values really have.

Delimited text is read as text first: a column whose digits begin with zeros must not become
a number on the way in.
"""

import re
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv
import pyarrow.parquet

from ivrell.core.base.errors import BadInput
from ivrell.core.recipe.csv_look import header_alone, seen_style
from ivrell.core.recipe.csv_style import CsvStyle

MOST_ROWS = 500_000
_LOOKED_AT = 1 << 20

_TRIED = (pa.int64(), pa.float64(), pa.bool_(), pa.date32(), pa.timestamp("us"))


SAMPLE_NAME = b"name in the sample"
"""Of a field whose name was changed: what it was called."""


def read_sample(
    path: Path, style: CsvStyle | None = None, *, whole: bool = False
) -> tuple[pa.Table, int]:
    """At most MOST_ROWS rows of a csv or parquet file, and how many the file has.

    ``style`` says how csv is written; where it is None the file is looked at. Names that a recipe
    cannot hold are changed, with the first one in the field's metadata. A file that is to be a
    ``whole`` table keeps its names, and may have no rows.

    Raises BadInput when the file cannot be read, is empty, or is a sample without rows.
    """
    try:
        if not path.stat().st_size:
            raise BadInput("The file is empty.", where=path.name, hint="Give it a header at least.")
        if path.suffix == ".parquet":
            table, rows = _parquet(path)
        elif path.suffix == ".csv":
            table, rows = _csv(path, style or seen_style(path))
        else:
            raise BadInput(
                f"A sample is a csv or parquet file; {path.name} is neither by its name.",
                hint="Rename it, or save it in one of these forms.",
            )
    except (UnicodeDecodeError, pa.ArrowInvalid) as error:
        raise BadInput(
            f"The sample cannot be read: {error}",
            where=path.name,
            hint=(
                "Each line needs as many fields as the first. A table of a comparison says in csv "
                "how its file is written: delimiter, decimal, encoding."
            ),
        ) from None
    except (OSError, pa.ArrowException) as error:
        raise BadInput(f"The sample cannot be read: {error}", where=path.name) from None
    if not table.num_rows and not whole:
        raise BadInput("The sample has no rows.", where=path.name)
    for field in table.schema:
        if pa.types.is_nested(field.type):
            raise BadInput(
                f'The column "{field.name}" holds lists or structures ({field.type}).',
                where=path.name,
                hint="Save its parts as columns of their own, or leave it out.",
            )
    if whole:
        return table, rows
    plain = _plain_names(table.column_names)
    fields = [
        pa.field(name, field.type, metadata={SAMPLE_NAME: field.name} if name != field.name else {})
        for name, field in zip(plain, table.schema, strict=True)
    ]
    return pa.table(table.columns, schema=pa.schema(fields)), rows


def _plain_names(names: list[str]) -> list[str]:
    """Names that a recipe can hold: letters, digits and underscores, each once."""
    found: list[str] = []
    for name in names:
        plain = re.sub(r"\W", "_", name, flags=re.ASCII)[:60]
        if not plain or plain[0].isdigit():
            plain = f"c_{plain}"
        while plain in found:
            plain += "_"
        found.append(plain)
    return found


def _parquet(path: Path) -> tuple[pa.Table, int]:
    file = pyarrow.parquet.ParquetFile(path)
    batches: list[pa.RecordBatch] = []
    for batch in file.iter_batches():
        batches.append(batch)
        if sum(b.num_rows for b in batches) >= MOST_ROWS:
            break
    table = pa.Table.from_batches(batches, file.schema_arrow).slice(0, MOST_ROWS)
    return table, file.metadata.num_rows


def _csv(path: Path, style: CsvStyle) -> tuple[pa.Table, int]:
    """The rows of a csv file as they are read. Raises BadInput where that is by a delimiter that
    it is not written with."""
    with path.open("rb") as file:
        if b"\0" in file.read(_LOOKED_AT):
            raise BadInput(
                "It holds bytes that no text has; it may be UTF-16, or no csv at all.",
                where=path.name,
                hint="Save it as UTF-8.",
            )
    try:
        table, rows = _csv_by(path, style)
    except pa.ArrowInvalid:
        _refuse_another_delimiter(path, style)
        raise
    if table.num_columns == 1:
        _refuse_another_delimiter(path, style)
    return table, rows


def _refuse_another_delimiter(path: Path, style: CsvStyle) -> None:
    seen = seen_style(path)
    if seen.delimiter != style.delimiter:
        raise BadInput(
            f"Its fields do not part where {_called(style.delimiter)} stands; it seems to have "
            f"{_called(seen.delimiter)} between them.",
            where=path.name,
            hint="Change csv.delimiter, or leave csv out: then the file is looked at.",
        )


def _csv_by(path: Path, style: CsvStyle) -> tuple[pa.Table, int]:
    if names := header_alone(path, style):
        return pa.table({name: pa.array([], pa.string()) for name in names}), 0
    options = {
        "read_options": pyarrow.csv.ReadOptions(
            autogenerate_column_names=not style.header, encoding=style.encoding
        ),
        "parse_options": parse_options(style),
    }
    with path.open("rb") as file:
        names = pyarrow.csv.open_csv(path, **options).schema.names
        if twice := sorted({name for name in names if names.count(name) > 1}):
            raise BadInput(
                f'Two columns are called "{twice[0]}".',
                where=path.name,
                hint="Give one of them another name.",
            )
        lines = sum(piece.count(b"\n") for piece in iter(lambda: file.read(1 << 22), b""))
    convert = pyarrow.csv.ConvertOptions(
        column_types={name: pa.string() for name in names}, strings_can_be_null=True
    )
    batches: list[pa.RecordBatch] = []
    for batch in pyarrow.csv.open_csv(path, convert_options=convert, **options):
        batches.append(batch)
        if sum(b.num_rows for b in batches) >= MOST_ROWS:
            break
    schema = pa.schema([(name, pa.string()) for name in names])
    text = pa.Table.from_batches(batches, schema).slice(0, MOST_ROWS)
    columns = [_typed(column.combine_chunks(), style.decimal) for column in text.columns]
    # Where the sample is the whole file its rows are counted; else its lines are, and values with
    # line breaks in them make those more.
    rows = text.num_rows if text.num_rows < MOST_ROWS else lines - int(style.header)
    return pa.table(dict(zip(names, columns, strict=True))), rows


def parse_options(style: CsvStyle) -> pyarrow.csv.ParseOptions:
    """How a csv file of this style is cut into fields; values may hold line breaks in quotes."""
    return pyarrow.csv.ParseOptions(delimiter=style.delimiter, newlines_in_values=True)


def _called(delimiter: str) -> str:
    return {"\t": "a tab"}.get(delimiter, f'"{delimiter}"')


def _typed(text: pa.Array, decimal: str) -> pa.Array:
    """The values in the plainest type that holds all of them without loss."""
    known = text.drop_null()
    if not len(known) or pc.any(pc.match_substring_regex(known, r"^[+-]?0[0-9]")).as_py():
        return text
    with_commas = pc.match_substring_regex(known, r"^[+-]?[0-9]+(,[0-9]+)?$")
    if decimal == "," and pc.all(with_commas).as_py():
        text = pc.replace_substring(text, ",", ".")
    for kind in _TRIED:
        try:
            return text.cast(kind)
        except pa.ArrowException:
            continue
    return text
