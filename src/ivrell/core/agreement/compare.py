"""Is it the same answer: rows, columns, types, values within a tolerance, order."""

from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import maximum_bipartite_matching

from ivrell.core.agreement.canonical import canonical, fingerprint, type_word
from ivrell.core.comparison.model import Answer

SAME = "same"
OTHER_ORDER = "same, other order"
CLOSE = "same within tolerance"
OTHER_TYPES = "same values, other types"
DIFFERENT = "different"
NO_ANSWER = "no answer"
VERDICTS = (SAME, OTHER_ORDER, CLOSE, OTHER_TYPES, DIFFERENT, NO_ANSWER)

_EXAMPLES = 12
_ROW = "__row"


@dataclass
class Agreement:
    """How one answer stands to the reference.

    Attributes:
        verdict: one of VERDICTS, best first.
        reasons: what is different, one sentence each; empty when nothing is.
        rows, reference_rows: number of rows of each.
        missing_columns, extra_columns: against the reference.
        drifted: columns whose type is of another family: name, reference's, own.
        different_rows: rows with no partner in the reference, or with a partner whose
            values are further off than the tolerance.
        largest_absolute, largest_relative: distance of numbers taken as equal.
        columns: per column the count of values that differ.
        examples: rows that differ, each with both sides.
        unstable: whether the answer was right in some runs and wrong in others.
    """

    verdict: str
    reasons: list[str] = field(default_factory=list)
    rows: int = 0
    reference_rows: int = 0
    missing_columns: list[str] = field(default_factory=list)
    extra_columns: list[str] = field(default_factory=list)
    drifted: list[dict[str, str]] = field(default_factory=list)
    different_rows: int = 0
    largest_absolute: float = 0.0
    largest_relative: float = 0.0
    columns: dict[str, int] = field(default_factory=dict)
    examples: list[dict[str, Any]] = field(default_factory=list)
    unstable: bool = False

    @property
    def agrees(self) -> bool:
        """Whether the values are the same within the question's tolerance."""
        return self.verdict not in (DIFFERENT, NO_ANSWER)

    def as_dict(self) -> dict[str, Any]:
        """As plain data for agreement.json and the API."""
        return {**asdict(self), "agrees": self.agrees}


def no_answer(reason: str) -> Agreement:
    """The agreement of a lane that gave no answer."""
    return Agreement(NO_ANSWER, [reason])


def compare(reference: pa.Table, answer: pa.Table, question: Answer) -> Agreement:
    """Hold an answer against the reference.

    With key columns rows are paired by key, repeated keys in order of their other values;
    without, as multisets of whole rows. Numbers agree within
    ``absolute + relative * |reference|``; a null equals only a null, not-a-number only
    not-a-number.
    """
    found = Agreement(SAME, rows=answer.num_rows, reference_rows=reference.num_rows)
    found.missing_columns = [n for n in reference.column_names if n not in answer.column_names]
    found.extra_columns = [n for n in answer.column_names if n not in reference.column_names]
    if found.missing_columns or found.extra_columns:
        found.verdict = DIFFERENT
        if found.missing_columns:
            found.reasons.append(f"columns missing: {', '.join(found.missing_columns)}")
        if found.extra_columns:
            found.reasons.append(f"columns too many: {', '.join(found.extra_columns)}")
        return found
    names = reference.column_names
    found.drifted = [
        {"column": name, "reference": ours, "answer": theirs}
        for name in names
        if (ours := type_word(reference.schema.field(name).type))
        != (theirs := type_word(answer.schema.field(name).type))
    ]
    left, right = _same_types(canonical(reference), canonical(answer.select(names)))
    if fingerprint(left) != fingerprint(right):
        _compare_values(left, right, question, found)
    for drift in found.drifted:
        name = drift["column"]
        lost = _zeros_lost(reference.column(name), answer.column(name))
        zeros = ", leading zeros lost" if lost else ""
        found.reasons.append(f"{name}: {drift['reference']} became {drift['answer']}{zeros}")
    if found.verdict == DIFFERENT:
        return found
    if found.drifted:
        found.verdict = OTHER_TYPES
    elif found.verdict == SAME and not _same_in_order(left, right):
        found.verdict = OTHER_ORDER
    if question.order and not _in_order(left, right, question):
        found.verdict = DIFFERENT
        found.reasons.insert(0, "the rows come in another order, and order matters here")
    return found


