"""Points: one choice of knob values and conditions, as data and as text."""

import json
import re
from collections.abc import Mapping, Sequence
from typing import Annotated
from urllib.parse import quote

from pydantic import BeforeValidator, Field, StrictBool, StrictFloat, StrictInt, StrictStr

LONGEST_TEXT = 2_000
"""Characters of one value at the most: a block of data holds 131,072 of them."""


def _held(value: object) -> object:
    """Refuse whole numbers that no column can hold."""
    if type(value) is int and not -(2**63) <= value < 2**63:
        raise ValueError("a whole number lies between -2^63 and 2^63")
    return value


Value = Annotated[
    StrictBool
    | StrictInt
    | Annotated[StrictFloat, Field(allow_inf_nan=False)]
    | Annotated[StrictStr, Field(pattern=r"^[^\x00]*$", max_length=LONGEST_TEXT)],
    BeforeValidator(_held),
]
"""One value of a column or a knob: text, a number, or true or false."""

Point = dict[str, Value | None]
"""A value by the name of each knob, and of each condition that is not its usual one; None stands
for a condition that is left to the engine."""


_RANGE = re.compile(r"([1-9][0-9_]*)\.\.([1-9][0-9_]*)/([1-9][0-9]?)")
_ROUND_STEPS: dict[int, tuple[float, ...]] = {1: (1,), 2: (1, 3), 3: (1, 2, 5)}
_MOST_SIZES = 100


def value_range(text: str) -> list[int] | None:
    """The sizes that a range such as "1_000..10_000_000/3" stands for: from the first to the last,
    so many a decade, at round numbers; None where the text is no range.

    Raises ValueError for one that falls, or has more than a hundred sizes.
    """
    given = _RANGE.fullmatch(text.replace(" ", ""))
    if given is None:
        return None
    low, high = (int(bound.replace("_", "")) for bound in given.group(1, 2))
    a_decade = int(given[3])
    if high <= low:
        raise ValueError(f"{text}: a range rises, such as 1_000..1_000_000/3")
    if len(str(high)) * a_decade > _MOST_SIZES * 3:
        raise ValueError(f"{text}: more than {_MOST_SIZES} sizes")
    steps: tuple[float, ...] = _ROUND_STEPS.get(a_decade) or tuple(
        float(f"{10 ** (step / a_decade):.2g}") for step in range(a_decade)
    )
    every = {round(step * 10**power) for power in range(len(str(high))) for step in steps}
    found = sorted({low, high, *(size for size in every if low < size < high)})
    if len(found) > _MOST_SIZES:
        raise ValueError(f"{text}: more than {_MOST_SIZES} sizes")
    return found


def point_name(point: Mapping[str, Value | None]) -> str:
    """A point as one stable text, for keys and file names."""
    return json.dumps(point, sort_keys=True)


def going_with(points: Sequence[Point], knob: str) -> set[str]:
    """The knobs and conditions of which several values were run and whose value follows from that
    of a knob: values that go together, each with its own."""
    found = set()
    for name in points[0].keys() - {knob} if points else ():
        pairs = {(point.get(knob), point.get(name)) for point in points}
        values = {value for _, value in pairs}
        if len(values) > 1 and len(pairs) == len({of for of, _ in pairs}):
            found.add(name)
    return found


def beside(point: Point, names: set[str]) -> Point:
    """A point without the values of some names."""
    return {name: value for name, value in point.items() if name not in names}


def expected_name(pattern: str, point: Mapping[str, Value | None]) -> str:
    """The file name of a stored answer at a point: knobs in braces replaced by their values."""
    for knob, value in point.items():
        pattern = pattern.replace(f"{{{knob}}}", quote(str(value), safe=""))
    return pattern
