"""The board: lanes side by side, a column a measure. The page, the terminal and the report draw
what stands here; a new measure is a column of it without a line more."""

from collections.abc import Iterable, Mapping

from ivrell.core.base.quantities import format_bytes, format_seconds, in_unit
from ivrell.core.comparison.model import Targets
from ivrell.core.records.findings import (
    Findings,
    LaneFindings,
    Measured,
    MeasureRow,
    Ratio,
    Summary,
)
from ivrell.core.records.view import Board, BoardCell, BoardRow, Heading, Part, Tone
from ivrell.core.report.words import about_ratio, answer_told, ratio_told, times_less

RATIO, STAGES, ANSWER = "ratio", "stages", "answer"
_PARTS = (
    Heading(key=RATIO, label="against the baseline", unit="", drawing="interval", usual=True,
            measure=False, how="Elapsed time against the baseline's, with its interval."),
    Heading(key=STAGES, label="stages", unit="seconds", drawing="parts", usual=True,
            measure=False, how="Where the time goes, by the stages that the code names."),
    Heading(key=ANSWER, label="answer", unit="", drawing="words", usual=True, measure=False,
            how="Whether it agrees with the reference, and how many rows it has."),
)  # fmt: skip
_ELAPSED = Heading(
    key="elapsed", label="elapsed", note="median, interval, every run", unit="seconds",
    drawing="runs", usual=True, how="From the call of the approach to its answer, whole.",
)  # fmt: skip
_DRAWN: Mapping[str, Heading] = {
    "elapsed": _ELAPSED,
    "code_lines": Heading(key="code_lines", label="lines", unit="count", drawing="words",
                          usual=True, how="Lines that hold code, without blank ones and comments."),
}  # fmt: skip
_WHOLE_CORE = 0.95
_USUAL_BARS = {"cpu_total": "parts", "peak_memory": "bar"}
_ORDER = ("elapsed", RATIO, "cpu_total", "peak_memory", STAGES, "code_lines", ANSWER)
"""The usual columns, in their order; the others follow as the measures stand."""


def board(found: Findings, targets: Targets | None = None) -> Board:
    """The board of the findings at a point; what misses a target is told where there are any."""
    rows = {row.key: row for row in found.measures}
    return Board(
        headings=_headings(found.measures),
        rows=[
            BoardRow(
                lane=lane.id,
                trouble=_trouble(lane),
                cells={**_own_cells(lane), **_cells(lane, rows, targets or Targets())},
            )
            for lane in found.ranked
        ],
    )


def _trouble(lane: LaneFindings) -> str:
    """What stands in the place of a lane's figures where it has none."""
    return "" if lane.elapsed and lane.state == "done" else lane.trouble or lane.state


def _headings(measures: Iterable[MeasureRow]) -> list[Heading]:
    headings = {heading.key: heading for heading in (_ELAPSED, *_PARTS)}
    headings |= {row.key: _heading(row) for row in measures}
    usual = [headings.pop(key) for key in _ORDER if key in headings]
    return [*usual, *headings.values()]


def _heading(row: MeasureRow) -> Heading:
    if row.key in _DRAWN:
        return _DRAWN[row.key]
    usual = row.key in _USUAL_BARS
    return Heading(
        key=row.key, label=row.label, how=row.how, unit=row.unit, usual=usual,
        drawing="parts" if _USUAL_BARS.get(row.key) == "parts" else "bar",
    )  # fmt: skip


def _own_cells(lane: LaneFindings) -> dict[str, BoardCell]:
    """Cells that are no measure's."""
    cells = {}
    if lane.baseline:
        cells[RATIO] = BoardCell(text="baseline")
    elif lane.ratio:
        cells[RATIO] = BoardCell(text=ratio_told(lane.ratio), about=about_ratio(lane.ratio))
    if lane.stages:
        cells[STAGES] = _stages(lane)
    if lane.agreement:
        rows = lane.answer_rows
        size = "" if rows is None else f"{rows:,} row{'' if rows == 1 else 's'}"
        tone: Tone = "plain" if lane.agreement.agrees else "bad"
        cells[ANSWER] = BoardCell(text=answer_told(lane), more=size, tone=tone)
    return cells


