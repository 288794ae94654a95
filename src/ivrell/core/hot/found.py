"""Where a lane's time went: what was found of it, put together."""

from collections.abc import Iterator, Sequence

from ivrell.core.base.quantities import format_bytes, format_seconds
from ivrell.core.comparison.file import parse
from ivrell.core.engines.base import Approach
from ivrell.core.engines.registry import ENGINES
from ivrell.core.hot import planned, sampled
from ivrell.core.records.hot import HotFindings, HotLine, HotNode, HotWay
from ivrell.core.records.run import RunRecord
from ivrell.core.records.tries import TryOutcome
from ivrell.core.records.wire import EXPLAINED, HOT, RUN

_TOLD = 3
_HEAVY = 0.05
_GREW = 8 << 20


def mode_of(approach: Approach) -> str:
    """What a run of an approach does that is to tell where its time goes."""
    engine = ENGINES[approach.engine]
    if engine.explains(approach):
        return EXPLAINED
    return HOT if engine.language_of(approach) == "python" and hasattr(approach, "code") else RUN


def found_of(text: str, lane: str, outcome: TryOutcome) -> HotFindings:
    """What such a run says.

    Args:
        text: of the comparison.
        lane: its id.
        outcome: of the run.
    """
    approach = parse(text).approach_called(lane)
    code, run = approach.text(), outcome.run
    way: HotWay = "stages"
    lines: list[HotLine] = []
    nodes: list[HotNode] = []
    unseen: list[str] = []
    elapsed = run.elapsed_s if run else None
    cpu = run.cpu_s if run else None
    if outcome.hot is not None:
        way, elapsed, cpu = "sampled", outcome.hot.elapsed_s, outcome.hot.cpu_s
        lines, nodes = sampled.lines_of(outcome.hot, code), sampled.nodes_of(outcome.hot)
        unseen = list(sampled.unseen(outcome.hot, lines))
    elif outcome.plans:
        way, elapsed, cpu = "plan", None, None
        if planned.timed(outcome.plans):
            lines, nodes = planned.lines_of(outcome.plans, code), planned.nodes_of(outcome.plans)
        unseen = list(planned.unseen(outcome.plans, lines))
    elif run is not None:
        nodes = _stages(run)
        unseen = [
            "Only the stages that the lane names itself are known: what it runs is not Python."
        ]
    trouble = _trouble(run)
    return HotFindings(
        lane=lane, name=approach.label, way=way, point=outcome.point, elapsed_s=elapsed, cpu_s=cpu,
        lines=lines, nodes=nodes, unseen=unseen if not trouble else [], trouble=trouble,
        words=list(_words(approach.label, way, elapsed, lines, nodes)) if not trouble else [],
    )  # fmt: skip


def _trouble(run: RunRecord | None) -> str:
    if run is None:
        return "it was stopped before it ran"
    if run.error is not None:
        at = f" in line {run.error.line}" if run.error.line else ""
        return f"{run.error.kind}{at}: {run.error.message}"
    return "" if run.state == "done" else "it did not come to its end"


def _stages(run: RunRecord) -> list[HotNode]:
    stages = [
        HotNode(above=None, what=stage.name, line=None, own_s=stage.elapsed_s,
                whole_s=stage.elapsed_s)
        for stage in run.stages
    ]  # fmt: skip
    rest = (run.elapsed_s or 0.0) - sum(stage.own_s for stage in stages)
    if stages and rest > 0:
        stages.append(HotNode(above=None, what="outside of stages", line=None, own_s=rest,
                              whole_s=rest))  # fmt: skip
    return stages


def _words(
    name: str, way: HotWay, elapsed: float | None, lines: Sequence[HotLine],
    nodes: Sequence[HotNode],
) -> Iterator[str]:  # fmt: skip
    of = f" of {format_seconds(elapsed)}" if elapsed else ""
    heavy = sorted((x for x in lines if x.share >= _HEAVY), key=lambda x: -x.share)[:_TOLD]
    for place, line in enumerate(heavy):
        what = f" ({line.text})" if line.text else ""
        of_name = f"{of} of {name} is" if not place else " is"
        yield f"{100 * line.share:.0f} %{of_name} in {lines_told(line)}{what}."
    grew = max(lines, key=lambda x: x.grown_bytes, default=None)
    if grew is not None and grew.grown_bytes >= _GREW:
        yield f"Memory rises most in {lines_told(grew)}: by {format_bytes(grew.grown_bytes)}."
    if not lines and way != "sampled":
        whole = sum(node.own_s for node in nodes) or 1.0
        first = sorted(nodes, key=lambda node: -node.own_s)[:_TOLD]
        for node in first:
            if node.own_s / whole >= _HEAVY:
                yield f"{100 * node.own_s / whole:.0f} % of {name} is in {node.what}."
        if not nodes and way == "stages":
            yield f"{name} names no stages: nothing more than its whole time is known."


def lines_told(line: HotLine) -> str:
    """A line, or lines that cannot be told apart."""
    return f"line {line.line}" if line.first == line.line else f"lines {line.first} to {line.line}"