def _same_in_order(left: pa.Table, right: pa.Table) -> bool:
    """Whether each value equals the one in its place, not-a-number equal to itself."""
    for ours, theirs in zip(left.columns, right.columns, strict=True):
        if pa.types.is_floating(ours.type):
            if not pc.is_nan(ours).equals(pc.is_nan(theirs)):
                return False
            ours, theirs = (pc.if_else(pc.is_nan(c), 0.0, c) for c in (ours, theirs))
        if not ours.equals(theirs):
            return False
    return True


def _same_types(left: pa.Table, right: pa.Table) -> tuple[pa.Table, pa.Table]:
    """Both tables with equal column types: numbers as floats where one side has floats,
    and everything else that differs as text."""
    for position, name in enumerate(left.column_names):
        ours, theirs = left.schema.field(name).type, right.schema.field(name).type
        if ours == theirs:
            continue
        numeric = all(
            pa.types.is_boolean(t)
            or pa.types.is_integer(t)
            or pa.types.is_floating(t)
            or pa.types.is_null(t)
            for t in (ours, theirs)
        )
        moments = all(pa.types.is_timestamp(t) or pa.types.is_null(t) for t in (ours, theirs))
        target = pa.float64() if numeric else pa.timestamp("us") if moments else None
        if target is None:
            target = _read_as(left.column(name), right.column(name))
        left = left.set_column(position, name, _cast(left.column(name), target))
        right = right.set_column(position, name, _cast(right.column(name), target))
    return left, right


def _read_as(ours: pa.ChunkedArray, theirs: pa.ChunkedArray) -> pa.DataType:
    """The type to hold two columns of different types against each other in, where one of
    them is text: the other's, if all of the text can be read so, else text.

    A number or moment that came back as text is still the same value; what else it lost on
    the way, such as leading zeros, is told with the drift.
    """
    other = theirs.type if pa.types.is_large_string(ours.type) else ours.type
    text = ours if pa.types.is_large_string(ours.type) else theirs
    readable = pa.types.is_integer(other) or pa.types.is_floating(other)
    target = pa.float64() if readable else other if pa.types.is_timestamp(other) else None
    if target is None or not pa.types.is_large_string(text.type):
        return pa.large_string()
    try:
        text.cast(target)
    except pa.ArrowException:
        return pa.large_string()
    return target


_ZEROS = r"^[+-]?0[0-9]"


def _zeros_lost(reference: pa.ChunkedArray, answer: pa.ChunkedArray) -> bool:
    """Whether digits kept as text began with zeros that a number cannot have."""
    if type_word(reference.type) != "text" or type_word(answer.type) not in ("integer", "float"):
        return False
    text = reference.cast(pa.large_string())
    return bool(pc.any(pc.match_substring_regex(text, _ZEROS)).as_py())


def _cast(column: pa.ChunkedArray, target: pa.DataType) -> pa.ChunkedArray:
    if pa.types.is_boolean(column.type) and pa.types.is_floating(target):
        column = column.cast(pa.int8())
    try:
        return column.cast(target, safe=False)
    except pa.ArrowException:
        values = [None if v is None else str(v) for v in column.to_pylist()]
        return pa.chunked_array([pa.array(values, target)])


