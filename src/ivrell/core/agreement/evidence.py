"""What differs between paired rows, column by column, and what it looks like."""

import os
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from ivrell.core.agreement.canonical import is_text
from ivrell.core.agreement.distance import Distances, near
from ivrell.core.agreement.pairing import Paired
from ivrell.core.agreement.side import Rows, Side
from ivrell.core.comparison.model import Answer
from ivrell.core.records.agreement import ColumnEvidence, Example, Row

_FEW = 3
_SAME_FACTOR = 1e-9
_LOOKED_AT = 200_000
_AT_ONCE = 1 << 20


def column_evidence(
    found: Paired, question: Answer
) -> tuple[list[ColumnEvidence], NDArray[np.bool_]]:
    """How each column stands over all pairs, and which of the pairs apart really differ.

    Gives evidence by column, and a flag for each of the pairs apart.
    """
    left, right = found.left, found.right
    off = np.zeros(len(found.apart), dtype=bool)

    def of_column(name: str) -> tuple[ColumnEvidence, NDArray[np.bool_]]:
        distances = None
        within = 0
        if name in left.floats:
            gathered = Distances()
            within = _add_stretches(gathered, found, name, question)
            within += _add(gathered, left, right, found.close, name, question)
            within += _add(gathered, left, right, found.apart, name, question)
            distances = gathered.record()
        elif len(found.apart) and pa.types.is_integer(left.table.schema.field(name).type):
            gathered = Distances()
            a, b = left.numbers(name, found.apart[:, 0]), right.numbers(name, found.apart[:, 1])
            gathered.add(a, b, a == b)
            distances = gathered.record()
        differs, remarks = _differences(left, right, found.apart, name, question)
        different = int(differs.sum())
        evidence = ColumnEvidence(
            name=name,
            equal=found.count - within - different,
            within=within,
            different=different,
            distances=distances,
            remarks=remarks,
        )
        return evidence, differs

    # What it does for the most part holds no lock of the interpreter's.
    with ThreadPoolExecutor(len(os.sched_getaffinity(0))) as columns:
        looked_at = list(columns.map(of_column, left.table.column_names))
    for _, differs in looked_at:
        off |= differs
    return [column for column, _ in looked_at], off


def _add_stretches(gathered: Distances, found: Paired, name: str, question: Answer) -> int:
    """Take in the distances of a float column where rows lie side by side, which all agree; how
    many differ."""
    if not found.stretches:
        return 0
    within = 0
    ours, theirs = (
        np.asarray(side.table.column(name).to_numpy(), dtype=float)
        for side in (found.left, found.right)
    )
    for stretch in found.stretches:
        for start in range(0, stretch.rows, _AT_ONCE):
            count = min(_AT_ONCE, stretch.rows - start)
            a = ours[stretch.ours + start :][:count]
            b = theirs[stretch.theirs + start :][:count]
            within += gathered.add_agreeing(a, b)
    return within


def _add(
    gathered: Distances, left: Side, right: Side, pairs: Rows, name: str, question: Answer
) -> int:
    """Take in the distances of a float column; how many differ but agree."""
    within = 0
    for start in range(0, len(pairs), _AT_ONCE):
        some = pairs[start : start + _AT_ONCE]
        a, b = left.numbers(name, some[:, 0]), right.numbers(name, some[:, 1])
        agree = near(a, b, question)
        gathered.add(a, b, agree)
        within += int((agree & (a != b) & ~np.isnan(a)).sum())
    return within


def _differences(
    left: Side, right: Side, pairs: Rows, name: str, question: Answer
) -> tuple[NDArray[np.bool_], list[str]]:
    """Where a column differs in pairs, and what is to be said of it."""
    if not len(pairs):
        return np.zeros(0, dtype=bool), []
    ours = left.table.column(name).take(pa.array(pairs[:, 0])).combine_chunks()
    theirs = right.table.column(name).take(pa.array(pairs[:, 1])).combine_chunks()
    no_ours, no_theirs = (pc.is_null(c).to_numpy(zero_copy_only=False) for c in (ours, theirs))
    odd = np.zeros(len(pairs), dtype=bool)
    if name in left.floats:
        a, b = (np.asarray(c.to_numpy(zero_copy_only=False), dtype=float) for c in (ours, theirs))
        differs = ~near(a, b, question) | (no_ours != no_theirs)
        odd = np.isnan(b) & ~no_theirs
    elif pa.types.is_null(ours.type):
        differs = np.zeros(len(pairs), dtype=bool)
    else:
        same = pc.fill_null(pc.equal(ours, theirs), False).to_numpy(zero_copy_only=False)
        differs = ~(same | (no_ours & no_theirs))
    if not differs.any():
        return differs, []
    remarks = [
        f"{int(count):,} {what}"
        for count, what in (
            ((differs & no_theirs).sum(), "null where the reference has a value"),
            ((differs & no_ours & ~odd).sum(), "a value where the reference has null"),
            ((differs & no_ours & odd).sum(), "not a number where the reference is null"),
        )
        if count
    ]
    chosen = np.flatnonzero(differs & ~no_ours & ~no_theirs)[:_LOOKED_AT]
    if len(chosen):
        rows = pa.array(chosen)
        remarks += _look(ours.take(rows), theirs.take(rows))
    return differs, remarks


