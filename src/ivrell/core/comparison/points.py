"""Points as text: one choice of knob values, in keys and in names of files."""

import json
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote


def point_name(point: Mapping[str, Any]) -> str:
    """A point as one stable text, for keys and file names."""
    return json.dumps(point, sort_keys=True)


def expected_name(pattern: str, point: Mapping[str, Any]) -> str:
    """The file name of a stored answer at a point: knobs in braces replaced by their values."""
    for knob, value in point.items():
        pattern = pattern.replace(f"{{{knob}}}", quote(str(value), safe=""))
    return pattern
