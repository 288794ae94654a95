"""Answers too big to bring home, held against each other in Spark by the rules of ``compare``.

Rows are paired by joins there: by key, or by all that is exact, in the order of the rest. What
does not agree comes home, bounded, with some of what does; on that ``compare`` itself is the judge,
of types, of evidence and of examples, and what was counted there stands in the place of what it
counted here.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import reduce
from typing import Any

import pyarrow as pa

from ivrell.core.agreement.compare import CLOSE, DIFFERENT, SAME, Spread, by_spread, compare
from ivrell.core.agreement.types import matched_names
from ivrell.core.comparison.model import Answer
from ivrell.core.records.agreement import Agreement
from ivrell.core.spark.answers import plain

MOST_ROWS = 20_000
"""Rows that do not agree and are brought home."""

_SOME = 500
_OURS, _THEIRS = "ours", "theirs"


@dataclass(frozen=True)
class _Paired:
    """Two answers joined row to row: what of each pair agrees, as columns of Spark."""

    frame: Any
    ok: Any
    missing: Any
    extra: Any
    by_column: dict[str, Any]
    within: dict[str, Any]
    apart: dict[str, Any]


def held(ours: Any, theirs: Any, question: Answer) -> Agreement:
    """Hold an answer against the reference, both DataFrames of Spark; see ``compare``.

    Whether rows come in the same order is looked at where both are read from files.
    """
    names = matched_names(ours.columns, theirs.columns)
    lost = [name for name in ours.columns if name not in names]
    if lost or len(names) < len(theirs.columns):
        return _counted(compare(_some(ours, 0), _some(theirs, 0), question), ours, theirs)
    called = compare(_some(ours, 0), _some(theirs, 0), question)
    theirs = theirs.select(*[_of(names[name]).alias(name) for name in ours.columns])
    if question.statistics:
        found = by_spread(_spreads(ours), _spreads(theirs), question.statistics, theirs.count())
        return _counted(found, ours, theirs)
    paired = _paired(ours, theirs, question)
    counts = paired.frame.agg(*_counts(paired)).first()
    found = _judged(paired, ours.columns, counts.asDict(), question)
    found.renamed = called.renamed
    found.reasons = [*called.reasons, *(one for one in found.reasons if one not in called.reasons)]
    if question.order:
        _look_at_order(ours, theirs, question, found)
    return found


def _of(name: str, side: str = "") -> Any:
    from pyspark.sql import functions as F

    return F.col(f"{side}.`{name}`" if side else f"`{name}`")


def _some(frame: Any, rows: int) -> pa.Table:
    return frame.limit(rows).toArrow()


def _counted(found: Agreement, ours: Any, theirs: Any) -> Agreement:
    found.rows, found.reference_rows = theirs.count(), ours.count()
    return found


def _common(ours: Any, theirs: Any, name: str) -> tuple[Any, Any, bool]:
    """A column of both sides in one type, and whether that is a float's."""
    from pyspark.sql import types as T

    kinds = [frame.schema[name].dataType for frame in (ours, theirs)]
    a, b = plain(ours, name), plain(theirs, name)
    numbers = [isinstance(kind, (T.NumericType, T.BooleanType)) for kind in kinds]
    floats = [
        isinstance(kind, T.FractionalType) and not isinstance(kind, T.DecimalType) for kind in kinds
    ]
    if all(numbers) and any(floats):
        return a.cast("double"), b.cast("double"), True
    if type(kinds[0]) is type(kinds[1]) or all(isinstance(k, T.IntegralType) for k in kinds):
        return a, b, False
    if all(numbers):
        return a.cast("decimal(38,9)"), b.cast("decimal(38,9)"), False
    days = (T.DateType, T.TimestampType, T.TimestampNTZType)
    if all(isinstance(kind, days) for kind in kinds):
        return a, b, False
    return a.cast("string"), b.cast("string"), False


