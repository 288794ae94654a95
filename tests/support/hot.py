"""Programs whose hot line is known: it is the one that ends in ``# hot``."""

from dataclasses import dataclass
from typing import Literal

_HEAD = """format = "ivrell-comparison/1"
name = "Hot lines"

[knobs]
rows = [{rows}]

[data]
seed = 3

[data.tables.passages]
rows = "{{rows}}"
columns = [
  {{ name = "lock", kind = "category", values = ["Ashby", "Fen", "Mill"] }},
  {{ name = "toll", kind = "integer", low = 2, high = 90 }},
]

[[approach]]
id = "lane"
engine = "python"
code = \'\'\'
{code}\'\'\'
"""


@dataclass(frozen=True)
class Hot:
    """A program, the line that is hot, and by what."""

    name: str
    text: str
    line: int
    by: Literal["time", "cpu", "memory"]


def _made(
    name: str, code: str, by: Literal["time", "cpu", "memory"] = "time", rows: int = 1000
) -> Hot:
    code = code.strip() + "\n"
    line = next(n for n, text in enumerate(code.splitlines(), 1) if text.endswith("# hot"))
    return Hot(name, _HEAD.format(code=code, rows=rows), line, by)


PROGRAMS = (
    _made("a loop that calls", '''
def weigh(x):
    return x * 3 % 7

def answer(data, knobs, stage):
    total = 0
    for i in range(300_000):
        total += i
    for i in range(300_000):
        total += len(str(i ** 5)) + abs(i) + max(i, 3)  # hot
    for i in range(200_000):
        total += weigh(i)
    return [{"total": total}]
'''),
    _made("a loop without calls", '''
def answer(data, knobs, stage):
    total = 0
    for i in range(2_000_000):
        total += i * i % 7 + i * 3 % 5 - i % 11  # hot
    for i in range(200_000):
        total -= abs(i)
    return [{"total": total}]
'''),
    _made("sorting in C", '''
def answer(data, knobs, stage):
    values = [i * 7919 % 1_000_003 for i in range(200_000)]
    for _ in range(12):
        ordered = sorted(values)  # hot
    return [{"first": ordered[0]}]
'''),
    _made("reading text", '''
import csv

def answer(data, knobs, stage):
    counts = {}
    for row in csv.DictReader(open(data.passages, newline="")):  # hot
        counts[row["lock"]] = counts.get(row["lock"], 0) + 1
    return [{"lock": lock, "n": n} for lock, n in counts.items()]
''', rows=300_000),
    _made("pandas by group", '''
import pandas as pd

def answer(data, knobs, stage):
    table = pd.read_csv(data.passages)
    table["double"] = table["toll"] * 2
    found = table.groupby("lock")["toll"].apply(lambda tolls: sum(int(t) for t in tolls))  # hot
    return found.reset_index()
''', rows=300_000),
    _made("threads that compute", '''
import threading

def busy(n):
    total = 0
    for i in range(n):
        total += len(str(i))  # hot
    return total

def answer(data, knobs, stage):
    threads = [threading.Thread(target=busy, args=(700_000,)) for _ in range(2)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    return [{"n": 2}]
''', by="cpu"),
    _made("child processes", '''
import multiprocessing

def busy(n):
    total = 0
    for i in range(n):
        total += len(str(i))  # hot
    return total

def answer(data, knobs, stage):
    with multiprocessing.Pool(2) as pool:
        total = sum(pool.map(busy, [900_000, 900_000]))
    return [{"total": total}]
''', by="cpu"),
    _made("native threads", '''
import polars as pl

def answer(data, knobs, stage):
    table = pl.read_csv(data.passages)
    wide = pl.concat([table] * 12)
    found = wide.sort("toll", "lock").with_columns(pl.col("toll").rank().over("lock"))  # hot
    return found.group_by("lock").agg(pl.len().alias("n"))
''', rows=300_000),
    _made("waiting", '''
import time

def answer(data, knobs, stage):
    total = sum(i * i for i in range(200_000))
    time.sleep(0.7)  # hot
    return [{"total": total}]
'''),
    _made("memory", '''
import numpy as np

def answer(data, knobs, stage):
    small = np.ones(1_000_000)
    large = np.ones(20_000_000)  # hot
    again = np.ones(500_000)
    return [{"sum": float(large.sum() + small.sum() + again.sum())}]
''', by="memory"),
)  # fmt: skip
"""Ten of them."""
