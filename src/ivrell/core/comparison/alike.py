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


def runs_alike(before: Comparison, now: Comparison) -> bool:
    """Whether two versions run the same lanes on the same data, and ask for the same answer."""
    lanes = [[as_run(approach) for approach in one.approach] for one in (before, now)]
    return lanes[0] == lanes[1] and not others_than_lanes(before, now)
