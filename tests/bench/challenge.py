"""python -m tests.bench.challenge [MINUTES]: ten made comparisons that turn over in a known way.

Says of each whether the way was found within the minutes, what else was said to turn over or to be
wrong, and how many runs it took of those of the full grid.
"""

import shutil
import sys
import tempfile
from pathlib import Path

import ivrell
from ivrell import challenging
from ivrell.core.records.challenge import ChallengeFindings
from tests.support.doubted import ALL, Doubted


def _held(known: Doubted, found: ChallengeFindings) -> tuple[bool, list[str]]:
    """Whether the known ways were found, and what was found besides."""
    turned = [one.words for one in found.outcomes if one.verdict == "turned over"]
    wrong = [one.words for one in found.outcomes if one.verdict == "leader wrong"]
    hit = all(
        any(words in one for one in told)
        for ways, told in ((known.turns, turned), (known.wrong, wrong))
        for words in ways
    )
    # Broken lines make a program fail that reads them so: that is no false alarm, but none to find.
    besides = [
        one for one in [*turned, *wrong]
        if not any(words in one for words in (*known.turns, *known.wrong))
        and "broken" not in one
    ]  # fmt: skip
    return hit, besides


def main(minutes: float) -> None:
    """Challenge each of them."""
    folder = Path(tempfile.mkdtemp(prefix="ivrell-challenge-"))
    found_all, false = 0, 0
    try:
        for number, known in enumerate(ALL):
            comparison = ivrell.Comparison(known.text)
            found = challenging.challenge(comparison, minutes=minutes, folder=folder / str(number))
            hit, besides = _held(known, found)
            found_all, false = found_all + hit, false + len(besides)
            left = sum(one.verdict == "not run" for one in found.outcomes)
            print(
                f"{known.name}: {'found' if hit else 'MISSED'}; besides: {besides or 'nothing'}; "
                f"{found.runs} runs of {found.grid:,.0f}, {found.took_s:.0f} s, {left} left out",
                flush=True,
            )
            for words in found.words:
                print(f"    {words}", flush=True)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    print(f"{found_all} of {len(ALL)} found, {false} false")


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 2.0)