def _look(ours: pa.Array, theirs: pa.Array) -> list[str]:
    """What differing values of one type have in common."""
    if is_text(ours.type):
        return _look_at_text(ours, theirs)
    kind = ours.type
    if not (pa.types.is_integer(kind) or pa.types.is_floating(kind)):
        return []
    a, b = (np.asarray(c.to_numpy(zero_copy_only=False), dtype=float) for c in (ours, theirs))
    found = []
    if new := int((np.isnan(b) & ~np.isnan(a)).sum()):
        found.append(f"{new:,} not a number where the reference has one")
    usable = np.isfinite(a) & np.isfinite(b)
    a, b = a[usable], b[usable]
    if len(a) < _FEW:
        return found
    gaps = b - a
    with np.errstate(divide="ignore", invalid="ignore"):
        factors = b / a
    if np.all(gaps == gaps[0]):
        word = "more" if gaps[0] > 0 else "less"
        found.append(f"each is {abs(gaps[0]):.12g} {word} than the reference's")
    elif np.all(np.isfinite(factors)) and np.ptp(factors) <= _SAME_FACTOR * abs(factors[0]):
        found.append(f"each is {factors[0]:.6g} times the reference's")
    return found


def _look_at_text(ours: pa.Array, theirs: pa.Array) -> list[str]:
    found = []
    tests = (
        ("an empty text where the reference has one", pc.equal(theirs, "")),
        ("the same but for capital letters", pc.equal(pc.utf8_lower(ours), pc.utf8_lower(theirs))),
        (
            "the same but for space around it",
            pc.equal(pc.utf8_trim_whitespace(ours), pc.utf8_trim_whitespace(theirs)),
        ),
        (
            "the same but for leading zeros",
            pc.equal(pc.utf8_ltrim(ours, "0"), pc.utf8_ltrim(theirs, "0")),
        ),
    )
    for what, holds in tests:
        if count := pc.sum(holds).as_py():
            found.append(f"{count:,} {what}")
    return found


def rows_in_common(table: pa.Table, rows: Rows, names: Iterable[str]) -> str:
    """What rows without a partner have in common, in words; "" where nothing stands out."""
    if not len(rows):
        return ""
    some = table.select(list(names)).take(pa.array(rows))
    whole = table.num_rows
    for name in some.column_names:
        column = some.column(name)
        if column.null_count == len(rows) and table.column(name).null_count < whole:
            return f"{name} is null in {'it' if len(rows) == 1 else 'all of them'}"
    if len(rows) >= _FEW:
        for name in some.column_names:
            if len(values := pc.unique(some.column(name))) == 1:
                every = pc.unique(table.column(name).slice(0, _LOOKED_AT))
                if len(every) > 1:
                    return f"{name} is {values[0].as_py()} in all of them"
    return ""


def examples(
    left: Side, right: Side, apart: Rows, missing: Rows, extra: Rows, most: int
) -> list[Example]:
    """Rows that differ, with both sides."""
    found = [Example(reference=_row(left, a), answer=_row(right, b)) for a, b in apart[:most]]
    found += [Example(reference=_row(left, a), answer=None) for a in missing[:most]]
    found += [Example(reference=None, answer=_row(right, b)) for b in extra[:most]]
    return found[:most] if len(apart) else _both_kinds(found, most)


def _both_kinds(found: list[Example], most: int) -> list[Example]:
    """Of rows that only one side has, some of each."""
    lost = [example for example in found if example.answer is None]
    new = [example for example in found if example.reference is None]
    half = max(most // 2, most - len(new))
    return [*lost[:half], *new[: most - len(lost[:half])]]


def _row(side: Side, row: int) -> Row:
    values = side.table.slice(int(row), 1).to_pylist()[0]
    return {
        name: value if isinstance(value, int | str | bool | None) else str(value)
        for name, value in values.items()
    }
