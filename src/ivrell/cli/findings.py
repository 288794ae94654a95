"""Findings as the command line prints them: the conclusion, a table, what does not fit into it."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ivrell.cli.console import OUT
from ivrell.cli.drawing import Line, drawing
from ivrell.cli.tables import Heading, fits, table
from ivrell.core.base.help import command
from ivrell.core.base.quantities import (
    format_limit,
    format_seconds,
    in_unit,
    unit_named,
)
from ivrell.core.records.agreement import Row
from ivrell.core.records.findings import Caution, Findings, LaneFindings, Staircase, TrialFindings
from ivrell.core.records.sweep import SweepFindings
from ivrell.core.records.view import Board
from ivrell.core.report.sweep.along import told_bounds
from ivrell.core.report.view.board import ANSWER, board
from ivrell.core.report.words import common_cautions, knobs_told, ratio_told

if TYPE_CHECKING:
    from ivrell.core.trial.measured import PointMeasures

_EXAMPLES = 3
_MANY_POINTS = 2
"""Up to so many points have a table of their own each."""

_MOST_COLUMNS = 8


def findings(found: TrialFindings, folder: Path) -> None:
    """Print the findings: of few points each as a table with the conclusion above it, what the
    engines counted, stages, rows that differ and cautions; of many what is found along the knobs
    and one table of medians. What holds at every point stands there once."""
    everywhere = common_cautions(found.points)
    many = len(found.points) > _MANY_POINTS
    if many:
        _points(found.points)
    else:
        for point in found.points:
            _point(point, everywhere)
    for sweep in found.sweeps:
        _sweep(sweep, found.points)
    if many:
        _cautions_of_some(found.points, everywhere)
    if everywhere:
        if len(found.points) > 1:
            OUT.print("\nAt every point:")
        _cautions(everywhere)
    if many:
        OUT.print(f"\nEvery measure at every point: ivrell measures {folder}")
    state = "" if found.ended == "done" else f" (trial {found.ended})"
    if not many:
        OUT.print()
    OUT.print(f"Everything is in {folder}{state}.")


def _point(point: Findings, everywhere: Sequence[Caution]) -> None:
    OUT.print()
    told = (point.conclusion, point.tradeoff, point.target)
    OUT.print(" ".join(filter(None, told)))
    OUT.print(_board(point))
    counted_by_some = _counted_by_some(point.lanes)
    for lane in point.ranked:
        for line in _beneath(lane, counted_by_some):
            OUT.print(line)
    for stairs in point.staircases:
        _stairs(stairs)
    for claim in point.claims:
        OUT.print(f"Claim, {claim.state}: {claim.text}. {claim.reason}")
    _cautions([c for c in point.cautions if c not in everywhere])


def _points(points: Sequence[Findings]) -> None:
    """The first point's conclusion, medians of all lanes over the points, and their trouble."""
    first = points[0]
    OUT.print()
    OUT.print(" ".join(filter(None, (first.conclusion, first.tradeoff, first.target))))
    OUT.print()
    OUT.print(_medians(points))
    for id_ in first.ranking:
        odd = [p for p in points if any(_in_trouble(lane) for lane in p.lanes if lane.id == id_)]
        if not odd:
            continue
        lane = odd[0].lane(id_)
        where = f" (so at {len(odd)} of {len(points)} points)"
        OUT.print(f"{lane.name} at {_named(odd[0])}: {lane.trouble or _odd(lane)}{where}")
        for line in _beneath(lane, set()):
            OUT.print(line)
    for stairs in points[-1].staircases:
        _stairs(stairs)
    for point in points:
        for claim in point.claims:
            if claim.state != "not of this point":
                OUT.print(f"Claim, {claim.state} at {_named(point)}: {claim.text}. {claim.reason}")


