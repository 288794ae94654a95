"""Blocks as bytes in a form, drawn by this process or by several others."""

import multiprocessing
from collections import deque
from collections.abc import Generator as Generated
from concurrent.futures import Future, ProcessPoolExecutor

from ivrell.core.recipe.forms import FORMS, Encoded
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.malformed import chosen
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe

Segments = list[tuple[int, Encoded]]
"""What of a block goes to which part file, in order."""

_BLOCKS_WORTH_WORKERS = 12
"""Below this starting other processes takes longer than drawing the blocks."""


def encoded_block(
    generator: Generator, table: str, form: str, index: int, parts: int = 1
) -> Segments:
    """One block of a table as its bytes in a form, lines broken where the recipe says so.

    Part p of n holds rows ``total * p // n`` up to ``total * (p + 1) // n``.
    """
    batch = generator.block(table, index)
    picks = chosen(generator.recipe, table, index) if FORMS[form].text else []
    total = generator.recipe.rows_of(table)
    first = index * BLOCK_ROWS
    segments: Segments = []
    at = 0
    while at < batch.num_rows:
        # The part whose end lies beyond this row.
        part = ((first + at + 1) * parts - 1) // total
        start, end = total * part // parts, total * (part + 1) // parts
        until = min(batch.num_rows, end - first)
        own = [(row - at, way) for row, way in picks if at <= row < until]
        rows = batch.slice(at, until - at)
        segments.append((part, FORMS[form].encode(rows, first + at == start, own)))
        at = until
    return segments


_generators: dict[str, Generator] = {}


def _encode(recipe_json: str, table: str, form: str, index: int, parts: int) -> Segments:
    generator = _generators.get(recipe_json)
    if generator is None:
        _generators.clear()
        generator = _generators[recipe_json] = Generator(Recipe.model_validate_json(recipe_json))
    return encoded_block(generator, table, form, index, parts)


def encoded_blocks(
    generator: Generator, table: str, form: str, parts: int, workers: int
) -> Generated[Segments, None, None]:
    """All blocks in order, drawn by this process or by ``workers`` others.

    Only text forms are handed to others: the rest is put together by one process anyway,
    and sending batches there costs more than drawing them. No more than twice as many
    blocks as workers wait in memory.
    """
    blocks = generator.blocks(table)
    if workers <= 1 or blocks < _BLOCKS_WORTH_WORKERS or not FORMS[form].text:
        for index in range(blocks):
            yield encoded_block(generator, table, form, index, parts)
        return
    text = generator.recipe.model_dump_json(by_alias=True)
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(workers, mp_context=context) as pool:
        waiting: deque[Future[Segments]] = deque()
        try:
            for index in range(blocks):
                waiting.append(pool.submit(_encode, text, table, form, index, parts))
                if len(waiting) > 2 * workers:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            for future in waiting:
                future.cancel()