def _compare_values(left: pa.Table, right: pa.Table, question: Answer, found: Agreement) -> None:
    """Fill in ``found`` for two tables of equal schema whose fingerprints differ."""
    ours = _frame(left)
    theirs = _frame(right)
    floats = [n for n in left.column_names if pa.types.is_floating(left.schema.field(n).type)]
    exact = [n for n in left.column_names if n not in floats]
    keys = [name for name in question.key if name in left.column_names]
    by = keys or exact
    ours, theirs = _without_twins(ours, theirs, left.column_names)
    pairs, lost, surplus = _paired(ours, theirs, by, floats, question)
    off = np.zeros(len(pairs), dtype=bool)
    for name in left.column_names:
        differs = _differs(ours, theirs, pairs, name, name in floats, question, found)
        if count := int(differs.sum()):
            found.columns[name] = count
        off |= differs
    found.different_rows = int(off.sum()) + len(lost) + len(surplus)
    if not found.different_rows:
        found.verdict = CLOSE
        return
    found.verdict = DIFFERENT
    if len(lost):
        found.reasons.append(f"{len(lost):,} rows of the reference are missing")
    if len(surplus):
        found.reasons.append(f"{len(surplus):,} rows are not in the reference")
    for name, count in found.columns.items():
        found.reasons.append(f"{name}: {count:,} values differ")
    wrong = pairs[off][:_EXAMPLES]
    examples: list[dict[str, Any]] = [
        {"reference": _row(ours, a), "answer": _row(theirs, b)} for a, b in wrong
    ]
    examples += [{"reference": _row(ours, a), "answer": None} for a in lost[:_EXAMPLES]]
    examples += [{"reference": None, "answer": _row(theirs, b)} for b in surplus[:_EXAMPLES]]
    found.examples = examples[:_EXAMPLES]


def _frame(table: pa.Table) -> pl.DataFrame:
    frame = pl.from_arrow(table)
    assert isinstance(frame, pl.DataFrame)
    return frame


