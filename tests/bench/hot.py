"""python -m tests.bench.hot: ten programs whose hot line is known, and what it costs to look.

Of each: whether the line that takes most of the time is the one, the share that it is said to take
and that it takes, and how long the lane takes with and without being looked at.
"""

import sys
from statistics import median

import ivrell
from ivrell.core.records.hot import HotFindings
from tests.support.hot import PROGRAMS, Hot

_TIMES = 5


def _took(comparison: ivrell.Comparison) -> tuple[float, float]:
    """Seconds in the middle: as it is, and while it is looked at, by turns."""
    plain, looked = [], []
    for _ in range(_TIMES):
        tried = comparison.try_lane("lane", 1_000_000)
        plain.append(tried.run.elapsed_s if tried.run and tried.run.elapsed_s else 0.0)
        looked.append(comparison.hot("lane").elapsed_s or 0.0)
    return median(plain), median(looked)


def main(costs: bool) -> None:
    """All of them."""
    right = 0
    for program in PROGRAMS:
        comparison = ivrell.Comparison(program.text)
        found = comparison.hot("lane")
        hit = _hit(program, found)
        right += hit
        word = "found" if hit else "MISSED"
        told = f"{program.name}: {word}; {' '.join(found.words[:2])}{found.trouble}"
        if costs:
            plain, looked = _took(comparison)
            told += f" {plain:.3f} s, looked at {looked:.3f} s, {looked / plain - 1:+.1%}"
        print(told, flush=True)
    print(f"{right} of {len(PROGRAMS)} found")


def _hit(program: Hot, found: HotFindings) -> bool:
    key = {"time": "elapsed_s", "cpu": "cpu_s", "memory": "grown_bytes"}[program.by]
    first = max(found.lines, key=lambda line: getattr(line, key) or 0.0, default=None)
    return first is not None and first.first <= program.line <= first.line


if __name__ == "__main__":
    main("costs" in sys.argv)