def _medians(points: Sequence[Findings]) -> str:
    """Elapsed time of each lane over the points, or over as many of them as have room."""
    shown = min(len(points), _MOST_COLUMNS)
    while True:
        last = len(points) - 1
        some = [points[round(at * last / (shown - 1))] for at in range(shown)]
        headings = [Heading("lane", text=True, wraps=True)]
        headings += [Heading(f"{_named(point)} ") for point in some]
        rows = [
            [points[0].lane(id_).name, *(_median(point, id_) for point in some)]
            for id_ in points[0].ranking
        ]
        if shown <= _MANY_POINTS or fits(headings, rows):
            break
        shown -= 1
    left = "" if shown == len(points) else f" {shown} of {len(points)} points are shown."
    note = f"Medians of elapsed time; * the smallest of lanes with a right answer.{left}"
    return f"{table(headings, rows)}\n{note}"


def _median(point: Findings, id_: str) -> str:
    lane = next((lane for lane in point.lanes if lane.id == id_), None)
    if lane is None:
        return ""
    if lane.elapsed is None or lane.state != "done":
        return f"{lane.state} "
    trusted = [other.elapsed.median for other in point.lanes if other.trusted and other.elapsed]
    least = lane.trusted and lane.elapsed.median == min(trusted)
    return f"{format_seconds(lane.elapsed.median)}{'*' if least else ' '}"


def _named(point: Findings) -> str:
    return ", ".join(knobs_told(point.point, " "))


def _in_trouble(lane: LaneFindings) -> bool:
    return lane.state != "done" or (lane.agreement is not None and not lane.agreement.agrees)


def _odd(lane: LaneFindings) -> str:
    return _verdict(lane) if lane.state == "done" else lane.state


def _counted_by_some(lanes: Sequence[LaneFindings]) -> set[str]:
    """Counters that some lane has another value of than 0."""
    return {name for lane in lanes for name, value in lane.counters.items() if value}


def _cautions_of_some(points: Sequence[Findings], everywhere: Sequence[Caution]) -> None:
    """Cautions that do not hold everywhere: each kind once, and at how many points."""
    by_word: dict[str, list[tuple[Findings, Caution]]] = {}
    for point in points:
        for caution in point.cautions:
            if caution not in everywhere:
                by_word.setdefault(caution.word, []).append((point, caution))
    if by_word:
        OUT.print()
    for told in by_word.values():
        at = dict.fromkeys(_named(point) for point, _ in told)
        where = next(iter(at)) if len(at) == 1 else f"{len(at)} points, such as {next(iter(at))}"
        OUT.print(f"Caution at {where}, {_explained(told[0][1])}")


def _sweep(sweep: SweepFindings, points: Sequence[Findings]) -> None:
    """What is found along a knob: who leads where, how each lane's time grows, what it took."""
    names = {lane.id: lane.name for point in points for lane in point.lanes}
    along = " with ".join(filter(None, [sweep.knob, " and ".join(sweep.together)]))
    at = ", ".join(knobs_told(sweep.at, " "))
    OUT.print(f"\nOver {along}{f' at {at}' if at else ''}: {sweep.words}")
    if sweep.searched:
        OUT.print(f"  {sweep.searched}")
    if OUT.is_terminal:
        OUT.print(_drawn(sweep, points))
    for lead in sweep.leads:
        if lead.measure != "elapsed":
            OUT.print(f"  {lead.words}")
        elif lead.rule:
            OUT.print(
                f"  Of {lead.rule.held_out} sizes, each left out in its turn, the others name a "
                f"right lane for {lead.rule.named_right}."
            )
    for growth in sweep.growths:
        if growth.measure == "elapsed" and growth.laws:
            ahead = growth.ahead[-1] if growth.ahead else None
            told = (
                f" At {ahead.size:,.0f}, extrapolated: {format_seconds(ahead.value)} "
                f"({format_seconds(ahead.low)} to {format_seconds(ahead.high)})."
                if ahead
                else ""
            )
            OUT.print(f"  {names[growth.lane]} {growth.words}{told}")
    for left in sweep.left_behind:
        told = (
            f", where about {format_seconds(left.expected)} were expected" if left.expected else ""
        )
        OUT.print(f"  {names[left.lane]} was dropped at {sweep.knob} {left.from_size:,.0f}{told}.")
    for wall in sweep.walls:
        OUT.print(
            f"  {names[wall.lane]} would reach {format_limit(wall.limit_bytes)} of memory at "
            f"{sweep.knob} {told_bounds(wall.size, wall.low, wall.high)}."
        )
    if len({one.runs for one in sweep.spent}) > 1:
        spent = "; ".join(
            f"{one.runs} at {one.size:,.0f}{' (searched)' if one.searched else ''}"
            for one in sweep.spent
        )
        seconds = sum(one.seconds for one in sweep.spent)
        OUT.print(f"  Runs by size, in {format_seconds(seconds)}: {spent}.")