def _without_twins(
    ours: pl.DataFrame, theirs: pl.DataFrame, names: list[str]
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """What is left when rows that stand on both sides to the last digit are taken out, as
    often as they stand on both; numbered in a new column."""
    numbered = []
    for frame in (ours, theirs):
        nth = pl.int_range(pl.len()).over(names).alias("__nth")
        numbered.append(frame.with_columns(nth))
    by = [*names, "__nth"]
    left = numbered[0].join(numbered[1], on=by, how="anti", nulls_equal=True)
    right = numbered[1].join(numbered[0], on=by, how="anti", nulls_equal=True)
    return tuple(f.drop("__nth").with_row_index(_ROW) for f in (left, right))  # type: ignore[return-value]


def _paired(
    ours: pl.DataFrame,
    theirs: pl.DataFrame,
    by: list[str],
    floats: list[str],
    question: Answer,
) -> tuple[NDArray[np.int64], list[int], list[int]]:
    """Pairs of row numbers, then the rows of each side that have no partner.

    Rows are partners when they are alike in ``by``. Where several are alike they are paired
    in order of their floats, and where that leaves a pair too far apart, by a maximum
    matching of the rows that lie within the tolerance.
    """
    if not by:
        ours, theirs = (f.with_columns(pl.lit(0).alias("__all")) for f in (ours, theirs))
        by = ["__all"]
    sides = []
    for frame in (ours, theirs):
        ordered = frame.sort([*by, *[n for n in floats if n not in by], _ROW])
        sides.append(
            ordered.with_columns(pl.int_range(pl.len()).over(by).alias("__nth")).select(
                *by, "__nth", _ROW
            )
        )
    joined = sides[0].join(
        sides[1], on=[*by, "__nth"], how="full", nulls_equal=True, suffix="_theirs"
    )
    theirs_row = f"{_ROW}_theirs"
    both = joined.filter(pl.col(_ROW).is_not_null() & pl.col(theirs_row).is_not_null())
    pairs = both.select(_ROW, theirs_row).to_numpy().astype(np.int64)
    lost = joined.filter(pl.col(theirs_row).is_null())[_ROW].to_list()
    surplus = joined.filter(pl.col(_ROW).is_null())[theirs_row].to_list()
    if len(pairs) and both["__nth"].max():
        pairs = _rematched(ours, theirs, pairs, by, floats, question)
    return pairs, lost, surplus


_MOST_MATCHED = 4_000


def _rematched(
    ours: pl.DataFrame,
    theirs: pl.DataFrame,
    pairs: NDArray[np.int64],
    by: list[str],
    floats: list[str],
    question: Answer,
) -> NDArray[np.int64]:
    """The pairs, with those that lie too far apart matched anew among their likes."""
    near = np.ones(len(pairs), dtype=bool)
    for name in floats:
        near &= _near(
            _values(ours, name, pairs[:, 0]), _values(theirs, name, pairs[:, 1]), question
        )
    groups = ours.select(pl.struct(by).rank("dense").alias("g"))["g"].to_numpy()[pairs[:, 0]]
    for group in np.unique(groups[~near]):
        members = np.flatnonzero(groups == group)
        if not 1 < len(members) <= _MOST_MATCHED:
            continue
        a, b = pairs[members, 0], pairs[members, 1]
        possible = np.ones((len(a), len(b)), dtype=bool)
        for name in floats:
            left, right = _values(ours, name, a), _values(theirs, name, b)
            possible &= _near(left[:, None], right[None, :], question)
        partner = maximum_bipartite_matching(coo_matrix(possible).tocsr(), perm_type="column")
        free = iter(sorted(set(range(len(b))) - set(partner[partner >= 0])))
        chosen = np.array([p if p >= 0 else next(free) for p in partner])
        pairs[members, 1] = b[chosen]
    return pairs


def _values(frame: pl.DataFrame, name: str, rows: NDArray[np.int64]) -> NDArray[np.float64]:
    """Numbers of some rows, nulls as infinity so that they are near nothing but nulls."""
    column = frame[name].to_numpy().astype(np.float64)
    column = np.where(frame[name].is_null().to_numpy(), np.inf, column)
    taken: NDArray[np.float64] = column[rows]
    return taken


def _near(
    left: NDArray[np.float64], right: NDArray[np.float64], question: Answer
) -> NDArray[np.bool_]:
    with np.errstate(invalid="ignore"):
        close = np.abs(left - right) <= question.absolute + question.relative * np.abs(left)
    same: NDArray[np.bool_] = (left == right) | (np.isnan(left) & np.isnan(right))
    return same | (close & np.isfinite(left) & np.isfinite(right))


def _differs(
    ours: pl.DataFrame,
    theirs: pl.DataFrame,
    pairs: NDArray[np.int64],
    name: str,
    is_float: bool,
    question: Answer,
    found: Agreement,
) -> NDArray[np.bool_]:
    left, right = ours[name].gather(pairs[:, 0]), theirs[name].gather(pairs[:, 1])
    if not is_float:
        return ~left.eq_missing(right).to_numpy()
    a = _values(ours, name, pairs[:, 0])
    b = _values(theirs, name, pairs[:, 1])
    near = _near(a, b, question)
    with np.errstate(invalid="ignore", divide="ignore"):
        gap = np.where(near & np.isfinite(a), np.abs(a - b), 0.0)
        found.largest_absolute = max(found.largest_absolute, float(gap.max(initial=0.0)))
        share = np.where(gap > 0, gap / np.abs(a), 0.0)
        share = share[np.isfinite(share)]
        found.largest_relative = max(found.largest_relative, float(share.max(initial=0.0)))
    return ~near


def _row(frame: pl.DataFrame, row: int) -> dict[str, Any]:
    values = frame.drop(_ROW).row(int(row), named=True)
    return {
        name: value if isinstance(value, int | str | bool | None) else str(value)
        for name, value in values.items()
    }


def _in_order(left: pa.Table, right: pa.Table, question: Answer) -> bool:
    """Whether rows stand in the same order, row for row, within the tolerance."""
    if left.num_rows != right.num_rows:
        return False
    ours, theirs = (_frame(t).with_row_index(_ROW) for t in (left, right))
    every = np.arange(left.num_rows)
    pairs = np.column_stack([every, every])
    nothing = Agreement(SAME)
    return not any(
        _differs(
            ours,
            theirs,
            pairs,
            name,
            pa.types.is_floating(left.schema.field(name).type),
            question,
            nothing,
        ).any()
        for name in left.column_names
    )
