"""Text made from a pattern of character classes."""

import re
import zlib
from collections.abc import Iterator
from functools import lru_cache
from itertools import chain
from typing import Literal, Self

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from pydantic import Field, model_validator

from ivrell.core.recipe.kinds.base import Block, KeysOf, Kind, PlainText
from ivrell.core.recipe.scatter import LARGEST, scatter
from ivrell.core.records.points import LONGEST_TEXT

_PIECE = re.compile(r"\[([^\]]+)\]|([^\[\]{}])")
_REPEAT = re.compile(r"\{([0-9]{1,3})\}")
_RANGE = re.compile(r"(.)-(.)|(.)")


_BAD = re.compile("[\\x00\\ud800-\\udfff]")


def _characters(low: int, high: int) -> Iterator[int]:
    """Numbers of the characters from one to another, without halves of pairs, which are none."""
    return chain(range(low, min(high, 0xD7FF) + 1), range(max(low, 0xE000), high + 1))


@lru_cache(maxsize=256)
def _alphabets(pattern: str) -> tuple[str, ...]:
    """The characters possible at each position of the text that a pattern makes."""
    alphabets: list[str] = []
    at = 0
    while at < len(pattern):
        piece = _PIECE.match(pattern, at)
        if not piece:
            raise ValueError(
                f'pattern "{pattern}" cannot be read at character {at + 1}: use classes such as '
                "[A-Z], [0-9], [AEIOU], a repeat such as {3} after one, and plain characters"
            )
        letters = piece[2] or ""
        if any(_BAD.search(part) for part in (piece[1] or "", letters)):
            raise ValueError(f"the pattern holds a character that no text can have: {piece[0]!a}")
        for low, high, single in _RANGE.findall(piece[1] or ""):
            if low and low > high:
                raise ValueError(f'pattern "{pattern}": the range {low}-{high} runs backwards')
            letters += single or "".join(map(chr, _characters(ord(low), ord(high))))
        at = piece.end()
        repeat = _REPEAT.match(pattern, at)
        alphabets += [letters] * (int(repeat[1]) if repeat else 1)
        at = repeat.end() if repeat else at
    return tuple(alphabets)


@lru_cache(maxsize=64)
def _codes(alphabet: str) -> NDArray[np.uint32]:
    return np.frombuffer(alphabet.encode("utf-32-le"), dtype=np.uint32)


def _spell(alphabets: tuple[str, ...], choices: list[NDArray[np.int64]]) -> pa.Array:
    """Text whose character at position p is ``alphabets[p][choices[p]]``."""
    count = len(choices[0])
    letters = np.empty((count, len(alphabets)), dtype=np.uint32)
    for position, (alphabet, choice) in enumerate(zip(alphabets, choices, strict=True)):
        letters[:, position] = _codes(alphabet)[choice]
    if letters.max(initial=0) < 128:
        data = pa.py_buffer(letters.astype(np.uint8).tobytes())
        offsets = np.arange(count + 1, dtype=np.int32) * len(alphabets)
        return pa.StringArray.from_buffers(count, pa.py_buffer(offsets.tobytes()), data)
    return pa.array(letters.view(f"<U{len(alphabets)}").ravel().tolist(), type=pa.string())


class Text(Kind):
    """Text of one shape, such as ``[A-Z]{3}-[0-9]{2}``; each position drawn evenly.

    ``unique`` gives every row another text: rows are scattered over all the texts that
    the last positions can make, so no text is ever drawn twice and none is rejected.
    """

    kind: Literal["text"] = "text"
    pattern: PlainText = Field(min_length=1, max_length=200)
    unique: bool = False

    @model_validator(mode="after")
    def _readable(self) -> Self:
        if len(_alphabets(self.pattern)) > LONGEST_TEXT:
            raise ValueError(
                f'pattern "{self.pattern}" makes {len(_alphabets(self.pattern)):,} characters; '
                f"a text has at most {LONGEST_TEXT:,}"
            )
        if not _alphabets(self.pattern):
            raise ValueError(f'pattern "{self.pattern}" makes no text')
        return self

    def draw(self, rng: np.random.Generator, block: Block, keys_of: KeysOf) -> pa.Array:
        alphabets = _alphabets(self.pattern)
        if self.unique:
            return self._unique(block.rows, rng)
        return _spell(
            alphabets,
            [rng.integers(0, len(a), block.count, dtype=np.int64) for a in alphabets],
        )

    def absent(self, count: int, total: int) -> pa.Array:
        if not self.unique:
            return super().absent(count, total)
        _, space = self._low_positions()
        if space < total + count:
            raise ValueError(
                f'the pattern "{self.pattern}" makes {space:,} texts, too few for {total:,} '
                f"that stand in the table and {count:,} that do not"
            )
        rows = np.arange(total, total + count, dtype=np.int64)
        return self._unique(rows, np.random.Generator(np.random.Philox(zlib.crc32(b"absent"))))

    def longest(self, total: int) -> int:
        return len(_alphabets(self.pattern))

    def problem(self, total: int) -> str:
        if self.unique and self._low_positions()[1] < total:
            return (
                f'The pattern "{self.pattern}" makes {self._low_positions()[1]:,} different texts, '
                f"fewer than the {total:,} rows that must differ. Lengthen it or take fewer rows."
            )
        return ""

    def _low_positions(self) -> tuple[int, int]:
        """How many of the last positions keep rows apart, and the texts they make."""
        space, positions = 1, 0
        for alphabet in reversed(_alphabets(self.pattern)):
            if space * len(alphabet) > LARGEST:
                break
            space *= len(alphabet)
            positions += 1
        return positions, space

    def _unique(self, rows: NDArray[np.int64], rng: np.random.Generator) -> pa.Array:
        alphabets = _alphabets(self.pattern)
        positions, space = self._low_positions()
        rest = scatter(rows, space, zlib.crc32(f"{self.name}/{self.pattern}".encode()))
        choices: list[NDArray[np.int64]] = []
        for alphabet in reversed(alphabets[len(alphabets) - positions :]):
            choices.append(rest % len(alphabet))
            rest = rest // len(alphabet)
        for alphabet in reversed(alphabets[: len(alphabets) - positions]):
            choices.append(rng.integers(0, len(alphabet), len(rows), dtype=np.int64))
        return _spell(alphabets, choices[::-1])
