"""Lanes that were not given the same task: other inputs, work outside the clock, no result."""

from collections.abc import Iterator

from ivrell.core.base.quantities import format_bytes, format_seconds, three_figures
from ivrell.core.engines.registry import ENGINES
from ivrell.core.engines.sheet import SheetApproach
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.records.findings import Caution, LaneFindings
from ivrell.core.stats.cautions.scene import Scene, caution, seconds
from ivrell.core.tasks.afterwards import CPU as AFTER_CPU
from ivrell.core.tasks.afterwards import PROCESSES as AFTER_PROCESSES

_OUTSIDE = 0.1
_LIKE, _LIKE_SESSION = 2.0, 3.0
_AFTER_S = 0.005
_OUTSIDE_S = 0.05
_TEXT = ("csv", "csv.gz", "csv.zst", "jsonl", "fixed")
_FAR_LARGER = 10
_NAMED = 3


def _input(lane: LaneFindings) -> str:
    """What a lane reads: text, a columnar file, or tables that were loaded beforehand."""
    form = lane.input.split(" ")[0]
    if form in DATABASES or lane.input.startswith("tables"):
        return "tables that were loaded beforehand"
    return "text" if form in _TEXT else "files that need no parsing"


def unlike_inputs(scene: Scene) -> Iterator[Caution]:
    """Whether some lanes parse text while others get it parsed, or loaded, beforehand."""
    by_input: dict[str, list[str]] = {}
    for lane in scene.lanes:
        if lane.elapsed:
            by_input.setdefault(_input(lane), []).append(lane.name)
    if len(by_input) < 2:
        return
    told = [
        f"{_listed(names)} {'reads' if len(names) == 1 else 'read'} {what}"
        for what, names in by_input.items()
    ]
    spent: dict[str, float] = {}
    for table in scene.made_here():
        if table.form in DATABASES:
            spent[table.form] = spent.get(table.form, 0.0) + table.seconds
    cost = "".join(
        f" Loading into {engine} took {format_seconds(seconds)}, which is not included in run "
        "times."
        for engine, seconds in spent.items()
    )
    yield caution(
        "unlike inputs",
        f"{'; '.join(told)}.{cost}",
        "That is fair where the data lies there anyway; else give every lane the same form, or "
        "count the loading in.",
    )


def sorted_beforehand(scene: Scene) -> Iterator[Caution]:
    """Whether some sheets get their tables sorted and others do not."""
    if scene.comparison is None:
        return
    ran = {lane.id: lane.name for lane in scene.lanes if lane.elapsed}
    sheets = [a for a in scene.comparison.approach if isinstance(a, SheetApproach) and a.id in ran]
    given = [ran[a.id] for a in sheets if a.sorted]
    without = [ran[a.id] for a in sheets if not a.sorted]
    if given and without:
        yield caution(
            "sorted beforehand",
            f"{_listed(given)} {'gets' if len(given) == 1 else 'get'} tables sorted before the "
            f"clock starts; {_listed(without)} {'does' if len(without) == 1 else 'do'} not.",
            "Sort for every lane or for none, or let the lane sort inside its timed part.",
        )


def result_discarded(scene: Scene) -> Iterator[Caution]:
    """Whether some lanes hand their rows over and others do not."""
    ran = [lane for lane in scene.lanes if lane.elapsed]
    handed = [lane for lane in ran if lane.answer_rows]
    for lane in ran:
        if handed and not lane.answer_rows and not (lane.agreement and lane.agreement.itself):
            yield caution(
                "result discarded",
                f"{lane.name} hands over no rows, while {handed[0].name} hands over "
                f"{handed[0].answer_rows:,}: making and moving them is part of its time alone.",
                "Let every lane give its answer, or none.",
                lane.id,
            )


def outside_the_clock(scene: Scene) -> Iterator[Caution]:
    """Whether a lane works more before the clock starts than others of its engine; by CPU time,
    for a start that other programs held up is no work."""
    least: dict[str, float] = {}
    for lane in scene.lanes:
        if lane.start_cpu is not None:
            least[lane.engine] = min(least.get(lane.engine, lane.start_cpu), lane.start_cpu)
    for lane in scene.lanes:
        if lane.start_cpu is None or not lane.elapsed:
            continue
        dear = lane.engine in ENGINES and ENGINES[lane.engine].warm_up_calls > 0
        # The same start takes now 0.10 s of CPU time, now 0.17; a session's now eight, now twelve.
        if lane.start_cpu < (_LIKE_SESSION if dear else _LIKE) * least[lane.engine]:
            continue
        more = lane.start_cpu - least[lane.engine]
        if more > max(_OUTSIDE * lane.elapsed.median, _OUTSIDE_S):
            yield caution(
                "work outside the clock",
                f"{lane.name} uses {format_seconds(more)} of CPU time more than the leanest "
                f"starter of {lane.engine} before its clock starts, "
                f"{three_figures(100 * more / lane.elapsed.median)} % of its time: imports, set-up "
                "or code of its module.",
                "Move work that belongs to the task into the timed part, or look at start and "
                "imports beside elapsed time.",
                lane.id,
                seconds(more),
            )


def after_the_answer(scene: Scene) -> Iterator[Caution]:
    """Whether a lane went on working once its answer was there and the clock had stopped."""
    for lane in scene.lanes:
        used, left = lane.counters.get(AFTER_CPU, 0.0), lane.counters.get(AFTER_PROCESSES, 0.0)
        if not lane.elapsed or (used < _AFTER_S and not left):
            continue
        told = [f"used {format_seconds(used)} of CPU time"] if used >= _AFTER_S else []
        if left:
            told.append(f"left {left:.0f} {'process' if left == 1 else 'processes'} running")
        yield caution(
            "work after the answer",
            f"{lane.name} {' and '.join(told)} after it gave its answer, when the clock had "
            "stopped: that is no part of its time.",
            "Wait for threads and processes before the answer is returned.",
            lane.id,
            seconds(used) if used else None,
        )


def fits_the_cache(scene: Scene) -> Iterator[Caution]:
    """Whether the data at this point fits the processor's cache while larger is asked about."""
    cache = scene.machine.cache_bytes
    if cache is None or scene.comparison is None:
        return
    sizes: dict[str, int] = {}
    for table in scene.made_here():
        if table.size_bytes:
            sizes[table.table] = min(sizes.get(table.table, table.size_bytes), table.size_bytes)
    total = sum(sizes.values())
    if not sizes or total > cache:
        return
    for knob, values in scene.comparison.knobs.items():
        here, numbers = scene.point.get(knob), [v for v in values if isinstance(v, int | float)]
        sized = any(table.rows == f"{{{knob}}}" for table in scene.comparison.data.tables.values())
        if sized and isinstance(here, int | float) and max(numbers) >= _FAR_LARGER * here:
            yield caution(
                "fits the cache",
                f"All input is {format_bytes(total)} here and fits the processor's cache "
                f"({format_bytes(cache)}), while {knob} may be {max(numbers):,}: what a lane gains "
                "from the cache it loses there.",
                f"Look at {knob} = {max(numbers):,} before you decide for that size.",
            )


def _listed(names: list[str]) -> str:
    if len(names) > _NAMED:
        names = [*names[: _NAMED - 1], f"{len(names) - _NAMED + 1} others"]
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
