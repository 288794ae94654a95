"""How an engine carried out a statement, as one kind of tree whatever the engine.

Standard library only.
"""

import json
from collections.abc import Iterable, Mapping
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
