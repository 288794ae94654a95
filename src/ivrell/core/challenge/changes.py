"""Changes of the data and the conditions of a comparison that could turn its winner over.

Changes are made one at a time, each against the comparison as it is (so what only two of them
together would do is not seen): a knob stands in the place of what changes, so that all of them
run as points of one trial, interleaved.
"""

import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from itertools import count
from typing import Any, Literal

import tomlkit

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.edit import replace_data, set_fields, set_table
from ivrell.core.comparison.file import parse
from ivrell.core.recipe.kinds import KINDS
from ivrell.core.recipe.kinds.knobbed import Knobbed, is_knob, numeric
from ivrell.core.recipe.model import IN_ORDER, Table
from ivrell.core.records.points import Value

_KNOB = "changed_{}"
_DUPLICATES = 0.2
_MALFORMED = 0.01
_TENTH = 10
_FEWEST_ROWS = 100
_PLACES = ("first", "last", "absent")

KnobFor = Callable[[dict[str, Any], str, Value], str]
What = Literal["rows", "data", "order", "broken", "knob", "condition"]


@dataclass(frozen=True)
class Change:
    """One thing that is otherwise.

    Attributes:
        words: what it is, such as "a tenth of passages.toll missing".
        what: its sort.
        knob: the knob or condition that varies.
        usual: its value as the comparison is.
        value: the other one.
    """

    words: str
    what: What
    knob: str
    usual: Value
    value: Value

    @property
    def is_number(self) -> bool:
        """Whether there are values between, at which it may turn over."""
        ends = (self.usual, self.value)
        return all(isinstance(one, int | float) and not isinstance(one, bool) for one in ends)


@dataclass(frozen=True)
class Challenged:
    """A comparison with a knob for each change.

    Attributes:
        text: of its file.
        base: the point as it is.
        changes: those that can be made.
        impossible: those that cannot, with why.
    """

    text: str
    base: dict[str, Value]
    changes: list[Change]
    impossible: list[tuple[Change, str]]

    def point(self, change: Change) -> dict[str, Value]:
        """The point at which one change was made."""
        return {**self.base, change.knob: change.value}


def challenged(text: str, given: Mapping[str, Value], *, baseline: str | None = None) -> Challenged:
    """A comparison with a knob for each change that its recipe and its knobs allow.

    Args:
        text: of its file.
        given: values of its knobs; the first of each unless given.
        baseline: the lane that others are told against; answers are held against what they were.
    """
    before = parse(text)
    data = tomllib.loads(text)["data"]
    base: dict[str, Value] = {k: given.get(k, v[0]) for k, v in before.knobs.items()}
    knobs: dict[str, list[Value]] = {k: list(v) for k, v in before.knobs.items()}
    changes: list[Change] = []

    def knob_for(place: dict[str, Any], setting: str, usual: Value) -> str:
        """The knob that stands for a setting, which is put there."""
        if is_knob(place.get(setting)):
            return str(place[setting])[1:-1]
        name = next(n for i in count(1) if (n := _KNOB.format(i)) not in knobs)
        place[setting], base[name], knobs[name] = f"{{{name}}}", usual, [usual]
        return name

    for name, table in before.data.tables.items():
        if table.file is None:
            place = data["tables"][name]
            changes += _of_rows(name, table, place, base, knob_for)
            changes += _of_table(name, table, place, base, knob_for)
            changes += _of_columns(name, table, place, base, knob_for)
    changes = _once(changes)
    ours = {change.knob for change in changes}
    for knob, values in before.knobs.items():
        others = [value for value in values if value != base[knob]] if knob not in ours else []
        changes += [Change(f"{knob} = {v}", "knob", knob, base[knob], v) for v in others]
    for change in changes:
        if change.value not in knobs[change.knob]:
            knobs[change.knob].append(change.value)
    for name in base:
        knobs[name] = [base[name], *(value for value in knobs[name] if value != base[name])]
    made = set_table(replace_data(text, tomlkit.dumps({"data": data})), "knobs", knobs)
    if baseline is not None and baseline != before.baseline_id:
        reference = before.answer.reference or before.baseline_id
        made = set_fields(made, None, {"baseline": baseline})
        if before.answer.expected is None:
            made = set_fields(made, "answer", {"reference": reference})
    return _possible(made, base, changes)