def _paired(ours: Any, theirs: Any, question: Answer) -> _Paired:
    from pyspark.sql import Window
    from pyspark.sql import functions as F

    names = list(ours.columns)
    both = {name: _common(ours, theirs, name) for name in names}
    floats = [name for name in names if both[name][2]]
    keys = [name for name in question.key if name in names]
    by = keys or [name for name in names if name not in floats]
    rest = [name for name in names if name not in by]
    sides = []
    for side, frame in ((0, ours), (1, theirs)):
        shaped = frame.select(
            F.struct(*[_of(name).alias(name) for name in names]).alias("row"),
            F.struct(*[both[name][:2][side].alias(name) for name in names]).alias("plain"),
        )
        order = [_of("plain").getField(name) for name in rest] or [F.lit(1)]
        window = Window.partitionBy(*[_of("plain").getField(name) for name in by])
        sides.append(shaped.withColumn("rank", F.row_number().over(window.orderBy(*order))))
    left, right = (side.alias(name) for side, name in zip(sides, (_OURS, _THEIRS), strict=True))

    def value(side: str, name: str) -> Any:
        return _of("plain", side).getField(name)

    on = [value(_OURS, name).eqNullSafe(value(_THEIRS, name)) for name in by]
    on.append(_of("rank", _OURS) == _of("rank", _THEIRS))
    frame = left.join(right, reduce(lambda a, b: a & b, on), "full_outer")
    missing, extra = _of("rank", _THEIRS).isNull(), _of("rank", _OURS).isNull()
    by_column: dict[str, Any] = {}
    within: dict[str, Any] = {}
    apart: dict[str, Any] = {}
    for name in rest:
        a, b = value(_OURS, name), value(_THEIRS, name)
        equal = a.eqNullSafe(b)
        if name in floats:
            apart[name] = gap = F.abs(a - b)
            finite = ~F.isnan(gap) & (F.abs(a) < float("inf")) & (F.abs(b) < float("inf"))
            close = finite & (gap <= question.absolute + question.relative * F.abs(a))
            near = equal | F.coalesce(close, F.lit(False))
            within[name] = near & ~equal
        else:
            near = equal
        by_column[name] = near
    lone = missing | extra
    ok = reduce(lambda a, b: a & b, by_column.values(), ~lone)
    return _Paired(frame, ok, missing, extra, by_column, within, apart)


def _counts(paired: _Paired) -> list[Any]:
    """What is counted of all pairs, each under a name."""
    from pyspark.sql import functions as F

    def number(flag: Any) -> Any:
        return F.sum(F.when(flag, 1).otherwise(0))

    lone = paired.missing | paired.extra
    found = [
        F.count("*").alias("all"),
        number(paired.missing).alias("missing"),
        number(paired.extra).alias("extra"),
        number(~paired.ok).alias("off"),
    ]
    for position, name in enumerate(paired.by_column):
        found.append(number(~lone & ~paired.by_column[name]).alias(f"off {position}"))
        if name in paired.within:
            near = F.when(paired.within[name] & paired.ok, paired.apart[name])
            share = near / F.abs(_of("plain", _OURS).getField(name))
            found += [
                number(paired.within[name] & paired.ok).alias(f"within {position}"),
                F.max(near).alias(f"apart {position}"),
                F.max(share).alias(f"share {position}"),
            ]
    return found


def _judged(
    paired: _Paired, names: Sequence[str], counts: dict[str, Any], question: Answer
) -> Agreement:
    """What ``compare`` says of what came home, with the counts of all rows."""
    home = paired.frame.where(~paired.ok).limit(MOST_ROWS)
    agreeing = paired.frame.where(paired.ok).limit(_SOME)
    rows = [_both(frame) for frame in (home, agreeing)]
    sides = [pa.concat_tables([pair[side] for pair in rows]) for side in (0, 1)]
    found = compare(sides[0], sides[1], question)
    off, missing, extra = (int(counts[name] or 0) for name in ("off", "missing", "extra"))
    pairs = int(counts["all"]) - missing - extra
    found.rows, found.reference_rows = pairs + extra, pairs + missing
    _take_in_distances(paired, counts, found)
    _take_in_counts(paired, counts, pairs, found)
    if off <= MOST_ROWS:
        # All that does not agree is here: what was found of it stands.
        if found.verdict in (SAME, "same, other order") and _any_within(paired, counts):
            found.verdict = CLOSE
        if found.verdict == "same, other order":
            found.verdict = SAME
        return found
    found.missing_rows, found.extra_rows, found.different_rows = missing, extra, off
    for position, name in enumerate(paired.by_column):
        if count := int(counts[f"off {position}"] or 0):
            found.columns[name] = count
    if not found.agrees or missing or extra:
        found.verdict = DIFFERENT
        found.reasons.append(
            f"{off:,} rows do not agree; what is said of them is of the {MOST_ROWS:,} that were "
            "brought home"
        )
    return found


