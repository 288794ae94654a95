"""Every figure that a lane is compared by: one entry a measure.

Findings, report, command line, API, page and CSV show what stands here and nothing else. A new
measure is one entry; what engines count of a run comes as measures of its own.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from ivrell.core.base.quantities import in_unit, unit_named
from ivrell.core.comparison.model import Comparison
from ivrell.core.engines.registry import ENGINES
from ivrell.core.records.findings import Better, Measured, MeasureRow, Ratio, Summary
from ivrell.core.records.pair import MeasurePair
from ivrell.core.records.points import Point
from ivrell.core.records.run import RunRecord
from ivrell.core.report.code_lines import code_lines
from ivrell.core.stats.contrasts import turned
from ivrell.core.stats.summary import summarize


@dataclass(frozen=True)
class Ground:
    """What a run stands on besides itself: rows of the tables that went in (None where that cannot
    be told), lines of the approach's code."""

    input_rows: int | None
    code_lines: int


@dataclass(frozen=True)
class Measure:
    """One measure.

    Attributes:
        key: its name in files, addresses and the API.
        label: its name for people.
        unit: of its values, any word; see in_unit for those that are told in a way of their own.
        better: which way is better; neither where it only explains another.
        how: how it is got, in a sentence.
        of: its value of one run, or None where the run does not tell it.
    """

    key: str
    label: str
    unit: str
    better: Better
    how: str
    of: Callable[[RunRecord, Ground], float | None]

    def words(self, value: float) -> str:
        """A value as people read it."""
        return in_unit(self.unit, value)


def _field(name: str) -> Callable[[RunRecord, Ground], float | None]:
    def of(run: RunRecord, ground: Ground) -> float | None:
        found = getattr(run, name)
        return None if found is None else float(found)

    return of


def _cpu(run: RunRecord, ground: Ground) -> float | None:
    return run.cpu_s


def _cores(run: RunRecord, ground: Ground) -> float | None:
    return None if run.cpu_s is None or not run.elapsed_s else run.cpu_s / run.elapsed_s


def _peak(run: RunRecord, ground: Ground) -> float | None:
    found = run.peak_above_start_bytes
    return None if found is None else float(found)


def _per_million(run: RunRecord, ground: Ground) -> float | None:
    if run.cpu_s is None or not ground.input_rows:
        return None
    return run.cpu_s * 1e6 / ground.input_rows


MEASURES = (
    Measure("elapsed", "elapsed time", "seconds", "lower",
            "From the call of the approach to its answer, whole.", _field("elapsed_s")),
    Measure("cpu_total", "CPU time", "seconds", "lower",
            "User and system time of all that the run started, as the system counts it.", _cpu),
    Measure("cpu_user", "CPU time, user", "seconds", "lower",
            "In the programs' own code.", _field("cpu_user_s")),
    Measure("cpu_system", "CPU time, system", "seconds", "lower",
            "In the kernel on their behalf.", _field("cpu_system_s")),
    Measure("cpu_per_million_rows", "CPU time per million rows", "seconds", "lower",
            "CPU time over the rows of all tables that went in.", _per_million),
    Measure("cores_busy", "cores busy", "cores", "neither",
            "CPU time over elapsed time.", _cores),
    Measure("peak_memory", "peak memory", "bytes", "lower",
            "The most that was held, beyond what was held when the clock started.", _peak),
    Measure("peak_memory_absolute", "peak memory, all", "bytes", "lower",
            "The most that was held, libraries and interpreter included.",
            _field("peak_memory_bytes")),
    Measure("read_bytes", "bytes read from disk", "bytes", "lower",
            "What came from the disk and not from the page cache.", _field("read_bytes")),
    Measure("written_bytes", "bytes written to disk", "bytes", "lower",
            "What was sent to the disk.", _field("written_bytes")),
    Measure("run_queue_wait", "run-queue wait", "seconds", "lower",
            "Time that threads were ready and no core was free, of all threads.",
            _field("run_queue_wait_s")),
    Measure("page_faults", "page faults", "count", "lower",
            "Pages that the kernel had to bring in.", _field("page_faults")),
    Measure("context_switches", "context switches", "count", "lower",
            "Times that a thread gave way.", _field("context_switches")),
    Measure("start", "start and imports", "seconds", "lower",
            "From the start of the process until the clock started; no part of elapsed time.",
            _field("start_s")),
    Measure("first_call", "first call", "seconds", "lower",
            "The first of several calls in one process.", _field("first_elapsed_s")),
    Measure("tables", "table preparation", "seconds", "neither",
            "Bringing tables into the asked state before and between calls; not timed.",
            _field("tables_s")),
    Measure("left_bytes", "bytes of files left", "bytes", "lower",
            "Files that the run left in its folder.", _field("left_bytes")),
    Measure("answer_bytes", "size of the answer", "bytes", "neither",
            "The answer as it was handed over.", _field("answer_bytes")),
    Measure("answer_rows", "rows of the answer", "count", "neither",
            "Rows that were handed over.", _field("answer_rows")),
    Measure("code_lines", "lines of code", "count", "lower",
            "Lines that hold code, without blank ones and comments.",
            lambda run, ground: float(ground.code_lines)),
)  # fmt: skip


BY_KEY = {measure.key: measure for measure in MEASURES}


