"""What a person asks of a recipe while writing it, as functions that another process can do.

Each takes a comparison's text and the folders that tables of the user's own may lie in, so that
whoever asks need not read a file, and can end what takes too long.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import edit
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Comparison
from ivrell.core.recipe.edit import Edit, changed
from ivrell.core.recipe.generate import Generator, shapes
from ivrell.core.recipe.kinds import Knobbed
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.preview import costs, preview, rows_from
from ivrell.core.recipe.store import DataStore, Made
from ivrell.core.records.points import Point, Value
from ivrell.core.records.profile import LookTable

MOST_ROWS_AT_ONCE = 500


@dataclass(frozen=True)
class Subject:
    """What is looked at.

    Attributes:
        text: a comparison's.
        knobs: values that differ from the first point's.
        folders: where tables of the user's own may lie; their paths start from the first.
    """

    text: str
    knobs: Mapping[str, Value]
    folders: tuple[Path, ...]


@dataclass(frozen=True)
class Look:
    """A recipe that was looked at: its seed, its text after the changes asked for, and its tables
    ``rows_given`` being their rows as they are written."""

    seed: int
    data_text: str
    tables: list[LookTable]


@dataclass(frozen=True)
class Cost:
    """Bytes on disk and seconds to make a form of a table; ``measured`` where it stands made."""

    table: str
    form: str
    bytes: int
    seconds: float
    measured: bool


def based(data: Comparison, folders: Sequence[Path]) -> Recipe:
    """The recipe with the whole paths of the user's own files, which start from the first folder.
    Raises BadInput for one that lies in none of the folders."""
    recipe = data.data.based_on(folders[0])
    for name, table in recipe.tables.items():
        if table.file is None:
            continue
        try:
            path = Path(table.file).resolve()
        except (OSError, ValueError, RuntimeError):
            path = Path("/")
        if not any(path.is_relative_to(folder.resolve()) for folder in folders):
            raise BadInput(
                f"The server does not read {table.file[:200]}.",
                where=f"data.tables.{name}.file",
                hint=f"Put the file into {folders[0]}, or start Ivrell with IVRELL_FILES set to "
                "its folder.",
            )
    return recipe


def resolved(subject: Subject) -> Recipe:
    """The recipe at its first point, with some knobs set otherwise. Raises BadInput."""
    data = parse(subject.text)
    return based(data, subject.folders).resolved({**next(data.points({})), **subject.knobs})


@lru_cache(maxsize=4)
def _kept_generator(recipe_json: str) -> Generator:
    """Generators are kept for a while: they hold the columns that others refer to."""
    return Generator(Recipe.model_validate_json(recipe_json))


def _generator(subject: Subject) -> Generator:
    return _kept_generator(resolved(subject).model_dump_json(by_alias=True, exclude_unset=True))


def look(subject: Subject, edits: Iterable[Edit] = ()) -> Look:
    """The tables of a recipe as they will be, after some changes. Raises BadInput."""
    data_text = edit.data_text(subject.text)
    for change in edits:
        data_text = changed(data_text, change)
    text = edit.replace_data(subject.text, data_text)
    generator = _generator(Subject(text, subject.knobs, subject.folders))
    written = parse(text).data.tables
    tables = [preview(generator, table) for table in generator.recipe.tables]
    for table in tables:
        table.rows_given = written[table.table].rows
        as_written = {
            c.name: c.written for c in written[table.table].columns if isinstance(c, Knobbed)
        }
        for column in table.columns:
            column.given = as_written.get(column.name, column.given)
    return Look(generator.recipe.seed, data_text, tables)


def some_rows(
    subject: Subject, table: str, first: int, count: int
) -> tuple[int, list[list[str | None]]]:
    """Rows of a table as they will be made, from anywhere in it: the number of the first, and
    at most MOST_ROWS_AT_ONCE as text. Raises BadInput."""
    generator = _generator(subject)
    if table not in generator.recipe.tables:
        raise BadInput(f'There is no table "{table}".')
    first = min(max(first, 0), generator.recipe.rows_of(table))
    count = min(max(count, 0), MOST_ROWS_AT_ONCE)
    return first, rows_from(generator, table, first, count)


def all_costs(subject: Subject, made: Path) -> list[Cost]:
    """What each form of each table takes: measured where it stands in the folder of made data,
    estimated from a sample elsewhere. Raises BadInput."""
    generator = _generator(subject)
    store = DataStore(made)
    found = []
    for table in generator.recipe.tables:
        there = {m.form: m for m in store.find(generator.recipe, table) if _is_plain(m)}
        for form, cost in costs(generator, table).items():
            if made_so := there.get(form):
                found.append(Cost(table, form, made_so.size_bytes, made_so.seconds, True))
            else:
                found.append(Cost(table, form, round(cost["bytes"]), cost["seconds"], False))
    return found


def _is_plain(made: Made) -> bool:
    return len(made.paths) == 1 and not made.codec and not made.split_by


def table_shapes(subject: Subject) -> dict[str, tuple[list[str], int]]:
    """Names of the columns, and rows, of each table. Raises BadInput."""
    return shapes(resolved(subject))


def check_points(subject: Subject, points: Iterable[Point]) -> None:
    """Raise BadInput where the tables cannot be made at one of these points."""
    recipe = based(parse(subject.text), subject.folders)
    for point in points:
        recipe.resolved(point)