def _take_in_counts(paired: _Paired, counts: dict[str, Any], pairs: int, found: Agreement) -> None:
    """Let the evidence count all pairs, of which ``compare`` saw some."""
    positions = {name: position for position, name in enumerate(paired.by_column)}
    for column in found.evidence:
        if column.name in paired.within:
            column.within = int(counts[f"within {positions[column.name]}"] or 0)
        column.equal = pairs - column.within - column.different


def _any_within(paired: _Paired, counts: dict[str, Any]) -> bool:
    positions = [i for i, name in enumerate(paired.by_column) if name in paired.within]
    return any(counts[f"within {position}"] for position in positions)


def _take_in_distances(paired: _Paired, counts: dict[str, Any], found: Agreement) -> None:
    for position, name in enumerate(paired.by_column):
        if name in paired.within:
            apart = float(counts[f"apart {position}"] or 0.0)
            share = float(counts[f"share {position}"] or 0.0)
            found.largest_absolute = max(found.largest_absolute, apart)
            found.largest_relative = max(found.largest_relative, share)


def _both(frame: Any) -> tuple[pa.Table, pa.Table]:
    """Rows of either side, as they came."""
    from pyspark.sql import functions as F

    told = frame.select(
        _of("row", _OURS).alias(_OURS), _of("row", _THEIRS).alias(_THEIRS),
        F.lit(1).alias("here"),
    ).toArrow()  # fmt: skip
    sides = []
    for name in (_OURS, _THEIRS):
        column = told.column(name).drop_null().combine_chunks()
        if isinstance(column, pa.ChunkedArray):
            column = pa.concat_arrays(column.chunks) if column.num_chunks else column.type
        sides.append(pa.Table.from_struct_array(column))
    return sides[0], sides[1]


def _spreads(frame: Any) -> dict[str, Spread]:
    """Count, mean and spread of each column of numbers."""
    from pyspark.sql import functions as F
    from pyspark.sql import types as T

    found = {}
    for field in frame.schema.fields:
        kind = field.dataType
        if not isinstance(kind, T.NumericType) or isinstance(kind, T.DecimalType):
            continue
        value = _of(field.name)
        told = frame.agg(F.count(value), F.avg(value), F.stddev_samp(value)).first()
        if told[0]:
            found[field.name] = Spread(int(told[0]), float(told[1]), float(told[2] or 0.0))
    return found


def _look_at_order(ours: Any, theirs: Any, question: Answer, found: Agreement) -> None:
    """Say whether the rows come in another order, which matters here."""
    from pyspark.sql import Window
    from pyspark.sql import functions as F

    placed = []
    for frame in (ours, theirs):
        if not frame.inputFiles():
            found.reasons.append("whether the rows come in the same order could not be looked at")
            return
        at = Window.orderBy(F.input_file_name(), F.monotonically_increasing_id())
        placed.append(frame.withColumn("ivrell place", F.row_number().over(at)))
    key = question.model_copy(update={"key": ["ivrell place"], "order": False})
    paired = _paired(placed[0], placed[1], key)
    if paired.frame.where(~paired.ok).limit(1).count():
        found.verdict = DIFFERENT
        found.reasons.insert(0, "the rows come in another order, and order matters here")