def _stages(lane: LaneFindings) -> BoardCell:
    biggest = max(lane.stages, key=lambda stage: stage.elapsed_s)
    overlap = any(stage.overlaps for stage in lane.stages)
    total = sum(stage.elapsed_s for stage in lane.stages) or 1.0
    name = biggest.name or "outside stages"
    if biggest.name is None and len(lane.stages) == 1:
        text = "no stages named"
    elif overlap:
        text = f"{name} {format_seconds(biggest.elapsed_s)}; stages overlap"
    else:
        text = f"{name} {100 * biggest.elapsed_s / total:.0f} %"
    told = [f"{one.name or 'outside stages'}: {format_seconds(one.elapsed_s)}"
            for one in lane.stages]  # fmt: skip
    parts = [Part(name=stage.name, value=stage.elapsed_s) for stage in lane.stages]
    return BoardCell(text=text, about="\n".join(told), parts=parts, overlap=overlap)


def _cells(
    lane: LaneFindings, rows: Mapping[str, MeasureRow], targets: Targets
) -> dict[str, BoardCell]:
    cells = {
        key: _measured(row, row.lanes[lane.id], lane)
        for key, row in rows.items()
        if lane.id in row.lanes
    }
    if "elapsed" in cells:
        cells["elapsed"] = cells["elapsed"].model_copy(update={"more": _interval(lane.elapsed)})
    if "cpu_total" in cells and (busy := rows.get("cores_busy")) and lane.id in busy.lanes:
        cells["cpu_total"] = _cpu(cells["cpu_total"], lane, busy.lanes[lane.id])
    if "code_lines" in cells:
        cells["code_lines"] = cells["code_lines"].model_copy(update={"more": ""})
    if "peak_memory" in cells:
        cells["peak_memory"] = _memory(cells["peak_memory"], lane, targets.memory)
    return cells


def _interval(elapsed: Summary | None) -> str:
    """The interval of the median, where there is one."""
    if elapsed is None or elapsed.low is None or elapsed.high is None:
        return ""
    return f"{format_seconds(elapsed.low)} to {format_seconds(elapsed.high)}"


def _measured(row: MeasureRow, value: Measured, lane: LaneFindings) -> BoardCell:
    runs = f"{value.count} run{'' if value.count == 1 else 's'}"
    span = f"{in_unit(row.unit, value.smallest)} to {in_unit(row.unit, value.largest)}, {runs}"
    ratio = None if lane.baseline else value.ratio
    return BoardCell(
        text=in_unit(row.unit, value.median),
        more=_short(ratio),
        about="; ".join(filter(None, (span, about_ratio(ratio) if ratio else ""))),
        value=value.median,
    )


def _short(ratio: Ratio | None) -> str:
    """The verdict without its interval, where there is one to tell."""
    if ratio is None or ratio.verdict == "no difference that matters":
        return ""
    return times_less(ratio)


def _cpu(cell: BoardCell, lane: LaneFindings, busy: Measured) -> BoardCell:
    """With how many cores were busy, in parts of the programs' own code and the kernel's."""
    cores = f"{busy.median:.1f}" if busy.median >= _WHOLE_CORE else f"{busy.median:.2g}"
    update: dict[str, object] = {"more": f"{cores} cores"}
    if lane.cpu_user and lane.cpu_system:
        user, system = lane.cpu_user.median, lane.cpu_system.median
        update["parts"] = [Part(name="user", value=user), Part(name="system", value=system)]
        update["about"] = f"user {format_seconds(user)}, system {format_seconds(system)}"
    return cell.model_copy(update=update)


def _memory(cell: BoardCell, lane: LaneFindings, target: float | None) -> BoardCell:
    over = target is not None and cell.value is not None and cell.value > target
    whole = lane.peak_memory_absolute
    about = "above its start" + (f"; {format_bytes(whole.median)} in all" if whole else "")
    return cell.model_copy(
        update={
            "more": "",
            "about": about + ("; over the target" if over else ""),
            "tone": "caution" if over else "plain",
        }
    )
