"""How long people wait before their minds go elsewhere: bands of time that drawings are made over.

After Miller, Response time in man-computer conversational transactions, AFIPS 1968.
"""

import math
from typing import NamedTuple


class Band(NamedTuple):
    """Times up to so many seconds, and what they feel like."""

    until_s: float
    word: str


BANDS = (
    Band(0.1, "instant"),
    Band(1.0, "keeps the thought"),
    Band(10.0, "waiting"),
    Band(math.inf, "people leave"),
)
