"""Comparing two large answers: python -m tests.bench.agreement [ROWS]

Each way is a process of its own, its peak memory what it holds beyond the two tables. The bare
way is a sort of both with Polars and a look at whether they are equal, numbers within the
tolerance, row by row in that order: it knows no missing row, and tells no more than yes or no.
"""

import multiprocessing
import os
import sys
import time

import numpy as np
import polars as pl
import pyarrow as pa

from ivrell.core.agreement.compare import compare
from ivrell.core.comparison.model import Answer
from ivrell.core.measure import proc

_ROUNDS = 3


def answers(rows: int, nudged: bool) -> tuple[pa.Table, pa.Table]:
    """Two answers of six columns, the second in another order, its sums off in the last digits
    where ``nudged``."""
    rng = np.random.default_rng(1)
    locks = pa.array([f"LCK-{i:02}" for i in range(60)])
    toll, draught = rng.random(rows) * 90, rng.normal(1.4, 0.2, rows)
    columns = {
        "passage": np.arange(rows),
        "lock": locks.take(pa.array(rng.integers(0, 60, rows))),
        "day": rng.integers(0, 365, rows),
        "toll": toll,
        "draught": draught,
        "barges": rng.integers(1, 9, rows),
    }
    order = rng.permutation(rows)
    other = pa.table(columns)
    if nudged:
        other = other.set_column(3, "toll", [toll * (1 + 2e-16)])
        other = other.set_column(4, "draught", [np.nextafter(draught, 9)])
    return pa.table(columns), other.take(pa.array(order)).combine_chunks()


def _bare(left: pa.Table, right: pa.Table, by: list[str] | None = None) -> str:
    ours, theirs = (pl.from_arrow(t).sort(by or t.column_names) for t in (left, right))
    for name in ours.columns:
        a, b = ours[name], theirs[name]
        near = (a - b).abs() <= 1e-9 * a.abs() if a.dtype == pl.Float64 else a == b
        if not near.all():
            return "different"
    return "same"


def _floats(left: pa.Table, right: pa.Table) -> tuple[pa.Table, pa.Table]:
    return left.select(["toll", "draught"]), right.select(["toll", "draught"])


BY_KEY = Answer(key=["passage"])
WAYS = {
    "equal, ours": (False, lambda a, b: compare(a, b, BY_KEY).verdict),
    "equal, bare": (False, _bare),
    "last digits, ours, by key": (True, lambda a, b: compare(a, b, BY_KEY).verdict),
    "last digits, bare, by key": (True, lambda a, b: _bare(a, b, ["passage"])),
    "last digits, ours, whole rows": (True, lambda a, b: compare(a, b, Answer()).verdict),
    "last digits, bare, whole rows": (True, _bare),
    "one row gone, ours, by key": (True, lambda a, b: compare(a, b.slice(1), BY_KEY).verdict),
    "one row gone, ours, whole rows": (True, lambda a, b: compare(a, b.slice(1), Answer()).verdict),
    "floats alone, ours": (True, lambda a, b: compare(*_floats(a, b), Answer()).verdict),
    "floats alone, bare": (True, lambda a, b: _bare(*_floats(a, b))),
}  # fmt: skip


def _measured(way: str, rows: int, to) -> None:
    nudged, do = WAYS[way]
    left, right = answers(rows, nudged)
    pa.default_memory_pool().release_unused()
    proc.reset_peak(os.getpid())
    before = _peak()
    began = time.perf_counter()
    verdict = do(left, right)
    took = time.perf_counter() - began
    to.send((took, (_peak() - before) / (left.nbytes + right.nbytes), verdict))


def _peak() -> int:
    status = proc.status(os.getpid())
    assert status
    return status.peak


def main(rows: int) -> None:
    spawn = multiprocessing.get_context("spawn")
    print(f"{rows:,} rows, six columns; memory as a share of both tables, beyond them")
    for way in WAYS:
        found = []
        for _ in range(_ROUNDS):
            get, put = spawn.Pipe()
            process = spawn.Process(target=_measured, args=(way, rows, put))
            process.start()
            found.append(get.recv())
            process.join()
        took = sorted(one[0] for one in found)[len(found) // 2]
        share = max(one[1] for one in found)
        print(f"{way:32} {took:6.2f} s  memory {share:5.2f}  {found[0][2]}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000_000)
