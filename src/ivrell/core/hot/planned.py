"""What an engine's own plan says of the lines of a statement."""

import re
from collections import defaultdict
from collections.abc import Iterator, Sequence

from ivrell.core.records.hot import HotLine, HotNode
from ivrell.core.records.wire import StatementPlan, Step

_NAME = re.compile(r"[a-z_][a-z0-9_]*")
_CLAUSES: tuple[tuple[tuple[str, ...], tuple[str, ...]], ...] = (
    (("sort", "order", "top"), ("order by", "over", "sort by")),
    (("window",), ("over", "window")),
    (("group", "aggregate"), ("group by", "count", "sum", "avg", "min", "max", "distinct")),
    (("unique", "distinct"), ("distinct", "union")),
    (("limit",), ("limit", "fetch first")),
    (("join", "loop", "hash"), ("join", "using", "where", "on", "in", "exists", "from")),
    (("scan", "search", "seek", "lookup"), ("from", "join", "update", "into", "using")),
    (("filter",), ("where", "having", "on", "filter")),
    (("append", "union"), ("union",)),
    (("projection", "result"), ("select",)),
)
"""Words of steps, and words of the clauses that ask for such a step."""

_WORDS = """
select from where and or on as by is not null in the join left right inner outer group order with
using case when then else end between like asc desc true false text integer
"""
_COMMON = frozenset(_NAME.findall(_WORDS))


def nodes_of(plans: Sequence[StatementPlan]) -> list[HotNode]:
    """The statements and their steps; of statements that were not explained there is none."""
    nodes: list[HotNode] = []
    for statement in plans:
        if statement.plan is None:
            continue
        place = len(nodes)
        first = (statement.text.strip().splitlines() or [""])[0]
        nodes.append(_node(None, first.rstrip(" ,"), statement.line, 0.0, _whole(statement.plan)))
        nodes += _below(statement.plan, place, place + 1, statement)
    return nodes


def _below(step: Step, above: int, number: int, statement: StatementPlan) -> list[HotNode]:
    what = f"{step.what} {step.detail}".strip()
    own = step.own_s or 0.0
    found = [_node(above, what, line_of(step, statement), own, _whole(step))]
    for part in step.steps:
        found += _below(part, number, number + len(found), statement)
    return found


def _node(above: int | None, what: str, line: int | None, own: float, whole: float) -> HotNode:
    return HotNode(above=above, what=what, line=line, own_s=own, whole_s=whole)


def _whole(step: Step) -> float:
    return (step.own_s or 0.0) + sum(map(_whole, step.steps))


def timed(plans: Sequence[StatementPlan]) -> bool:
    """Whether the engine timed the steps."""
    return any(_whole(one.plan) > 0 for one in plans if one.plan)


def line_of(step: Step, statement: StatementPlan) -> int | None:
    """The line of the lane that asks for a step: where the clause for such steps stands, and more
    of the names that it works on than on any other; None where two lines fit alike, or none."""
    what = step.what.lower()
    clauses = next((asked for words, asked in _CLAUSES if any(w in what for w in words)), ())
    names = set(_NAME.findall(step.detail.lower())) - _COMMON
    scores = []
    for number, text in enumerate(statement.text.splitlines()):
        line = re.sub(r"--.*", "", text.lower())
        # The clause that is named first asks most surely for such a step.
        asks = next((n for n, c in enumerate(clauses) if re.search(rf"\b{c}\b", line)), None)
        shared = len(names & set(_NAME.findall(line)))
        if asks is not None:
            scores.append(((2 + shared if shared or not names else 1) - asks / 10, number))
        elif shared > 1:
            scores.append((shared - 1.0, number))
    if not scores:
        return None
    best = max(score for score, _ in scores)
    found = [number for score, number in scores if score == best]
    return statement.line + found[0] if len(found) == 1 else None


def lines_of(plans: Sequence[StatementPlan], code: str) -> list[HotLine]:
    """The lines that steps were told to, with their seconds."""
    spent: dict[int, float] = defaultdict(float)
    for node in nodes_of(plans):
        if node.line is not None and node.above is not None:
            spent[node.line] += node.own_s
    seconds = sum(_whole(one.plan) for one in plans if one.plan) or 1.0
    texts = code.splitlines()
    return [
        HotLine(
            first=line, line=line, elapsed_s=took, share=took / seconds, whole_s=took,
            text=texts[line - 1].strip() if 0 < line <= len(texts) else "",
        )
        for line, took in sorted(spent.items()) if took > 0
    ]  # fmt: skip


def unseen(plans: Sequence[StatementPlan], lines: Sequence[HotLine]) -> Iterator[str]:
    """What the plans cannot tell."""
    if not timed(plans):
        yield "The engine says which steps it takes, not how long each took."
        return
    told = sum(line.share for line in lines)
    if told < 0.99:
        yield f"{100 * (1 - told):.0f} % of the time is in steps that no single line asks for."
    yield (
        "A step's time is that of all threads of the engine together, while it tells how it works; "
        "sending the answer, and reading it, are not in it."
    )
    unexplained = sum(one.plan is None for one in plans)
    if unexplained:
        yield f"{unexplained} of {len(plans)} statements cannot be explained."