def counter_measure(name: str) -> Measure:
    """The measure of what an engine counts under a name; its unit stands at the name's end."""

    def of(run: RunRecord, ground: Ground) -> float | None:
        return run.counters.get(name)

    how = "Counted by the engine over the timed part."
    return Measure(f"counter.{name}", name, unit_named(name), "neither", how, of)


@dataclass(frozen=True)
class Values:
    """A measure at a point: its values by lane and round, lanes in the file's order; those that do
    not tell it are not among them."""

    measure: Measure
    lanes: dict[str, dict[int, float]]

    @cached_property
    def summaries(self) -> dict[str, Summary]:
        """What the values of each lane say."""
        return {lane: summarize(list(own.values())) for lane, own in self.lanes.items()}


def values_at(comparison: Comparison, runs: Sequence[RunRecord], point: Point) -> dict[str, Values]:
    """Every measure that some lane tells at a point by its key, engine counters last.

    ``runs`` are those at the point; warm-ups and runs that were not done count for nothing. Of a
    lane whose memory needs a run of its own the memory is that run's.
    """
    rows = input_rows(comparison, point)
    lanes: dict[str, tuple[list[RunRecord], list[RunRecord], Ground]] = {}
    for approach in comparison.approach:
        own = [r for r in runs if r.approach == approach.id and r.state == "done"]
        counted = [run for run in own if run.counted]
        if counted:
            lines = code_lines(approach.text(), ENGINES[approach.engine].language_of(approach))
            closely = [run for run in own if run.memory_run]
            lanes[approach.id] = counted, closely or counted, Ground(rows, lines)
    names = {name for counted, _, _ in lanes.values() for r in counted for name in r.counters}
    found = {}
    for measure in (*MEASURES, *map(counter_measure, sorted(names))):
        of_memory = measure.key.startswith("peak_memory")
        by_lane = {
            lane: _by_round(measure, closely if of_memory else counted, ground)
            for lane, (counted, closely, ground) in lanes.items()
        }
        known = {lane: own for lane, own in by_lane.items() if own}
        if known:
            found[measure.key] = Values(measure, known)
    return found


def _by_round(measure: Measure, runs: Iterable[RunRecord], ground: Ground) -> dict[int, float]:
    return {run.round: v for run in runs if (v := measure.of(run, ground)) is not None}


def row_of(
    values: Values, baseline: str | None, ratios: Mapping[tuple[str, str], Ratio]
) -> MeasureRow:
    """A measure's values summed up, each with its ratio to the baseline where there is one."""
    measure = values.measure
    summaries = values.summaries
    base = summaries[baseline].median if baseline in summaries else 0.0
    lanes = {}
    for lane, own in summaries.items():
        pair = baseline or "", lane
        ratio = ratios.get(pair)
        if ratio is None and (back := ratios.get(pair[::-1])):
            ratio = turned(back)
        lanes[lane] = Measured(
            own.median,
            own.smallest,
            own.largest,
            own.count,
            own.median / base if base > 0 else None,
            ratio,
        )
    return MeasureRow(measure.key, measure.label, measure.unit, measure.better, measure.how, lanes)


def input_rows(comparison: Comparison, point: Point) -> int | None:
    """Rows of all tables at a point; None where one is the user's own file, whose rows only the
    file tells."""
    total = 0
    for table in comparison.data.tables.values():
        rows: object = table.rows
        if isinstance(rows, str):
            rows = point.get(rows[1:-1])
        if not isinstance(rows, int):
            return None
        total += rows
    return total


def measure_of(row: MeasureRow | MeasurePair) -> Measure:
    """The entry that a row was made by."""
    return BY_KEY.get(row.key) or counter_measure(row.label)


_OF_FORMULAS = ("=", "+", "-", "@", "\t", "\r", "\n", "|")


def _ratio_cells(ratio: Ratio | None) -> tuple[str, ...]:
    """The verdict against the baseline, by how many times less, and the interval it is read off."""
    if ratio is None:
        return "", "", "", ""
    ends = ("" if end is None else repr(end) for end in (ratio.low, ratio.high))
    return ratio.verdict, repr(ratio.value), *ends


def _text_cell(text: str) -> str:
    """A text as a cell that no spreadsheet takes for a formula."""
    return f"'{text}" if text[:1] in _OF_FORMULAS else text


def as_csv(rows: Iterable[MeasureRow], names: Mapping[str, str]) -> str:
    """The rows as CSV (RFC 4180): a line a measure and lane, numbers in whole."""
    import csv
    import io

    out = io.StringIO()
    writer = csv.writer(out)
    head = ("measure", "unit", "lane", "name", "median", "smallest", "largest", "runs",
            "of the baseline", "verdict", "times less", "low", "high")  # fmt: skip
    writer.writerow(head)
    for row in rows:
        for lane, value in row.lanes.items():
            against = "" if value.of_baseline is None else repr(value.of_baseline)
            figures = (repr(value.median), repr(value.smallest), repr(value.largest))
            writer.writerow(
                (
                    _text_cell(row.label),
                    row.unit,
                    _text_cell(lane),
                    _text_cell(names.get(lane, lane)),
                    *figures,
                    value.count,
                    against,
                    *_ratio_cells(value.ratio),
                )
            )
    return out.getvalue()