def _once(changes: Iterable[Change]) -> list[Change]:
    """Each change once: a knob may stand in several places, which then change together."""
    found: dict[tuple[str, Value], Change] = {}
    for change in changes:
        before = found.get((change.knob, change.value))
        words = f"{before.words}, {change.words}" if before else change.words
        found[change.knob, change.value] = replace(change, words=words)
    return list(found.values())


def _possible(text: str, base: dict[str, Value], changes: list[Change]) -> Challenged:
    """Sort out what cannot be made: a key with nulls, a needle in no column."""
    recipe = parse(text).data
    possible, impossible = [], []
    for change in changes:
        try:
            recipe.resolved({**base, change.knob: change.value})
        except BadInput as error:
            impossible.append((change, error.what))
        else:
            possible.append(change)
    return Challenged(text, base, possible, impossible)


def _of_rows(
    name: str, table: Table, place: dict[str, Any], base: dict[str, Value], knob_for: KnobFor
) -> Iterator[Change]:
    rows = base.get(str(table.rows)[1:-1]) if isinstance(table.rows, str) else table.rows
    if not isinstance(rows, int) or isinstance(rows, bool):
        return
    knob = knob_for(place, "rows", rows)
    for many in (rows // _TENTH, rows // _TENTH**2, rows * _TENTH):
        if many >= min(rows, _FEWEST_ROWS):
            yield Change(f"{many:,} rows of {name}", "rows", knob, rows, many)


def _of_table(
    name: str, table: Table, place: dict[str, Any], base: dict[str, Value], knob_for: KnobFor
) -> Iterator[Change]:
    shares: tuple[tuple[str, float, str, What], ...] = (
        ("duplicate_share", _DUPLICATES, f"a fifth of {name} repeated rows", "data"),
        ("malformed_share", _MALFORMED, f"one of a hundred lines of {name} broken", "broken"),
    )
    for setting, share, words, what in shares:
        usual = getattr(table, setting)
        usual = base[usual[1:-1]] if is_knob(usual) else usual
        words = f"no {setting} of {name}" if usual else words
        knob = knob_for(place, setting, usual)
        yield Change(words, what, knob, usual, 0.0 if usual else share)
    order = table.order or IN_ORDER
    order = str(base[order[1:-1]]) if is_knob(order) else order
    knob = knob_for(place, "order", order)
    sortable = (column.name for column in table.columns if type(column).sortable())
    first = next(sortable, None)
    for other in (IN_ORDER, "shuffled", *([f"by {first}"] if first else [])):
        if other != order:
            told = {IN_ORDER: "in order of its making", "shuffled": "shuffled"}.get(
                other, f"sorted {other}"
            )
            yield Change(f"{name} {told}", "order", knob, order, other)


def _of_columns(
    name: str, table: Table, place: dict[str, Any], base: dict[str, Value], knob_for: KnobFor
) -> Iterator[Change]:
    for column, written in zip(table.columns, place["columns"], strict=True):
        settled = column.column(KINDS, base, name) if isinstance(column, Knobbed) else column
        for one in settled.variations():
            if one.setting in numeric(type(settled)):
                knob = knob_for(written, one.setting, one.usual)
                words = f"{name}.{column.name}: {one.words}"
                yield Change(words, "data", knob, one.usual, one.value)
        if settled.needle is not None:
            usual: Value = settled.needle.at
            usual = base[str(usual)[1:-1]] if is_knob(usual) else usual
            knob = knob_for(written["needle"], "at", usual)
            for at in _PLACES:
                if at != usual:
                    words = f"the sought value of {name}.{column.name} {_placed(at)}"
                    yield Change(words, "data", knob, usual, at)


def _placed(at: str) -> str:
    return {"absent": "nowhere"}.get(at, f"in the {at} row")


CONDITIONS = (
    Change("a cold cache", "condition", "cache", "warm", "cold"),
    Change("one thread", "condition", "threads", "", 1),
    Change("another program busy on a core", "condition", "background", "quiet", "1 busy core"),
)
"""What of the machine could turn a winner over; each is run beside its usual value."""
