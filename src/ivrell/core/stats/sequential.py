"""Whether one of two is slower than the other, looked at after each round.

A sequential probability ratio test (Wald, 1945) of "equal or quicker" against "slower by twice what
is let pass or more", of the logarithms of ratios within rounds. Their noise is taken as Student's t
with five degrees of freedom and a scale that is estimated under each of the two (Lange, Little and
Taylor, 1989), so that a round in which something else took the machine says little by itself. The
scale begins with what two rounds of usual noise would say, which keeps a few rounds that happen to
be alike from telling too much.
"""

from collections.abc import Sequence
from math import log, log1p, sqrt
from statistics import fmean, median, stdev
from typing import Literal

Told = Literal["slower", "no slower", "cannot tell"]

FALSE_ALARM = 0.02
MISS = 0.025
"""Nominal errors; those that simulation shows at up to 15 % spread lie at or below 5 %, see
docs/measuring.md."""

AT_LEAST = 4
"""Rounds before anything is told."""

FEWEST_KEPT = 3
"""Rounds of kept figures: of fewer their noise cannot be told."""

SURE = 0.95

_TAIL = 5.0
_USUAL, _USUAL_ROUNDS = 0.03, 2.0
_STEPS = 40
_SETTLED = 1e-9


def slower_than(
    logs: Sequence[float], margin: float, *, family: int = 1, usual: float = _USUAL
) -> Told:
    """What the rounds so far tell.

    Args:
        logs: logarithms of what the new one takes over what the old one takes, a round each.
        margin: what is let pass, as a share: 0.1 is a tenth more.
        family: how many are asked at once; false alarms are bounded for all of them together.
        usual: noise of such a logarithm that is expected before any was seen.
    """
    if len(logs) < AT_LEAST:
        return "cannot tell"
    slow = log1p(2 * margin)
    middle = median(logs)
    # A mean and a scale are estimated of the same rounds: one of them tells nothing.
    free = (len(logs) - 1) / len(logs)
    # What is far quicker, or far slower, speaks against neither of the two by that.
    bad, good = _fit(logs, max(slow, middle), usual), _fit(logs, min(0.0, middle), usual)
    evidence = free * (bad - good)
    if evidence >= log((1 - MISS) / (FALSE_ALARM / family)):
        return "slower"
    if evidence <= log(MISS / (1 - FALSE_ALARM / family)):
        return "no slower"
    return "cannot tell"


def slower_than_kept(
    now: Sequence[float], then: Sequence[float], margin: float, *, family: int = 1
) -> Told:
    """What rounds tell where the old one is not run any more: each verdict has to hold wherever the
    kept level may lie.

    Args:
        now: logarithms of what the new one takes over what an unchanged one takes, a round each.
        then: the same of the old one, of rounds that are kept.
        margin, family: as ``slower_than`` takes them.
    """
    from scipy.stats import t

    if len(then) < FEWEST_KEPT:
        return "cannot tell"
    level = fmean(then)
    certain = 1 - (1 - SURE) / family
    slack = float(t.ppf(certain, len(then) - 1)) * stdev(then) / sqrt(len(then))
    if slower_than([x - level - slack for x in now], margin, family=family) == "slower":
        return "slower"
    quick = slower_than([x - level + slack for x in now], margin, family=family)
    return "no slower" if quick == "no slower" else "cannot tell"


def _fit(logs: Sequence[float], shift: float, usual: float) -> float:
    """The logarithm of the likelihood of rounds about a shift, at the scale that fits best."""
    squares = [(value - shift) ** 2 for value in logs]
    rounds, prior = len(logs) + _USUAL_ROUNDS, _USUAL_ROUNDS * usual**2
    scale = (sum(squares) + prior) / rounds
    for _ in range(_STEPS):
        weighed = sum((_TAIL + 1) / (_TAIL + one / scale) * one for one in squares)
        next_scale = (weighed + prior) / rounds
        settled = abs(next_scale - scale) <= _SETTLED * scale
        scale = next_scale
        if settled:
            break
    tails = sum(log1p(one / (_TAIL * scale)) for one in squares)
    return -rounds / 2 * log(scale) - prior / (2 * scale) - (_TAIL + 1) / 2 * tails
