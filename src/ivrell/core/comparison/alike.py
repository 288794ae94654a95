"""Whether two versions of a comparison run the same."""

from dataclasses import replace

from ivrell.core.comparison.model import Comparison
from ivrell.core.engines.base import Approach


def others_than_lanes(before: Comparison, now: Comparison) -> list[str]:
    """What runs rest on besides their lanes and is another now, in words."""
    same = {
        "the data": before.data == now.data,
        "how answers are compared": before.answer == now.answer,
        "the knobs": before.knobs == now.knobs,
    }
    return [word for word, alike in same.items() if not alike]


def as_run(approach: Approach) -> Approach:
    """An approach without what changes nothing of its runs."""
    return replace(approach, name="", note="", parent=None, retired=False)
