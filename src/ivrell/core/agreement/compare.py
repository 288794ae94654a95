"""Is it the same answer: rows, columns, types, values within a tolerance, order."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import get_args

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ivrell.core.agreement.canonical import sums_of
from ivrell.core.agreement.distance import near
from ivrell.core.agreement.evidence import column_evidence, examples, rows_in_common
from ivrell.core.agreement.pairing import Paired, paired
from ivrell.core.agreement.side import Side
from ivrell.core.agreement.sources import Sources
from ivrell.core.agreement.types import common, matched_names
from ivrell.core.comparison.model import Answer, Statistics
from ivrell.core.records.agreement import Agreement, Verdict

SAME: Verdict = "same"
OTHER_ORDER: Verdict = "same, other order"
CLOSE: Verdict = "same within tolerance"
OTHER_TYPES: Verdict = "same values, other types"
DIFFERENT: Verdict = "different"
NO_ANSWER: Verdict = "no answer"
VERDICTS: tuple[Verdict, ...] = get_args(Verdict)

_EXAMPLES = 12
_LOOKED_UP = 500


def no_answer(reason: str) -> Agreement:
    """The agreement of a lane that gave no answer."""
    return Agreement(verdict=NO_ANSWER, reasons=[reason])


def compare(
    reference: pa.Table, answer: pa.Table, question: Answer, sources: Sources | None = None
) -> Agreement:
    """Hold an answer against the reference.

    With key columns rows are paired by key; without, as multisets of whole rows. Numbers agree
    within ``absolute + relative * |reference|``. A type that lost something (leading zeros, digits,
    precision of time, a time zone) is another answer; one that lost nothing is not, unless the
    question asks for exact types. A null equals only a null, not-a-number only
    not-a-number. Equal answers are known by the hashes of their rows, in one pass over each. Where
    they are not, memory beyond the tables themselves stays below that of both. ``sources`` tell
    whether rows that differ are rows of the input.
    """
    found = Agreement(verdict=SAME, rows=answer.num_rows, reference_rows=reference.num_rows)
    names = matched_names(reference.column_names, answer.column_names)
    found.missing_columns = [name for name in reference.column_names if name not in names]
    used = set(names.values())
    found.extra_columns = [name for name in answer.column_names if name not in used]
    found.renamed = {ours: theirs for ours, theirs in names.items() if ours != theirs}
    for ours, theirs in found.renamed.items():
        found.reasons.append(f"{ours} is called {theirs}")
    if found.missing_columns or found.extra_columns:
        found.verdict = DIFFERENT
        if found.missing_columns:
            found.reasons.append(f"columns missing: {', '.join(found.missing_columns)}")
        if found.extra_columns:
            found.reasons.append(f"columns too many: {', '.join(found.extra_columns)}")
        return found
    ordered = answer.select([names[name] for name in reference.column_names])
    left, right, drifts = common(reference, ordered.rename_columns(reference.column_names))
    found.drifted = drifts
    if question.statistics:
        return _by_statistics(left, right, question.statistics, found)
    same_in_order = _same_in_order(left, right)
    if not same_in_order:
        sides = Side(left, _floats(left)), Side(right, _floats(right))
        if not _same_rows(*sides):
            _compare_values(*sides, question, found, sources)
    found.reasons += [drift.words for drift in drifts]
    if found.verdict == DIFFERENT:
        return found
    if any(drift.loses for drift in drifts) or (drifts and question.exact_types):
        found.verdict = DIFFERENT
    elif drifts:
        found.verdict = OTHER_TYPES
    elif found.verdict == SAME and not same_in_order:
        found.verdict = OTHER_ORDER
    if question.order and not same_in_order and not _near_in_order(left, right, question):
        found.verdict = DIFFERENT
        found.reasons.insert(0, "the rows come in another order, and order matters here")
    return found


def _same_rows(ours: Side, theirs: Side) -> bool:
    """Whether two answers have the same rows in whatever order, by the hashes of their rows."""
    names = ours.table.column_names
    if ours.table.num_rows != theirs.table.num_rows or _sums_differ(ours.table, theirs.table):
        return False
    return sums_of(ours.hashed(names)) == sums_of(theirs.hashed(names))


def _sums_differ(left: pa.Table, right: pa.Table) -> bool:
    """Whether some column of numbers cannot hold the same values, by the sum of their bits,
    which takes no time."""
    for ours, theirs in zip(left.columns, right.columns, strict=True):
        if ours.null_count or theirs.null_count or not _is_number(ours.type):
            continue
        a, b = (
            sum(int(chunk.to_numpy().view(np.uint64).sum(dtype=np.uint64)) for chunk in side.chunks)
            for side in (ours, theirs)
        )
        if (a - b) % 2**64:
            return True
    return False


_FEWEST_FOR_SPREAD = 30


def _by_statistics(
    left: pa.Table, right: pa.Table, wanted: Statistics, found: Agreement
) -> Agreement:
    """Hold random answers against each other by mean and spread of each column of numbers."""
    sides = [
        {
            name: Spread.of(values)
            for name in table.column_names
            if len(values := table.column(name).drop_null()) and _is_number(values.type)
        }
        for table in (left, right)
    ]
    judged = by_spread(sides[0], sides[1], wanted, right.num_rows)
    found.verdict, found.columns = judged.verdict, judged.columns
    found.different_rows = judged.different_rows
    found.reasons += judged.reasons
    return found


@dataclass(frozen=True)
class Spread:
    """Values of a column of numbers: how many, their mean, their standard deviation."""

    count: int
    mean: float
    sd: float

    @classmethod
    def of(cls, values: pa.ChunkedArray) -> "Spread":
        """Of values without nulls."""
        numbers = np.asarray(values.to_numpy(), dtype=float)
        sd = float(numbers.std(ddof=1)) if len(numbers) > 1 else 0.0
        return cls(len(numbers), float(numbers.mean()), sd)


def by_spread(
    reference: Mapping[str, Spread], answer: Mapping[str, Spread], wanted: Statistics, rows: int
) -> Agreement:
    """Hold an answer of so many rows against the reference by mean and spread of the columns of
    numbers that both have."""
    found = Agreement(verdict=CLOSE)
    said = []
    for name in [name for name in reference if name in answer]:
        a, b = reference[name], answer[name]
        measures = [("mean", a.mean, b.mean, wanted.mean)]
        if min(a.count, b.count) >= _FEWEST_FOR_SPREAD:
            measures.append(("spread", a.sd, b.sd, wanted.spread))
        for what, ours, theirs, tolerance in measures:
            apart = abs(theirs - ours) / abs(ours) if ours else abs(theirs)
            if apart > tolerance:
                found.verdict = DIFFERENT
                found.columns[name] = b.count
            said.append(
                f"{name}: {what} {theirs:.6g} against {ours:.6g}, {100 * apart:.2g} % apart "
                f"(up to {100 * tolerance:g} % allowed)"
            )
    found.different_rows = rows if found.verdict == DIFFERENT else 0
    found.reasons += ["compared by statistics, since the answers are random", *said]
    return found


def _is_number(kind: pa.DataType) -> bool:
    return bool(pa.types.is_floating(kind) or pa.types.is_integer(kind))


def _same_in_order(left: pa.Table, right: pa.Table) -> bool:
    """Whether each value equals the one in its place, not-a-number equal to itself."""
    if left.num_rows != right.num_rows:
        return False
    for ours, theirs in zip(left.columns, right.columns, strict=True):
        if ours.equals(theirs):
            continue
        if not pa.types.is_floating(ours.type) or not pc.is_nan(ours).equals(pc.is_nan(theirs)):
            return False
        ours, theirs = (pc.if_else(pc.is_nan(c), 0.0, c) for c in (ours, theirs))
        if not ours.equals(theirs):
            return False
    return True


def _floats(table: pa.Table) -> list[str]:
    return [f.name for f in table.schema if pa.types.is_floating(f.type)]


def _near_in_order(left: pa.Table, right: pa.Table, question: Answer) -> bool:
    """Whether rows stand in the same order, row for row, within the tolerance."""
    if left.num_rows != right.num_rows:
        return False
    floats = _floats(left)
    for name in left.column_names:
        ours, theirs = left.column(name), right.column(name)
        if name not in floats:
            if not ours.equals(theirs):
                return False
            continue
        if not pc.is_null(ours).equals(pc.is_null(theirs)):
            return False
        a, b = (np.asarray(column.to_numpy(), dtype=float) for column in (ours, theirs))
        if not near(a, b, question).all():
            return False
    return True


def _compare_values(
    ours: Side,
    theirs: Side,
    question: Answer,
    found: Agreement,
    sources: Sources | None,
) -> None:
    """Fill in ``found`` for two answers of equal schema whose rows are not the same."""
    pairs = paired(ours, theirs, question)
    ours, theirs = pairs.left, pairs.right
    found.evidence, off = column_evidence(pairs, question)
    for column in found.evidence:
        if column.different:
            found.columns[column.name] = column.different
        if distances := column.distances:
            found.largest_absolute = max(found.largest_absolute, distances.absolute)
            found.largest_relative = max(found.largest_relative, distances.relative)
            found.largest_units = max(found.largest_units, distances.units)
    found.missing_rows, found.extra_rows = len(pairs.missing), len(pairs.extra)
    found.different_rows = int(off.sum()) + found.missing_rows + found.extra_rows
    if not found.different_rows:
        found.verdict = CLOSE if any(column.within for column in found.evidence) else SAME
        return
    found.verdict = DIFFERENT
    found.reasons += _reasons(pairs, question, found)
    some = pairs.apart[off][:_LOOKED_UP, 1]
    if sources and question.key and len(some):
        table = sources.are_rows(theirs.table.take(pa.array(some)))
        if table:
            found.reasons.append(
                f"another row of {table} is kept: each of these is one of its rows"
            )
    found.examples = examples(ours, theirs, pairs.apart[off], pairs.missing, pairs.extra, _EXAMPLES)


def _reasons(pairs: Paired, question: Answer, found: Agreement) -> list[str]:
    ours, theirs = pairs.left, pairs.right
    names = ours.table.column_names
    said = [
        f"keys differ by {what} in {rows:,} {'row' if rows == 1 else 'rows'}"
        for what, rows in pairs.misspelt.items()
    ]
    keys = [name for name in question.key if name in names]
    for rows, side, words in (
        (pairs.missing, ours, ("of the reference is missing", "of the reference are missing")),
        (pairs.extra, theirs, ("is not in the reference", "are not in the reference")),
    ):
        if len(rows):
            alike = rows_in_common(side.table, rows, names)
            told = f"1 row {words[0]}" if len(rows) == 1 else f"{len(rows):,} rows {words[1]}"
            said.append(told + (f": {alike}" if alike else ""))
    if keys and not pairs.unique_keys:
        found.repeated_keys = _repeated(theirs, keys) - _repeated(ours, keys)
        if found.repeated_keys > 0:
            said.append(f"{found.repeated_keys:,} rows repeat a key")
        found.repeated_keys = max(0, found.repeated_keys)
    for column in found.evidence:
        if column.different:
            remarks = _joined(column.remarks)
            said.append(f"{column.name}: {_values(column.different)}{remarks}")
    return said


def _repeated(side: Side, keys: list[str]) -> int:
    """Rows whose key another row before them has."""
    return int(side.table.num_rows) - len(np.unique(side.hashed(keys)))


def _values(count: int) -> str:
    return "1 value differs" if count == 1 else f"{count:,} values differ"


def _joined(remarks: Iterable[str]) -> str:
    told = "; ".join(remarks)
    return f" ({told})" if told else ""
