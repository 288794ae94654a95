"""Pairing rows by sorting both answers and going through them side by side.

That is the quick way where most rows agree, in whatever order they came: no row is paired by its
number, runs of rows are. What does not fit is left for ``pairing``, which is exact.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from ivrell.core.agreement.distance import Floats, near
from ivrell.core.agreement.side import Rows, Side, Stretch
from ivrell.core.comparison.model import Answer

Mask = NDArray[np.bool_]

_AT_ONCE = 1 << 20
_FIRST_LOOK = 1 << 10
_WINDOW = 16
_FURTHEST = 6
_MOST_BREAKS = 300
_MOST_RUNS = 2_000


@dataclass
class Aligned:
    """Two sorted answers and how their rows lie beside each other.

    Attributes:
        left, right: the answers, sorted alike.
        stretches: runs of rows that lie side by side and agree within the tolerance.
        close: pairs of row numbers, shape (n, 2), that agree too, where runs would be short.
        apart: pairs of one key that do not agree.
        ours, theirs: numbers of the rows that are left over on either side.
        by_unique_key: whether rows were paired by a key that tells them apart; else rows that
            are left over may still belong together.
    """

    left: Side
    right: Side
    stretches: list[Stretch]
    close: Rows
    apart: Rows
    ours: Rows
    theirs: Rows
    by_unique_key: bool


def aligned(left: Side, right: Side, question: Answer) -> Aligned | None:
    """Sort two answers of the same columns and types, and lay them side by side.

    None where they cannot be sorted, or lie so far apart that it is of no use.
    """
    names = left.table.column_names
    keys = [name for name in question.key if name in names]
    exact = [name for name in names if name not in left.floats]
    if not names:
        return None
    try:
        frames = [pl.from_arrow(side.table) for side in (left, right)]
        if keys and not set(keys) & set(left.floats):
            ours, theirs = (_sorted(frame, keys, left.floats) for frame in frames)
            if _unique(ours, keys) and _unique(theirs, keys):
                return _by_key(ours, theirs, keys, question)
        ours, theirs = (_sorted(frame, [*keys, *exact, *left.floats], left.floats)
                        for frame in frames)  # fmt: skip
    except (pl.exceptions.PolarsError, pa.ArrowException, TypeError, ValueError):
        return None
    del frames
    walk = _Walk(_Columns(ours, theirs, names, question))
    stretches = walk.stretches()
    if stretches is None:
        return None
    left_over = [_gaps(stretches, side, which) for which, side in enumerate((ours, theirs))]
    nothing = np.empty((0, 2), dtype=np.int64)
    return Aligned(ours, theirs, stretches, nothing, nothing, left_over[0], left_over[1], False)


def _sorted(frame: object, by: list[str], floats: list[str]) -> Side:
    assert isinstance(frame, pl.DataFrame)
    told = [name for name in dict.fromkeys(by) if frame.schema[name] != pl.Null]
    ordered = frame.sort(told) if told else frame
    return Side(ordered.rechunk().to_arrow(), floats)


def _unique(side: Side, keys: list[str]) -> bool:
    """Whether no two neighbours of a table sorted by its keys have the same."""
    rows = side.table.num_rows
    if rows < 2:
        return True
    columns = _Columns(side, side, keys, Answer())
    return not any(columns.agree(start, start + 1, count).any()
                   for start, count in _portions(rows - 1))  # fmt: skip


def _portions(rows: int) -> Iterator[tuple[int, int]]:
    for start in range(0, rows, _AT_ONCE):
        yield start, min(_AT_ONCE, rows - start)


class _Columns:
    """Some columns of two answers, ready to be compared from any row on."""

    def __init__(self, left: Side, right: Side, names: list[str], question: Answer) -> None:
        self._question = question
        self.rows = left.table.num_rows, right.table.num_rows
        self._floats: list[tuple[Floats, Floats, Mask | None, Mask | None]] = []
        self._numbers: list[tuple[NDArray[np.int64], NDArray[np.int64]]] = []
        self._others: list[tuple[pa.Array, pa.Array]] = []
        for name in names:
            a, b = (_array(side.table.column(name)) for side in (left, right))
            if name in left.floats:
                self._floats.append((_numbers(a), _numbers(b), _nulls(a), _nulls(b)))
            elif pa.types.is_int64(a.type) and not a.null_count and not b.null_count:
                self._numbers.append((a.to_numpy(), b.to_numpy()))
            else:
                self._others.append((a, b))

    def agree(self, i: int, j: int, count: int) -> Mask:
        """Which of ``count`` rows from ``i`` on the one side and ``j`` on the other agree."""
        good = np.ones(count, dtype=bool)
        for one, other in self._numbers:
            good &= one[i : i + count] == other[j : j + count]
        for first, second in self._others:
            a, b = first.slice(i, count), second.slice(j, count)
            if not a.equals(b):
                good &= _same(a, b)
        for ours, theirs, no_ours, no_theirs in self._floats:
            good &= near(ours[i : i + count], theirs[j : j + count], self._question)
            if no_ours is not None or no_theirs is not None:
                nothing = np.zeros(count, dtype=bool)
                without_ours = nothing if no_ours is None else no_ours[i : i + count]
                without_theirs = nothing if no_theirs is None else no_theirs[j : j + count]
                good &= without_ours == without_theirs
        return good


def _array(column: pa.ChunkedArray) -> pa.Array:
    if column.num_chunks == 1:
        # Joining would copy even that.
        return column.chunk(0)
    joined = column.combine_chunks()
    return joined.chunk(0) if isinstance(joined, pa.ChunkedArray) else joined


def _numbers(column: pa.Array) -> Floats:
    found: Floats = column.to_numpy(zero_copy_only=False)
    return found


def _nulls(column: pa.Array) -> Mask | None:
    if not column.null_count:
        return None
    found: Mask = pc.is_null(column).to_numpy(zero_copy_only=False)
    return found


def _same(a: pa.Array, b: pa.Array) -> Mask:
    if pa.types.is_null(a.type):
        return np.ones(len(a), dtype=bool)
    equal = pc.fill_null(pc.equal(a, b), False)
    both_null = pc.and_(pc.is_null(a), pc.is_null(b))
    found: Mask = pc.or_(equal, both_null).to_numpy(zero_copy_only=False)
    return found


class _Walk:
    """Goes down two sorted answers side by side, passing over what the other side lacks."""

    def __init__(self, columns: _Columns) -> None:
        self.columns = columns

    def stretches(self) -> list[Stretch] | None:
        """The runs of rows that agree, or None where they break too often to be worth it."""
        found: list[Stretch] = []
        i = j = breaks = 0
        size = _AT_ONCE
        ours, theirs = self.columns.rows
        while i < ours and j < theirs:
            count = min(size, ours - i, theirs - j)
            good = self.columns.agree(i, j, count)
            same = count if good.all() else int(np.argmin(good))
            if same:
                found.append(Stretch(i, j, same))
            i, j = i + same, j + same
            size = min(4 * size, _AT_ONCE)
            if same == count:
                continue
            breaks += 1
            if breaks > _MOST_BREAKS:
                return None
            i, j = self._past(i, j)
            size = _FIRST_LOOK
        return _merged(found)

    def _past(self, i: int, j: int) -> tuple[int, int]:
        """Where to go on after rows that do not agree: where the next ones agree best, the
        nearest such place first."""
        best, best_count = (i + 1, j + 1), -1
        steps = [(a, b) for a in range(_FURTHEST) for b in range(_FURTHEST) if a or b]
        for a, b in sorted(steps, key=lambda step: (sum(step), abs(step[0] - step[1]))):
            count = min(_WINDOW, self.columns.rows[0] - i - a, self.columns.rows[1] - j - b)
            if count <= 0:
                continue
            agreed = int(self.columns.agree(i + a, j + b, count).sum())
            if agreed > best_count:
                best, best_count = (i + a, j + b), agreed
            if agreed == count:
                break
        if best_count <= 0:
            return i + 1, j + 1
        return best


def _merged(found: list[Stretch]) -> list[Stretch]:
    merged: list[Stretch] = []
    for stretch in found:
        last = merged[-1] if merged else None
        if last and (last.ours + last.rows, last.theirs + last.rows) == stretch[:2]:
            merged[-1] = Stretch(last.ours, last.theirs, last.rows + stretch.rows)
        else:
            merged.append(stretch)
    return merged


def _gaps(stretches: list[Stretch], side: Side, which: int) -> Rows:
    """Rows of a side that lie in no stretch."""
    free = np.ones(side.table.num_rows, dtype=bool)
    for stretch in stretches:
        free[stretch[which] : stretch[which] + stretch.rows] = False
    return np.flatnonzero(free)


def _by_key(ours: Side, theirs: Side, keys: list[str], question: Answer) -> Aligned:
    """Rows of the same key side by side; those whose other values do not agree are apart."""
    names = ours.table.column_names
    exactly = Answer(relative=0.0)
    stretches = _Walk(_Columns(ours, theirs, keys, exactly)).stretches()
    if stretches is None:
        ours, theirs, stretches = _joined(ours, theirs, keys)
    columns = _Columns(ours, theirs, [n for n in names if n not in keys or n in ours.floats],
                       question)  # fmt: skip
    good: list[Stretch] = []
    nothing = np.empty((0, 2), dtype=np.int64)
    close, apart = [nothing], [nothing]
    for i, j, count in stretches:
        for start, some in _portions(count):
            agree = columns.agree(i + start, j + start, some)
            at = np.array([i + start, j + start])
            apart.append(np.flatnonzero(~agree)[:, None] + at)
            if np.count_nonzero(np.diff(agree)) > _MOST_RUNS:
                close.append(np.flatnonzero(agree)[:, None] + at)
            else:
                good += _runs(agree, i + start, j + start)
    lone = [_gaps(stretches, side, which) for which, side in enumerate((ours, theirs))]
    return Aligned(ours, theirs, _merged(good), np.concatenate(close), np.concatenate(apart),
                   lone[0], lone[1], True)  # fmt: skip


def _runs(agree: Mask, i: int, j: int) -> list[Stretch]:
    """Stretches of the rows that agree."""
    if agree.all():
        return [Stretch(i, j, len(agree))]
    edges = np.flatnonzero(np.diff(np.concatenate([[False], agree, [False]]).astype(np.int8)))
    return [Stretch(i + int(a), j + int(a), int(b - a))
            for a, b in zip(edges[::2], edges[1::2], strict=True)]  # fmt: skip


def _joined(ours: Side, theirs: Side, keys: list[str]) -> tuple[Side, Side, list[Stretch]]:
    """The rows of keys that both sides have moved to the front, in the same order."""
    frames = [pl.from_arrow(side.table) for side in (ours, theirs)]
    assert all(isinstance(frame, pl.DataFrame) for frame in frames)
    parted = []
    count = 0
    for own, other in (frames, reversed(frames)):
        on = other.select(keys)  # type: ignore[union-attr]
        both = own.join(on, on=keys, how="semi", nulls_equal=True).sort(keys)  # type: ignore
        lone = own.join(on, on=keys, how="anti", nulls_equal=True)  # type: ignore
        count = both.height
        parted.append(Side(pl.concat([both, lone]).rechunk().to_arrow(), ours.floats))
    return parted[0], parted[1], [Stretch(0, 0, count)]
