"""Blocks as bytes in a form, drawn by this process alone or with others beside it."""

import logging
import multiprocessing
from collections import deque
from collections.abc import Callable
from collections.abc import Generator as Generated
from concurrent.futures import BrokenExecutor, Future, ProcessPoolExecutor
from dataclasses import dataclass
from functools import cached_property
from multiprocessing import forkserver
from pathlib import Path
from typing import TypeAlias
from urllib.parse import quote

import pyarrow as pa
import pyarrow.compute as pc

from ivrell.core.base.errors import BadInput
from ivrell.core.base.temp_dirs import keep_pools_in_sight
from ivrell.core.recipe.csv_style import CsvStyle
from ivrell.core.recipe.flat import flat, flat_schema
from ivrell.core.recipe.forms import FORMS, Form, Layout
from ivrell.core.recipe.forms.text import Csv
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.malformed import chosen
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe
from ivrell.core.recipe.spool import Segments, Spooled, put_by, spool_folder

log = logging.getLogger("ivrell.data")
_Waiting: TypeAlias = tuple[int, Future[Spooled] | Segments]
"""A block by its number: drawn, or being drawn by another process."""


_BLOCKS_WORTH_WORKERS = 6
"""Below this starting other processes takes longer than drawing the blocks."""

MOST_FILES = 1000
_NO_VALUE = "__HIVE_DEFAULT_PARTITION__"
"""How readers that take a column from the path know a null."""


