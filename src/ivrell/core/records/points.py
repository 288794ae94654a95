"""Points: one choice of knob values and conditions, as data and as text."""

import json
from collections.abc import Mapping
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


def point_name(point: Mapping[str, Value | None]) -> str:
    """A point as one stable text, for keys and file names."""
    return json.dumps(point, sort_keys=True)


def expected_name(pattern: str, point: Mapping[str, Value | None]) -> str:
    """The file name of a stored answer at a point: knobs in braces replaced by their values."""
    for knob, value in point.items():
        pattern = pattern.replace(f"{{{knob}}}", quote(str(value), safe=""))
    return pattern
