"""Made-up names and words: pronounceable, distinct, and nobody's."""

from functools import lru_cache

_STARTS = (
    "b",
    "br",
    "c",
    "cl",
    "d",
    "dr",
    "f",
    "g",
    "gr",
    "h",
    "k",
    "l",
    "m",
    "n",
    "p",
    "pr",
    "r",
    "s",
    "st",
    "t",
    "th",
    "tr",
    "v",
    "w",
)
_MIDDLES = ("a", "e", "i", "o", "u", "ai", "ea", "oa", "ou")
_ENDS = ("ck", "ld", "ll", "m", "n", "nd", "ng", "rd", "rn", "sk", "ss", "t", "th", "x")


def made_up_word(number: int) -> str:
    """The word of a number from 0 on; different numbers give different words."""
    syllables = []
    while True:
        number, start = divmod(number, len(_STARTS))
        number, middle = divmod(number, len(_MIDDLES))
        number, end = divmod(number, len(_ENDS))
        syllables.append(_STARTS[start] + _MIDDLES[middle] + _ENDS[end])
        if number == 0:
            return "-".join(syllables)
        number -= 1


@lru_cache(maxsize=16)
def made_up_names(count: int) -> tuple[str, ...]:
    """``count`` different names with capitals."""
    # A large odd step makes neighbours look unlike each other.
    space = max(count, len(_STARTS) * len(_MIDDLES) * len(_ENDS))
    step = 1_009 if space % 1_009 else 1_013
    return tuple(made_up_word(i * step % space).title() for i in range(count))


VOCABULARY = tuple(made_up_word(i * 1_009 % 3_024) for i in range(2_000))
"""Words for running text."""