def _drawn(sweep: SweepFindings, points: Sequence[Findings]) -> str:
    """Elapsed time of the lanes with a right answer over a knob."""
    along = [point for point in points if sweep.holds(point.point)]
    lines: dict[str, dict[float, float]] = {}
    for point in along:
        size = point.point[sweep.knob]
        for lane in point.lanes:
            if lane.trusted and lane.elapsed and isinstance(size, int | float):
                lines.setdefault(lane.name, {})[float(size)] = lane.elapsed.median
    lead = sweep.lead("elapsed")
    return drawing(
        [Line(name, values) for name, values in lines.items()],
        [crossing.at for crossing in lead.crossings] if lead else [],
        format_seconds,
        lambda size: f"{size:,.0f}" if size == round(size) else f"{size:g}",
        OUT.width,
    )


_STEPS = (
    Heading("step", text=True),
    Heading("median"),
    Heading("against the step before", text=True),
    Heading("against the first", text=True),
    Heading("lines changed"),
    Heading("", text=True),
)


def _stairs(stairs: Staircase) -> None:
    """Lanes that descend from each other, a step a line."""
    rows = []
    for step in stairs.steps:
        words = [
            "wrong answer" if step.wrong else "",
            "slower than before" if step.slower else "",
            "first to meet the target" if step.lane == stairs.first_to_meet else "",
        ]
        rows.append([
            step.name,
            "" if step.elapsed_s is None else format_seconds(step.elapsed_s),
            ratio_told(step.gain), ratio_told(step.so_far),
            str(step.lines_changed), ", ".join(filter(None, words)),
        ])  # fmt: skip
    OUT.print()
    OUT.print(table(_STEPS, rows))


def _cautions(some: list[Caution]) -> None:
    for caution in some:
        OUT.print(f"Caution, {_explained(caution)}")


def _explained(one: Caution) -> str:
    return f"{one.word}: {one.reason} {one.hint} (More: {command(one.help)})"


def _beneath(lane: LaneFindings, counters: set[str]) -> list[str]:
    """What does not fit into a row: stages, these counters, an error's last lines, rows that
    differ."""
    lines = []
    named = [stage for stage in lane.stages if stage.name is not None]
    if named:
        told = [f"{stage.name} {format_seconds(stage.elapsed_s)}" for stage in named]
        beside = "; they overlap" if any(stage.overlaps for stage in named) else ""
        lines.append(f"  {lane.name}, stages: {', '.join(told)}{beside}")
    told = [
        f"{name} {in_unit(unit_named(name), value)}"
        for name, value in lane.counters.items()
        if name in counters
    ]
    if told:
        lines.append(f"  {lane.name}, counted: {', '.join(told)}")
    if lane.failure and lane.failure.printed:
        lines.append(f"  {lane.name} printed last:")
        lines += [f"    {line}" for line in lane.failure.printed.splitlines()]
    if lane.agreement and lane.agreement.broken_lines:
        lines.append(f"  {lane.name}: {lane.agreement.broken_lines}")
    if lane.agreement and not lane.agreement.agrees:
        lines.append(f"  {lane.name}, answer: {'; '.join(lane.agreement.reasons)}")
        for example in lane.agreement.examples[:_EXAMPLES]:
            sides = (("reference", example.reference), ("answer", example.answer))
            lines += [f"    {side:9} {_values(row)}" for side, row in sides]
    return lines


