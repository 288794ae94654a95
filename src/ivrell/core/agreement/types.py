"""Bringing two answers to common types, and telling what the types of one lost on the way."""

import pyarrow as pa
import pyarrow.compute as pc

from ivrell.core.agreement.canonical import MOST_DIGITS, canonical, fits, is_text, type_word
from ivrell.core.records.agreement import Drift

_ZEROS = r"^[+-]?0[0-9]"
_EXACT_FLOATS = 2**53
_ZONE = "time zone"
_UNIT_NS = {"s": 10**9, "ms": 10**6, "us": 10**3, "ns": 1}
_UNIT_WORDS = {"s": "seconds", "ms": "milliseconds", "us": "microseconds", "ns": "nanoseconds"}


def matched_names(reference: list[str], answer: list[str]) -> dict[str, str]:
    """The answer's name of each of the reference's columns that it has: the same name, or one
    that differs in case alone where no other does."""
    found = {name: name for name in reference if name in answer}
    free: dict[str, list[str]] = {}
    for name in answer:
        if name not in found:
            free.setdefault(name.casefold(), []).append(name)
    for name in reference:
        if name not in found and len(alike := free.get(name.casefold(), [])) == 1:
            found[name] = alike.pop()
    return found


def common(reference: pa.Table, answer: pa.Table) -> tuple[pa.Table, pa.Table, list[Drift]]:
    """Both tables, of the same column names, in common plain types, and what drifted.

    Numbers are floats where either side has floats, decimals where both are; text that can all
    be read as the other side's type is read so: a number or moment that came back as text is
    still the same value. Everything else that differs is compared as text.
    """
    drifted = []
    left, right = canonical(reference), canonical(answer)
    mine: list[pa.ChunkedArray] = []
    yours: list[pa.ChunkedArray] = []
    for name in reference.column_names:
        own, theirs = reference.schema.field(name).type, answer.schema.field(name).type
        ours = left.column(name)
        others = right.column(name)
        lost = _lost(reference.column(name), answer.column(name))
        by_reference = _lost(answer.column(name), reference.column(name))
        if by_reference == _ZONE:
            # Moments without a zone are told as what they are, and got one.
            by_reference = ""
        if _finer(own, theirs) and (coarse := _as_coarse(ours, theirs)) is not None:
            ours, others, lost = coarse, others.cast(coarse.type), "precision of time"
        if ours.type != others.type:
            target = _target(ours, others)
            ours, others = _cast(ours, target), _cast(others, target)
        mine.append(ours)
        yours.append(others)
        if type_word(own) != type_word(theirs) or lost:
            words = type_word(own), type_word(theirs)
            drifted.append(Drift(name, *words, lost, "" if lost else by_reference))
    names = reference.column_names
    return pa.table(mine, names=names), pa.table(yours, names=names), drifted


def _numeric(kind: pa.DataType) -> bool:
    return bool(
        pa.types.is_boolean(kind)
        or pa.types.is_integer(kind)
        or pa.types.is_floating(kind)
        or pa.types.is_decimal(kind)
        or pa.types.is_null(kind)
    )


def _target(ours: pa.ChunkedArray, theirs: pa.ChunkedArray) -> pa.DataType:
    kinds = (ours.type, theirs.type)
    known = [kind for kind in kinds if not pa.types.is_null(kind)]
    if len(known) < len(kinds):
        return known[0]
    if any(map(pa.types.is_decimal, kinds)) and all(map(_is_exact, kinds)):
        scale = max(getattr(kind, "scale", 0) for kind in kinds)
        wanted = pa.decimal128(MOST_DIGITS, min(scale, MOST_DIGITS))
        return wanted if fits(ours, wanted) and fits(theirs, wanted) else pa.large_string()
    if all(map(pa.types.is_timestamp, kinds)):
        return pa.timestamp("ns")
    if all(map(_numeric, kinds)):
        return pa.float64()
    return _read_as(ours, theirs)


def _read_as(ours: pa.ChunkedArray, theirs: pa.ChunkedArray) -> pa.DataType:
    """The type of whichever is not text, where all of the other's text can be read so."""
    text, other = (ours, theirs.type) if is_text(ours.type) else (theirs, ours.type)
    targets: list[pa.DataType] = []
    if _numeric(other):
        # Whole numbers as such where they can be: a float holds no more than 15 digits.
        targets = [pa.int64(), pa.float64()] if pa.types.is_integer(other) else [pa.float64()]
    elif pa.types.is_timestamp(other):
        targets = [other]
    for target in targets if is_text(text.type) else []:
        try:
            text.cast(target)
        except pa.ArrowException:
            continue
        return target
    return pa.large_string()


def _is_exact(kind: pa.DataType) -> bool:
    return bool(pa.types.is_decimal(kind) or pa.types.is_integer(kind))


def _cast(column: pa.ChunkedArray, target: pa.DataType) -> pa.ChunkedArray:
    if pa.types.is_boolean(column.type) and pa.types.is_floating(target):
        column = column.cast(pa.int8())
    try:
        return column.cast(target, safe=False)
    except pa.ArrowException:
        values = [None if v is None else str(v) for v in column.to_pylist()]
        return pa.chunked_array([pa.array(values, pa.large_string())])


def _lost(whole: pa.ChunkedArray, other: pa.ChunkedArray) -> str:
    """What the type of a column lost of what another one of the same values holds, or ""."""
    had, has = type_word(whole.type), type_word(other.type)
    if had == "text" and has in ("integer", "float", "decimal") and _has_zeros(whole):
        return "leading zeros"
    if had == "integer" and has == "float" and _beyond_floats(whole):
        return "digits"
    if had == "timestamp with zone" and has in ("timestamp", "date"):
        return _ZONE
    return ""


def _has_zeros(column: pa.ChunkedArray) -> bool:
    """Whether digits kept as text begin with zeros that a number cannot have."""
    text = column.cast(pa.large_string())
    return bool(pc.any(pc.match_substring_regex(text, _ZEROS)).as_py())


def _beyond_floats(column: pa.ChunkedArray) -> bool:
    """Whether some whole number has no float of its own."""
    ends = pc.min_max(column).as_py()
    if ends["max"] is None or max(abs(ends["min"]), abs(ends["max"])) <= _EXACT_FLOATS:
        return False
    through = column.cast(pa.float64(), safe=False)
    back = pc.equal(column.cast(pa.decimal128(20)), through.cast(pa.decimal128(20), safe=False))
    return not pc.all(back).as_py()


def _finer(own: pa.DataType, theirs: pa.DataType) -> bool:
    return bool(
        pa.types.is_timestamp(own)
        and pa.types.is_timestamp(theirs)
        and _UNIT_NS[own.unit] < _UNIT_NS[theirs.unit]
    )


def _as_coarse(ours: pa.ChunkedArray, theirs: pa.DataType) -> pa.ChunkedArray | None:
    """Moments cut down to a coarser unit, or None where that changes none of them."""
    cut = pc.floor_temporal(ours, unit=_UNIT_WORDS[theirs.unit][:-1])
    return None if cut.equals(ours) else cut
