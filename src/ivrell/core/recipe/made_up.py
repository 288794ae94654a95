"""Made-up names and words: pronounceable, distinct, and nobody's."""

from collections.abc import Iterable
from functools import lru_cache

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

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


_SYLLABLES = tuple(
    start + middle + end for end in _ENDS for middle in _MIDDLES for start in _STARTS
)


def made_up_words(numbers: NDArray[np.int64], syllables: Iterable[str] = _SYLLABLES) -> pa.Array:
    """The words of numbers from 0 on, as text; different numbers give different words."""
    known = pa.array(syllables, pa.string())
    rest, first = np.divmod(numbers, len(known))
    words = known.take(pa.array(first))
    if not rest.any():
        return words
    more = made_up_words(np.maximum(rest - 1, 0), known)
    return pc.if_else(pa.array(rest > 0), pc.binary_join_element_wise(words, more, "-"), words)


def made_up_names(count: int) -> pa.Array:
    """``count`` different names with capitals, as text."""
    # A large odd step makes neighbours look unlike each other.
    space = max(count, len(_SYLLABLES))
    step = 1_009 if space % 1_009 else 1_013
    numbers = np.arange(count, dtype=np.int64) * step % space
    return made_up_words(numbers, [syllable.title() for syllable in _SYLLABLES])


@lru_cache(maxsize=1)
def vocabulary() -> pa.Array:
    """Words for running text; made when first asked for, since Arrow loads much for it."""
    return made_up_words(np.arange(2_000) * 1_009 % len(_SYLLABLES))