@dataclass(frozen=True)
class Files:
    """The files of one table in one form, and which rows stand in which of them."""

    generator: Generator
    table: str
    wanted: Input

    @property
    def form(self) -> Form:
        """The form they are written in."""
        return FORMS[self.wanted.form]

    @cached_property
    def layout(self) -> Layout:
        """What the form needs to know of the table as it stands in a file."""
        schema = self.generator.schema(self.table)
        if split_by := self.split_by:
            schema = schema.remove(schema.get_field_index(split_by))
        if not self.form.nests:
            schema = flat_schema(schema)
        widths = self.generator.widths(self.table) if self.wanted.form == "fixed" else {}
        columns = self.generator.recipe.tables[self.table].columns
        decimals = {c.name: d for c in columns if (d := getattr(c, "decimals", None)) is not None}
        style = self.wanted.csv or CsvStyle()
        return Layout(schema, widths, self.wanted.codec, self.table, style, decimals)

    @cached_property
    def split_by(self) -> str | None:
        """The column that the rows are parted by, where this table has it."""
        name = self.wanted.split_by
        return name if name and name in self.generator.schema(self.table).names else None

    @cached_property
    def parts(self) -> int:
        """Files that the rows are spread over in order."""
        return max(1, min(self.wanted.parts, self.generator.recipe.rows_of(self.table)))

    def part_name(self, part: int) -> str:
        """Name of the file of a part, counted from 0."""
        suffix = self.wanted.form
        if self.parts == 1:
            return f"{self.table}.{suffix}"
        return f"{self.table}-{part + 1:0{len(str(self.parts))}}.{suffix}"

    def encoded(self, index: int) -> Segments:
        """One block as its bytes, lines broken where the recipe says so.

        Part p of n holds rows ``total * p // n`` up to ``total * (p + 1) // n``.
        """
        batch = self.generator.block(self.table, index)
        if not self.form.nests:
            batch = flat(batch)
        picks = chosen(self.generator.recipe, self.table, index) if self.form.text else []
        if self.split_by:
            return self._by_value(batch, picks)
        total = self.generator.recipe.rows_of(self.table)
        if not total:
            return [(self.part_name(0), self.form.encode(batch, self.layout, []))]
        first = index * BLOCK_ROWS
        segments: Segments = []
        at = 0
        while at < batch.num_rows:
            # The part whose end lies beyond this row.
            part = ((first + at + 1) * self.parts - 1) // total
            until = min(batch.num_rows, total * (part + 1) // self.parts - first)
            own = [(row - at, way) for row, way in picks if at <= row < until]
            rows = batch.slice(at, until - at)
            segments.append((self.part_name(part), self.form.encode(rows, self.layout, own)))
            at = until
        return segments

    def _by_value(self, batch: pa.RecordBatch, picks: list[tuple[int, str]]) -> Segments:
        assert self.split_by
        column = batch.column(self.split_by)
        rest = batch.select([n for n in batch.schema.names if n != self.split_by])
        text = pc.fill_null(column.cast(pa.string()), _NO_VALUE)
        segments: Segments = []
        for value in sorted(text.unique().to_pylist()):
            rows = pc.indices_nonzero(pc.equal(text, value))
            place = {row: position for position, row in enumerate(rows.to_pylist())}
            own = [(place[row], way) for row, way in picks if row in place]
            name = f"{self.split_by}={quote(value, safe=' ')}/{self.table}.{self.wanted.form}"
            segments.append((name, self.form.encode(rest.take(rows), self.layout, own)))
        return segments

    def check(self) -> None:
        """Raise BadInput where the table cannot be written in this way."""
        total = self.generator.recipe.rows_of(self.table)
        most = self.form.most_rows
        if most and not self.split_by and -(-total // self.parts) > most:
            raise BadInput(
                f"{self.table} has {total:,} rows, and one file of the form {self.wanted.form} "
                f"holds {most:,} rows.",
                where=f"data.tables.{self.table}.rows",
                hint="Take fewer rows, more parts, or another form.",
            )
        if self.wanted.csv and not isinstance(self.form, Csv):
            raise BadInput(
                f"The form {self.wanted.form} is no csv, which alone has such settings.",
                where="input.csv",
                hint="Take a form of csv, or leave the settings out.",
            )
        if (codec := self.wanted.codec) and codec not in self.form.codecs:
            known = ", ".join(self.form.codecs) or "none"
            raise BadInput(
                f'The form {self.wanted.form} has no codec "{codec}".',
                where="input.codec",
                hint=f"Its codecs: {known}.",
            )
        if self.split_by:
            kind = self.generator.schema(self.table).field(self.split_by).type
            if pa.types.is_floating(kind) or pa.types.is_timestamp(kind):
                raise BadInput(
                    f"Files cannot be split by {self.split_by}: it holds {kind}.",
                    where="input.split_by",
                    hint="Split by a text, a whole number, a day, or true or false.",
                )


_files: dict[tuple[str, str, Input], Files] = {}


def _made_ready(recipe_json: str, table: str, wanted: Input) -> None:
    """In another process: whatever has to be loaded and looked up once."""
    _of(recipe_json, table, wanted).encoded(0)


def _of(recipe_json: str, table: str, wanted: Input) -> Files:
    key = (recipe_json, table, wanted)
    if key not in _files:
        _files.clear()
        generator = Generator(Recipe.model_validate_json(recipe_json))
        _files[key] = Files(generator, table, wanted)
    return _files[key]


def _spooled(recipe_json: str, table: str, wanted: Input, index: int, place: str) -> Spooled:
    """In another process: one block of a table, whose recipe comes as text, put into a file:
    pipes between processes would cost more than a tenth of drawing it."""
    return put_by(_of(recipe_json, table, wanted).encoded(index), Path(place))


def drawers_at_hand() -> None:
    """Have the process started that others are forked from, which loads what they need: that takes
    three quarters of a second, in which something else can be done. It ends with this one."""
    keep_pools_in_sight()
    multiprocessing.set_forkserver_preload([__name__])
    forkserver.ensure_running()


def encoded_blocks(files: Files, workers: int, start: int = 0) -> Generated[Segments, None, None]:
    """Blocks from ``start`` on in order, drawn by this process and ``workers - 1`` others.

    This process draws alone until the others are ready, so the time that they take to start is
    not lost, and beside them while the next block is not there yet. Few blocks a worker wait, in
    shared memory where there is room.
    """
    blocks = files.generator.blocks(files.table)
    if workers <= 1 or blocks - start < _BLOCKS_WORTH_WORKERS:
        for index in range(start, blocks):
            yield files.encoded(index)
        return
    text = files.generator.recipe.model_dump_json(by_alias=True)
    drawers_at_hand()
    context = multiprocessing.get_context("forkserver")
    with spool_folder() as spool, ProcessPoolExecutor(workers - 1, mp_context=context) as pool:
        told = (text, files.table, files.wanted)
        ready = [pool.submit(_made_ready, *told) for _ in range(workers - 1)]
        while start < blocks and not all(one.done() for one in ready):
            yield files.encoded(start)
            start += 1
        waiting: deque[_Waiting] = deque()
        slots = deque(spool / str(number) for number in range(4 * workers))

        alone = False

        def send(index: int) -> None:
            nonlocal alone
            try:
                waiting.append((index, pool.submit(_spooled, *told, index, str(slots[0]))))
                slots.rotate(-1)
            except BrokenExecutor:
                if not alone:
                    log.warning("a process that draws data was ended; this one goes on alone")
                alone = True
                waiting.append((index, files.encoded(index)))

        try:
            yield from _in_order(files, waiting, send, range(start, blocks), workers - 1)
        finally:
            for item in [*(item for _, item in waiting), *ready]:
                if isinstance(item, Future):
                    item.cancel()


def _in_order(
    files: Files,
    waiting: deque[_Waiting],
    send: Callable[[int], None],
    indices: range,
    others: int,
) -> Generated[Segments, None, None]:
    to_do = iter(indices)
    left = len(indices)
    while left or waiting:
        sent = sum(isinstance(item, Future) for _, item in waiting)
        while left and sent < 2 * others and len(waiting) < 4 * others + 2:
            send(next(to_do))
            left, sent = left - 1, sent + 1
        index, first = waiting[0]
        ready = not isinstance(first, Future) or first.done()
        if not ready and left and len(waiting) < 6 * others + 2:
            following = next(to_do)
            waiting.append((following, files.encoded(following)))
            left -= 1
            continue
        waiting.popleft()
        if isinstance(first, Future):
            try:
                found = first.result()
            except BrokenExecutor:
                log.warning("a process that draws data was ended; its block is drawn again")
                yield files.encoded(index)
                continue
            with found.taken() as segments:
                yield segments
        else:
            yield first
