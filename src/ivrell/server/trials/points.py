"""Points in the query of a request."""

import json

from ivrell.core.base.errors import BadInput
from ivrell.core.records.points import Point


def given_point(given: str | None) -> Point | None:
    """A point from the query of a request; None where there is none. Raises BadInput."""
    if not given:
        return None
    try:
        point = json.loads(given)
    except (ValueError, RecursionError):
        point = None
    if not isinstance(point, dict):
        raise BadInput("This is no point.", where="point", hint='Write it as {"rows": 1000}.')
    return point
