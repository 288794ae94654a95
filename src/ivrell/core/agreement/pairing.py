"""Which rows of two answers belong together, without a sort where none is needed.

Rows are handled as numbers and hashes of 64 bits; two different rows share a hash once in some
ten million million million pairs, and pairs that are told apart by their values are looked at
again value by value.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import maximum_bipartite_matching

from ivrell.core.agreement.aligned import Aligned, aligned
from ivrell.core.agreement.canonical import is_text
from ivrell.core.agreement.distance import Floats, near
from ivrell.core.agreement.side import Hashes, Rows, Side, Stretch
from ivrell.core.comparison.model import Answer

_PORTION = 1_000_000
_MOST_MATCHED = 3_000
_MOST_TAKEN_ANEW = 2_000_000
_MOST_GUESSED = 500_000
_MOST_GUESSES = 3


@dataclass
class Paired:
    """Rows of both sides, by how they belong together.

    Attributes:
        left, right: the answers, in the order that the numbers are of.
        twins: number of rows that stand on both sides to the last digit, and in none of the
            others.
        stretches: runs of rows that lie side by side and agree within the tolerance.
        close: pairs of row numbers, shape (n, 2), that agree within the tolerance.
        apart: pairs that belong together by key, or by most of their values, and differ.
        missing: rows of the reference without a partner.
        extra: rows of the answer without one.
        unique_keys: whether no key stands twice on either side.
        misspelt: of pairs apart, how many keys are the same but for what; see ``keys``.
    """

    left: Side
    right: Side
    twins: int
    stretches: list[Stretch]
    close: Rows
    apart: Rows
    missing: Rows
    extra: Rows
    unique_keys: bool = False
    misspelt: dict[str, int] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """How many pairs there are."""
        beside = sum(stretch.rows for stretch in self.stretches)
        return self.twins + beside + len(self.close) + len(self.apart)


def paired(left: Side, right: Side, question: Answer) -> Paired:
    """Pair the rows of two answers that have the same columns of the same types: side by side
    where sorting lays most of them so, exactly where it does not."""
    beside = aligned(left, right, question)
    found = _exactly(left, right, question) if beside is None else _settled(beside, question)
    return with_misspelt_keys(found, question)


def _settled(beside: Aligned, question: Answer) -> Paired:
    """What is left over of two answers that lie side by side, paired exactly."""
    left, right, ours, theirs = beside.left, beside.right, beside.ours, beside.theirs
    close, apart, stretches = beside.close, beside.apart, beside.stretches
    if beside.by_unique_key:
        return Paired(left, right, 0, stretches, close, apart, ours, theirs, unique_keys=True)
    if len(ours) and len(theirs):
        more, ours, theirs = _close(left, right, ours, theirs, question)
        if len(ours) and len(theirs) and left.floats:
            sides = [np.concatenate([np.arange(s[which], s[which] + s.rows) for s in stretches]
                                    or [np.empty(0, dtype=np.int64)])
                     for which in (0, 1)]  # fmt: skip
            close, stretches = np.concatenate([close, more, np.column_stack(sides)]), []
            more = more[:0]
            none = np.zeros(left.table.num_rows, dtype=bool)
            close, ours, theirs = _with_twins(left, right, close, ours, theirs, none, question)
        close = np.concatenate([close, more])
    apart, ours, theirs = _by_what_is_alike(left, right, ours, theirs, question)
    return Paired(left, right, 0, stretches, close, apart, ours, theirs)


def _exactly(left: Side, right: Side, question: Answer) -> Paired:
    """All rows by their hashes."""
    names = left.table.column_names
    ours, theirs = _without_twins(left.hashed(names), right.hashed(names))
    is_twin = np.ones(left.table.num_rows, dtype=bool)
    is_twin[ours] = False
    close, ours, theirs = _close(left, right, ours, theirs, question)
    if len(ours) and len(theirs) and left.floats:
        close, ours, theirs = _with_twins(left, right, close, ours, theirs, is_twin, question)
    twins = int(is_twin.sum())
    apart, ours, theirs = _by_what_is_alike(left, right, ours, theirs, question)
    return Paired(left, right, twins, [], close, apart, ours, theirs)


def _by_what_is_alike(
    left: Side, right: Side, ours: Rows, theirs: Rows, question: Answer
) -> tuple[Rows, Rows, Rows]:
    """Pairs of rows that differ but belong together, by key or by most of their values; then
    what is left of each side."""
    names = left.table.column_names
    if not len(ours) or not len(theirs):
        return np.empty((0, 2), dtype=np.int64), ours, theirs
    if keys := [name for name in question.key if name in names]:
        return _alike(left, right, ours, theirs, keys)
    exact = [name for name in names if name not in left.floats]
    return _alike_mostly(left, right, ours, theirs, exact)


def _portions(ours: Hashes, theirs: Hashes) -> Iterator[tuple[Rows, Rows]]:
    """Places in both arrays, a portion of all hashes at a time, so that what is worked on stays
    small; equal hashes are in one portion."""
    bits = max(0, int(np.ceil(np.log2((len(ours) + len(theirs)) / _PORTION + 1))))
    if not bits:
        yield np.arange(len(ours)), np.arange(len(theirs))
        return
    # Multiplied, since hashes of few values may share their upper bits.
    shift = np.uint64(64 - bits)
    spread = np.uint64(0x9E3779B97F4A7C15)
    narrow = np.uint8 if bits <= np.iinfo(np.uint8).bits else np.uint32
    which = [((side * spread) >> shift).astype(narrow) for side in (ours, theirs)]
    for portion in range(2**bits):
        yield np.flatnonzero(which[0] == portion), np.flatnonzero(which[1] == portion)


def _without_twins(ours: Hashes, theirs: Hashes) -> tuple[Rows, Rows]:
    """Numbers of the rows that are left when each hash is taken out as often as it stands on
    both sides."""
    left: list[list[Rows]] = [[], []]
    for some, others in _portions(ours, theirs):
        groups = _Groups(np.concatenate([ours[some], theirs[others]]), len(some))
        lone = groups.members[groups.nth >= groups.both[groups.group]]
        left[0].append(some[lone[lone < len(some)]])
        left[1].append(others[lone[lone >= len(some)] - len(some)])
    return np.sort(np.concatenate(left[0])), np.sort(np.concatenate(left[1]))


class _Groups:
    """Rows of both sides grouped by a label.

    ``order`` is that of the rows by label, where it is known already.

    Attributes, all but the last two in the order of ``members``:
        members: row numbers, those of the other side counted on from the first side's.
        group: number of each one's group.
        nth: the how-manieth of its side each is in its group.
        ours, theirs: size of each group by side.
    """

    def __init__(self, labels: Hashes, first: int, order: Rows | None = None) -> None:
        if order is None:
            order = pl.Series(labels).arg_sort().to_numpy()
        self.members: Rows = order.astype(np.int64)
        ordered = labels[self.members]
        starts = np.empty(len(ordered), dtype=bool)
        starts[:1] = True
        np.not_equal(ordered[1:], ordered[:-1], out=starts[1:])
        del ordered
        self.group = np.cumsum(starts, dtype=np.int64) - 1
        ours = self.members < first
        count = int(self.group[-1]) + 1 if len(self.group) else 0
        self.ours = np.bincount(self.group[ours], minlength=count)
        self.theirs = np.bincount(self.group[~ours], minlength=count)
        # How many of one's own side stand before one, less those before the group began.
        so_far = np.cumsum(ours)
        before: Rows = so_far - ours
        at = np.flatnonzero(starts)
        self.nth = np.where(
            ours,
            before - before[at][self.group],
            (np.arange(len(ours)) - before) - (at - before[at])[self.group],
        )
        self.is_ours = ours

    @property
    def both(self) -> Rows:
        """How many pairs each group can have."""
        return np.minimum(self.ours, self.theirs)

    def pairs(self, first: int, wanted: NDArray[np.bool_] | None = None) -> tuple[Rows, Rows]:
        """The nth of one side with the nth of the other in each group (in those wanted), and
        the group of each pair."""
        fits = self.nth < self.both[self.group]
        if wanted is not None:
            fits &= wanted[self.group]
        ours, theirs = fits & self.is_ours, fits & ~self.is_ours
        # Both selections run through groups in order and through each by nth.
        pairs = np.column_stack([self.members[ours], self.members[theirs] - first])
        return pairs, self.group[ours]


def _close(
    left: Side, right: Side, ours: Rows, theirs: Rows, question: Answer
) -> tuple[Rows, Rows, Rows]:
    """Pairs of rows that are equal in all but floats, and near in those; then what is left."""
    none = np.empty((0, 2), dtype=np.int64)
    if not left.floats or not len(ours) or not len(theirs):
        return none, ours, theirs
    labels = _label(left, ours), _label(right, theirs)
    found = [none]
    free = np.ones(len(ours), bool), np.ones(len(theirs), bool)
    for some, others in _portions(*labels):
        if not len(some) or not len(others):
            continue
        values = {
            name: np.concatenate(
                [left.numbers(name, ours[some]), right.numbers(name, theirs[others])]
            )
            for name in left.floats
        }
        both = np.concatenate([labels[0][some], labels[1][others]])
        pairs = _near_pairs(both, len(some), values, question)
        a, b = some[pairs[:, 0]], others[pairs[:, 1]]
        free[0][a] = free[1][b] = False
        found.append(np.column_stack([ours[a], theirs[b]]))
    return np.concatenate(found), ours[free[0]], theirs[free[1]]


def _with_twins(
    left: Side,
    right: Side,
    close: Rows,
    ours: Rows,
    theirs: Rows,
    is_twin: NDArray[np.bool_],
    question: Answer,
) -> tuple[Rows, Rows, Rows]:
    """The close pairs once more, where rows are left over whose like is left over on the other
    side: a twin may have to give up its twin for all to find a partner within the tolerance.

    Twins that take part are twins no more (``is_twin`` is changed in place).
    """
    shared = np.intersect1d(_label(left, ours), _label(right, theirs))
    if not len(shared):
        return close, ours, theirs
    every = np.arange(left.table.num_rows), np.arange(right.table.num_rows)
    labels = _label(left, every[0]), _label(right, every[1])
    some, others = (np.flatnonzero(np.isin(side, shared)) for side in labels)
    if len(some) + len(others) > _MOST_TAKEN_ANEW:
        return close, ours, theirs
    values = {
        name: np.concatenate([left.numbers(name, some), right.numbers(name, others)])
        for name in left.floats
    }
    both = np.concatenate([labels[0][some], labels[1][others]])
    pairs = _near_pairs(both, len(some), values, question)
    before = len(some) - int(np.isin(some, ours).sum())
    if len(pairs) <= before:
        return close, ours, theirs
    is_twin[some] = False
    close = close[~np.isin(close[:, 0], some)]
    close = np.concatenate([close, np.column_stack([some[pairs[:, 0]], others[pairs[:, 1]]])])
    free = np.ones(len(some), bool), np.ones(len(others), bool)
    free[0][pairs[:, 0]] = free[1][pairs[:, 1]] = False
    ours = np.concatenate([ours[~np.isin(ours, some)], some[free[0]]])
    theirs = np.concatenate([theirs[~np.isin(theirs, others)], others[free[1]]])
    return close, ours, theirs


def _near_pairs(labels: Hashes, first: int, values: dict[str, Floats], question: Answer) -> Rows:
    """Pairs of rows of equal label whose floats are near each other.

    Labels and values are those of the first ``first`` rows, then those of the other side's;
    pairs count from 0 on either side. One row of each side with a label is a pair at once;
    larger groups are parted along one float after the other wherever neighbours lie further
    apart than the tolerance, until every part is matched for itself.
    """
    found: list[Rows] = []
    alive = np.arange(len(labels))

    def check(pairs: Rows) -> NDArray[np.bool_]:
        good = np.ones(len(pairs), dtype=bool)
        for column in values.values():
            good &= near(column[pairs[:, 0]], column[pairs[:, 1] + first], question)
        return good

    order: Rows | None = None
    for name in [None, *values]:
        if name is not None:
            labels, order = _parted(labels, values[name][alive], question)
        in_first = int((alive < first).sum())
        groups = _Groups(labels, in_first, order)
        single = (groups.ours == 1) & (groups.theirs == 1)
        local, _ = groups.pairs(in_first, single)
        pairs = np.column_stack([alive[local[:, 0]], alive[local[:, 1] + in_first] - first])
        found.append(pairs[check(pairs)])
        # What has no partner by this label will have none by a finer one.
        goes_on = np.zeros(len(labels), dtype=bool)
        goes_on[groups.members] = (~single & (groups.both > 0))[groups.group]
        labels, alive = labels[goes_on], alive[goes_on]
        if not len(alive):
            break
    if len(alive):
        found += _matched(labels, alive, first, check, values, question)
    return np.concatenate(found)


def _label(side: Side, rows: Rows) -> Hashes:
    """Hash of everything exact of some rows, and of where their floats are no finite numbers."""
    exact = [name for name in side.table.column_names if name not in side.floats]
    label = side.hashed(exact, rows)
    for name in side.floats:
        numbers = side.numbers(name, rows)
        with np.errstate(invalid="ignore"):
            odd = np.where(
                np.isnan(numbers), 1 + side.nulls(name, rows), np.where(np.isinf(numbers), 3, 0)
            )
            odd = odd + np.where(np.isinf(numbers) & (numbers < 0), 1, 0)
        label = label * np.uint64(31) + odd.astype(np.uint64)
    return label


def _parted(labels: Hashes, values: Floats, question: Answer) -> tuple[Hashes, Rows]:
    """Finer labels: a group is parted where neighbours in order lie too far apart; and the order
    of the rows by them."""
    finite = np.where(np.isfinite(values), values, 0.0)
    if len(labels) and (labels == labels[0]).all():
        order = pl.Series(finite).arg_sort().to_numpy()
    else:
        frame = pl.DataFrame({"label": labels, "value": finite})
        order = frame.select(pl.arg_sort_by("label", "value")).to_series().to_numpy()
    ordered, numbers = labels[order], finite[order]
    with np.errstate(over="ignore"):
        reach = np.maximum(np.abs(numbers[1:]), np.abs(numbers[:-1]))
        new = np.diff(numbers) > question.absolute + question.relative * reach
    new |= ordered[1:] != ordered[:-1]
    finer = np.empty(len(labels), dtype=np.uint64)
    finer[order] = np.concatenate([[0], np.cumsum(new)]).astype(np.uint64)
    return finer, order


def _matched(
    labels: Hashes,
    alive: Rows,
    first: int,
    check: Callable[[Rows], NDArray[np.bool_]],
    values: dict[str, Floats],
    question: Answer,
) -> list[Rows]:
    """Pairs within groups that floats could not part further: row by row in order where that
    agrees, the rest by a maximum matching of all that lie within the tolerance."""
    in_first = int((alive < first).sum())
    # Each side by its numbers, so that the nth of one is likely near the nth of the other.
    by = [column[alive] for column in reversed(values.values())]
    order = np.lexsort([*by, alive >= first])
    labels, alive = labels[order], alive[order]
    groups = _Groups(labels, in_first, np.argsort(labels, kind="stable"))
    local, group_of = groups.pairs(in_first)
    pairs = np.column_stack([alive[local[:, 0]], alive[local[:, 1] + in_first] - first])
    good = check(pairs)
    found = [pairs[good]]
    taken = np.zeros(int(alive.max()) + 1, dtype=bool)
    taken[found[0][:, 0]] = True
    taken[found[0][:, 1] + first] = True
    for group in np.unique(group_of[~good]):
        start, end = np.searchsorted(groups.group, [group, group + 1])
        members = alive[groups.members[start:end]]
        # In a group that does not fit as it stands, all are matched anew.
        ours, theirs = members[members < first], members[members >= first]
        if max(len(ours), len(theirs)) > _MOST_MATCHED:
            ours, theirs = ours[~taken[ours]], theirs[~taken[theirs]]
            if max(len(ours), len(theirs)) > _MOST_MATCHED:
                continue
            kept: list[Rows] = []
        else:
            in_group = np.isin(found[0][:, 0], ours)
            kept = [found[0][~in_group]]
        possible = np.ones((len(ours), len(theirs)), dtype=bool)
        for column in values.values():
            possible &= near(column[ours][:, None], column[theirs][None, :], question)
        partner = maximum_bipartite_matching(coo_matrix(possible).tocsr(), perm_type="column")
        has = partner >= 0
        matched = np.column_stack([ours[has], theirs[partner[has]] - first])
        if kept:
            found[0] = kept[0]
        found.append(matched)
    return found


def _alike(
    left: Side, right: Side, ours: Rows, theirs: Rows, by: list[str]
) -> tuple[Rows, Rows, Rows]:
    """Pairs of rows that are alike in some columns; then what is left of each side."""
    labels = np.concatenate([left.hashed(by, ours), right.hashed(by, theirs)])
    groups = _Groups(labels, len(ours))
    local, _ = groups.pairs(len(ours))
    free_ours, free_theirs = np.ones(len(ours), bool), np.ones(len(theirs), bool)
    free_ours[local[:, 0]] = free_theirs[local[:, 1]] = False
    pairs = np.column_stack([ours[local[:, 0]], theirs[local[:, 1]]])
    return pairs, ours[free_ours], theirs[free_theirs]


def _alike_mostly(
    left: Side, right: Side, ours: Rows, theirs: Rows, exact: list[str]
) -> tuple[Rows, Rows, Rows]:
    """Where no key says what belongs together: rows alike in all but floats, then rows alike in
    all but one column, the column that brings most together first."""
    found = [np.empty((0, 2), dtype=np.int64)]
    if exact and left.floats:
        pairs, ours, theirs = _alike(left, right, ours, theirs, exact)
        found.append(pairs)
    names = left.table.column_names
    for _ in range(_MOST_GUESSES if len(names) > 1 else 0):
        if not 0 < len(ours) <= _MOST_GUESSED or not 0 < len(theirs) <= _MOST_GUESSED:
            break
        tried = [
            _alike(left, right, ours, theirs, [n for n in names if n != left_out])
            for left_out in names
        ]
        best = max(tried, key=lambda outcome: len(outcome[0]))
        if not len(best[0]):
            break
        found.append(best[0])
        _, ours, theirs = best
    return np.concatenate(found), ours, theirs


def with_misspelt_keys(found: Paired, question: Answer) -> Paired:
    """Rows without a partner paired by keys that are the same but for spaces around them or for
    capital letters; ``misspelt`` tells how many."""
    left, right = found.left, found.right
    keys = [name for name in question.key if name in left.table.column_names]
    texts = [name for name in keys if is_text(left.table.schema.field(name).type)]
    if not texts:
        return found
    for what, plain in MISSPELT.items():
        ours, theirs = found.missing, found.extra
        if not len(ours) or not len(theirs):
            break
        sides = [
            Side(_in_plain(side.table.select(keys).take(pa.array(rows)), texts, plain), [])
            for side, rows in ((left, ours), (right, theirs))
        ]
        every = np.arange(len(ours)), np.arange(len(theirs))
        pairs, free_ours, free_theirs = _alike(sides[0], sides[1], *every, keys)
        if len(pairs):
            found.misspelt[what] = len(pairs)
            belong = np.column_stack([ours[pairs[:, 0]], theirs[pairs[:, 1]]])
            found.apart = np.concatenate([found.apart, belong])
            found.missing, found.extra = ours[free_ours], theirs[free_theirs]
    return found


MISSPELT: dict[str, Callable[[pa.ChunkedArray], pa.ChunkedArray]] = {
    "spaces around them": pc.utf8_trim_whitespace,
    "capital letters": pc.utf8_lower,
    "spaces around them and capital letters": lambda c: pc.utf8_lower(pc.utf8_trim_whitespace(c)),
}
"""In what keys can differ and still be the same to a reader, each with what takes it away."""


def _in_plain(
    table: pa.Table, texts: list[str], plain: Callable[[pa.ChunkedArray], pa.ChunkedArray]
) -> pa.Table:
    for name in texts:
        place = table.column_names.index(name)
        table = table.set_column(place, name, plain(table.column(name)))
    return table
