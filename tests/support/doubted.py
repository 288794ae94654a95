"""Made comparisons whose conclusion turns over in a known way."""

from dataclasses import dataclass

_HEAD = """format = "ivrell-comparison/1"
name = "{name}"
question = "How many passages has each lock?"
baseline = "steady"

[answer]
key = ["lock"]

[knobs]
rows = [20000]

[data]
seed = 11

[data.tables.passages]
rows = "{{rows}}"
{table}columns = [
  {{ name = "lock", kind = "category", {lock} }},
  {{ name = "toll", kind = "integer", low = 2, high = 90 }},
  {{ name = "paid", kind = "boolean" }},
{more}]

[[approach]]
id = "steady"
engine = "python"
code = '''
{reading}

def answer(data, knobs, stage):
    rows = read(data)
    time.sleep(0.12)
    return told(rows)
'''

[[approach]]
id = "quick"
engine = "python"
code = '''
{reading}

def answer(data, knobs, stage):
    rows = read(data)
{body}
    return told(rows)
'''
"""

_READING = """import csv
import time
from collections import Counter

def read(data):
    with open(data.passages, newline="") as lines:
        return [row for row in csv.DictReader(lines)]

def told(rows):
    counts = {}
    for row in rows:
        counts[row["lock"]] = counts.get(row["lock"], 0) + 1
    return [{"lock": lock or None, "n": n} for lock, n in counts.items()]"""


@dataclass(frozen=True)
class Doubted:
    """A comparison, and words of the changes at which its conclusion is known to turn over, or
    ``quick`` to be wrong; every other change leaves it as it is."""

    name: str
    text: str
    turns: tuple[str, ...] = ()
    wrong: tuple[str, ...] = ()


def _made(
    name: str,
    body: str,
    *,
    turns: tuple[str, ...] = (),
    wrong: tuple[str, ...] = (),
    lock: str = 'values = ["Ashby", "Fen", "Mill", "Oak"]',
    table: str = "",
    more: str = "",
) -> Doubted:
    lines = "\n".join(f"    {line}" for line in body.strip().splitlines())
    text = _HEAD.format(name=name, lock=lock, table=table, more=more, reading=_READING, body=lines)
    return Doubted(name, text, turns, wrong)


def _slow_where(condition: str) -> str:
    return f"time.sleep(0.4 if {condition} else 0.01)"


ALL = (
    _made("more rows", "time.sleep(len(rows) * 2e-6)", turns=("200,000 rows",)),
    _made("few rows", _slow_where("len(rows) < 5_000"), turns=("2,000 rows", "200 rows")),
    _made(
        "missing tolls",
        _slow_where('sum(not row["toll"] for row in rows) > 0.02 * len(rows)'),
        turns=("toll: a tenth missing",),
    ),
    _made(
        "uneven locks",
        _slow_where('max(Counter(row["lock"] for row in rows).values()) > 0.4 * len(rows)'),
        turns=("lock: a few values most of the time",),
    ),
    _made(
        "rarely paid",
        _slow_where('sum(row["paid"] == "true" for row in rows) < 0.1 * len(rows)'),
        turns=("paid: true in one of a hundred",),
    ),
    _made(
        "few tolls",
        _slow_where('len({row["toll"] for row in rows}) < 15'),
        turns=("toll: 10 different values",),
    ),
    _made(
        "long numbers",
        _slow_where('any(len(row["toll"]) > 8 for row in rows[:500])'),
        turns=("toll: numbers up to",),
    ),
    _made(
        "sorted by lock",
        _slow_where('all(a["lock"] <= b["lock"] for a, b in zip(rows[:400], rows[1:401]))'),
        turns=("sorted by lock",),
    ),
    _made(
        "repeated rows",
        _slow_where('len({row["number"] for row in rows}) < 0.95 * len(rows)'),
        more='  { name = "number", kind = "sequence" },\n',
        turns=("repeated rows", "number: a tenth missing"),
    ),
    _made(
        "locks without a name",
        'rows = [row for row in rows if row["lock"]]\ntime.sleep(0.01)',
        wrong=("lock: a tenth missing",),
    ),
)
"""Ten of them."""
