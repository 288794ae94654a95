"""How an engine carried out a statement, as one kind of tree whatever the engine.

Standard library only.
"""

import json
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from ivrell.core.records.wire import Step

EXPLAINED = ("select", "with", "insert", "update", "delete", "merge", "values", "from")
"""First words of statements that engines explain."""

_DETAIL = 400


def is_explained(text: str) -> bool:
    """Whether engines can explain a statement, by its first word."""
    words = text.lstrip("( \n").split(None, 1)
    return bool(words) and words[0].lower() in EXPLAINED


_BLOCKS = {
    "Shared Hit Blocks": "found in buffers",
    "Shared Read Blocks": "read",
    "Temp Read Blocks": "temporary read",
    "Temp Written Blocks": "temporary written",
}
_PG_DETAILS = (
    "Relation Name", "Index Name", "Index Cond", "Filter", "Hash Cond", "Merge Cond",
    "Join Filter", "Sort Key", "Group Key", "Sort Method", "Function Name", "CTE Name",
)  # fmt: skip


def from_postgres(told: Any) -> Step:
    """The tree of EXPLAIN (ANALYZE, BUFFERS, FORMAT JSON)."""
    document = json.loads(told) if isinstance(told, str) else told
    return _pg_step(document[0]["Plan"], 1)


def _pg_step(node: Mapping[str, Any], processes: int) -> Step:
    loops = int(node.get("Actual Loops", 0))
    below = processes
    if "Workers Launched" in node:
        below = 1 + int(node["Workers Launched"])
    steps = [_pg_step(child, below) for child in node.get("Plans", ())]
    # What the engine tells is per loop, and every process of a parallel part counts as one.
    spent = node.get("Actual Total Time", 0.0) / 1000 * loops
    of_children = sum(
        child.get("Actual Total Time", 0.0) / 1000 * int(child.get("Actual Loops", 0))
        / (below / processes)
        for child in node.get("Plans", ())
    )  # fmt: skip
    said = [_listed(node[name]) for name in _PG_DETAILS if node.get(name)]
    what = str(node["Node Type"])
    if node.get("Join Type") and node["Join Type"] != "Inner":
        what = f"{what} ({node['Join Type']})"
    blocks = {word: int(node[name]) for name, word in _BLOCKS.items() if node.get(name)}
    return Step(
        what,
        ", ".join(said)[:_DETAIL],
        float(node.get("Actual Rows", 0)) * max(1, loops) if loops else 0.0,
        float(node.get("Plan Rows", 0)) * max(1, loops),
        max(0.0, spent - of_children),
        loops,
        blocks,
        steps,
    )


def _listed(value: Any) -> str:
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


_WRAPPERS = {"RESULT_COLLECTOR", "EXPLAIN_ANALYZE"}
_EXPECTED = "Estimated Cardinality"


def from_duckdb(told: str) -> Step:
    """The tree of EXPLAIN (ANALYZE, FORMAT json)."""
    document = json.loads(told)
    return _duck_step(document["operator"][0])


def _duck_step(node: Mapping[str, Any]) -> Step:
    if node["type"] in _WRAPPERS and node.get("children"):
        return _duck_step(node["children"][0])
    extra = dict(node.get("extra_info") or {})
    expected = extra.pop(_EXPECTED, None)
    said = [_listed(value) for value in extra.values() if value]
    return Step(
        str(node["type"]).replace("_", " ").strip().capitalize(),
        ", ".join(said)[:_DETAIL],
        float(node.get("intermediate_rows", 0)),
        float(expected) if expected else None,
        float(node.get("timing", 0.0)),
        steps=[_duck_step(child) for child in node.get("children", ())],
    )


def from_sqlite(rows: Iterable[tuple[int, int, int, str]]) -> Step:
    """The tree of EXPLAIN QUERY PLAN: rows of id, parent, a number without use, and words.

    The engine counts neither rows nor time.
    """
    root = Step("Query")
    known = {0: root}
    for number, parent, _, words in rows:
        first, _, rest = words.partition(" ")
        step = Step(first.capitalize(), rest)
        known[number] = step
        known.get(parent, root).steps.append(step)
    return root.steps[0] if len(root.steps) == 1 else root


def from_lines(lines: Sequence[str]) -> Step:
    """What a server says of a statement in its own words, a step a line; or as a document, a step
    each part of it."""
    text = "\n".join(lines)
    try:
        document = json.loads(text)
    except ValueError:
        document = None
    if isinstance(document, dict):
        return _part("Query", document)
    root = Step("Query")
    below: list[tuple[int, Step]] = [(-1, root)]
    for line in text.splitlines():
        words = line.strip()
        if not words:
            continue
        depth = len(line) - len(line.lstrip(" ->|`"))
        while below[-1][0] >= depth:
            below.pop()
        step = Step(words.removeprefix("->").strip()[:_DETAIL])
        below[-1][1].steps.append(step)
        below.append((depth, step))
    return root.steps[0] if len(root.steps) == 1 else root


def _part(name: str, node: Mapping[str, Any]) -> Step:
    """A part of MariaDB's ANALYZE FORMAT=JSON: what has rows or time of its own is a step."""
    steps: list[Step] = []
    said = []
    for key, value in node.items():
        found = value if isinstance(value, list) else [value]
        parts = [one for one in found if isinstance(one, dict)]
        if parts and key not in _NO_STEPS:
            steps += [_part(key, part) for part in parts]
        elif not parts and not key.startswith("r_") and key not in ("rows", "cost"):
            said.append(f"{key.replace('_', ' ')} {_listed(value)}")
    loops = int(node.get("r_loops", 0) or 0)
    rows, expected = node.get("r_rows"), node.get("rows")
    spent = float(node.get("r_table_time_ms", 0.0) or 0.0) + float(
        node.get("r_other_time_ms", 0.0) or 0.0
    )
    return Step(
        name.replace("_", " ").capitalize(),
        ", ".join(said)[:_DETAIL],
        float(rows) * max(1, loops) if rows is not None else None,
        float(expected) * max(1, loops) if expected is not None else None,
        spent / 1000 if spent else None,
        loops or None,
        steps=steps,
    )


_NO_STEPS = ("query_optimization", "r_engine_stats")