def _values(row: Row | None) -> str:
    if row is None:
        return "(no such row)"
    return ", ".join(f"{name} {'null' if v is None else v}" for name, v in row.items())


def _verdict(lane: LaneFindings) -> str:
    """The verdict on a lane's answer in full, or that it is the reference itself."""
    if lane.agreement is None:
        return ""
    return "the reference" if lane.agreement.itself else lane.agreement.verdict


def agreement(found: TrialFindings) -> None:
    """Print the verdict on each lane's answer, with its reasons and what it was held against."""
    for point in found.points:
        for lane in point.lanes:
            word = _verdict(lane) or lane.state
            reasons = "; ".join(lane.agreement.reasons) if lane.agreement else ""
            told = lane.trouble or reasons
            OUT.print(f"{lane.name}: {word}{f' ({told})' if told else ''}")
            agrees = lane.agreement is None or lane.agreement.agrees
            if not told.startswith(reasons) or not agrees:
                for line in _beneath(lane, set()):
                    OUT.print(line)
        _cautions([c for c in point.cautions if c.word in _OF_REFERENCES])


_OF_REFERENCES = ("other reference", "answer not checked")


_SPAN = "interval"
_DISPENSABLE = {"engine": 5, _SPAN: 3, "cpu_total": 1, "peak_memory": 2, "cores_busy": 4,
                "left_bytes": 6, "code_lines": 5}  # fmt: skip
"""Columns that give way where there is no room, those of the highest number first."""
_BESIDES = ("cores_busy", "left_bytes")
"""Columns that are no usual ones, where some lane has something there."""


def _board(point: Findings) -> str:
    """The board in words: its usual columns but the stages, which stand beneath it."""
    shown = board(point)
    columns = [
        heading
        for heading in shown.headings
        if heading.drawing != "parts" or heading.measure
        if heading.usual or (heading.key in _BESIDES and _told_by_some(shown, heading.key))
    ]
    # What is read last stands last.
    columns.sort(key=lambda heading: heading.key == ANSWER)
    headings = [Heading("lane", text=True, wraps=True), Heading("engine", text=True, dispensable=5)]
    for one in columns:
        word = "median" if one.drawing == "runs" else one.label
        text = one.drawing in ("interval", "words") and not one.measure
        headings.append(Heading(word, text=text, dispensable=_DISPENSABLE.get(one.key, 0)))
        if one.drawing == "runs":
            headings.append(Heading(_SPAN, dispensable=_DISPENSABLE[_SPAN]))
    rows = []
    for row in shown.rows:
        lane = point.lane(row.lane)
        line = [f"{lane.name}{' (baseline)' if lane.baseline else ''}", lane.engine]
        if row.trouble:
            rows.append([*line, row.trouble])
            continue
        for one in columns:
            cell = row.cells.get(one.key)
            line.append("" if cell is None or cell.text == "baseline" else cell.text)
            if one.drawing == "runs":
                line.append(cell.more if cell else "")
        rows.append(line)
    return table(headings, rows)


def _told_by_some(shown: Board, key: str) -> bool:
    return any(row.cells[key].value for row in shown.rows if key in row.cells)


def measures(points: "list[PointMeasures]") -> None:
    """Print every measure at every point: a row a measure, a column a lane."""
    for point in points:
        lanes = list(dict.fromkeys(lane for row in point.rows for lane in row.lanes))
        headings = [
            Heading("measure", text=True, wraps=True),
            *(Heading(point.names[lane]) for lane in lanes),
        ]
        rows = []
        for row in point.rows:
            known = row.lanes
            cells = [in_unit(row.unit, known[lane].median) if lane in known else ""
                     for lane in lanes]  # fmt: skip
            rows.append([row.label, *cells])
        OUT.print()
        if point.point:
            OUT.print(", ".join(f"{name} {value}" for name, value in point.point.items()))
        OUT.print(table(headings, rows) if rows else "No run has been counted here.")
