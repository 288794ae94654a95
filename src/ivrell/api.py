"""Ivrell as a library: read a comparison or build one, run it, look at what was found.

What is loaded at once is next to nothing; each call loads what it needs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import nullcontext
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ivrell.approaches import Approach

if TYPE_CHECKING:
    import pyarrow as pa

    from ivrell.core.comparison.model import Comparison as Contents
    from ivrell.core.recipe.store import DataStore
    from ivrell.core.records.agreement import Agreement
    from ivrell.core.records.cost import Assumed, CostFindings
    from ivrell.core.records.estimate import Estimate
    from ivrell.core.records.events import TrialEvent
    from ivrell.core.records.findings import Findings, TrialFindings
    from ivrell.core.records.history import History, Overlay
    from ivrell.core.records.hot import HotFindings
    from ivrell.core.records.json import Json
    from ivrell.core.records.next_steps import NextSteps
    from ivrell.core.records.plan import Plan
    from ivrell.core.records.points import Point, Value
    from ivrell.core.records.run import RunRecord
    from ivrell.core.records.session import Session, Stretch
    from ivrell.core.records.sweep import SweepFindings
    from ivrell.core.records.tries import InterruptionOutcome, TryOutcome
    from ivrell.core.report.document.shown import Shown
    from ivrell.core.report.overlay import Past
    from ivrell.core.results.folder import ResultFolder
    from ivrell.core.trial.control import Control
    from ivrell.core.trial.measured import PointMeasures

CHECK_ROWS = 1_000
"""Rows of the largest table of a check, at the most."""

TRIED_ROWS = (1_000, 10_000, 30_000)
"""The same of runs that an estimate is made by."""


@dataclass(frozen=True)
class Comparison:
    """A question, its data and its approaches, as a comparison file says it.

    Built in code, run, and looked at:

    >>> import ivrell
    >>> def loop(data, knobs, stage):
    ...     counts = {}
    ...     with open(data.readings) as lines:
    ...         next(lines)
    ...         for line in lines:
    ...             gauge = line.strip()
    ...             counts[gauge] = counts.get(gauge, 0) + 1
    ...     return [{"gauge": gauge, "n": n} for gauge, n in counts.items()]
    >>> comparison = ivrell.Comparison.build(
    ...     name="Readings per gauge",
    ...     data={
    ...         "seed": 4,
    ...         "tables": {
    ...             "readings": {
    ...                 "rows": "{rows}",
    ...                 "columns": [
    ...                     {"name": "gauge", "kind": "category", "values": ["Ash", "Fen", "Oak"]}
    ...                 ],
    ...             }
    ...         },
    ...     },
    ...     knobs={"rows": [2_000]},
    ...     approaches=[
    ...         ivrell.Approach("loop", loop),
    ...         ivrell.Approach(
    ...             "query", "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge", "duckdb"
    ...         ),
    ...     ],
    ...     baseline="loop",
    ... )
    >>> comparison.lanes
    ['loop', 'query']
    >>> trial = comparison.run(rounds=2, warm_ups=0)
    >>> [lane.agreement.verdict for lane in trial.at(rows=2_000).lanes]
    ['same', 'same']
    >>> trial.runs().select(["rows", "counted"]).to_pylist().count({"rows": 2000, "counted": True})
    4

    Attributes:
        text: of its file.
        own_files: the folder that names of files in it are meant from.
    """

    text: str
    own_files: Path = field(default_factory=Path.cwd)

    def __post_init__(self) -> None:
        # What cannot be used is told here, and not when it is run.
        self.contents  # noqa: B018

    @classmethod
    def build(
        cls,
        *,
        name: str,
        data: Mapping[str, Json],
        approaches: Sequence[Approach],
        own_files: Path | None = None,
        **keys: Json,
    ) -> Comparison:
        """A comparison from its parts.

        Args:
            name: of the comparison.
            data: the recipe, as ``[data]`` of a file has it.
            approaches: in their order.
            own_files: the folder that names of files are meant from; where one is unless given.
            keys: more keys of the file's top, such as question, baseline, answer, knobs, targets.

        Raises BadInput where the parts make no good comparison.
        """
        from ivrell.core.comparison.edit import written

        lanes: list[dict[str, Json]] = [
            {"id": one.id, "engine": one.engine, **one.fields, "code": one.text}
            for one in approaches
        ]
        text = written({"name": name, **keys}, data, lanes)
        return cls(text, own_files or Path.cwd())

    @cached_property
    def contents(self) -> Contents:
        """What the text says, typed. Raises BadInput."""
        from ivrell.core.comparison.file import parse

        return parse(self.text)

    @property
    def name(self) -> str:
        """Its name."""
        return self.contents.name

    @property
    def lanes(self) -> list[str]:
        """Ids of the approaches that run, in the file's order."""
        return [approach.id for approach in self.contents.approach if not approach.retired]

    @property
    def knobs(self) -> dict[str, list[Value]]:
        """The knobs with their values, the first being the usual one."""
        return self.contents.knobs

    def plan(self, **fields: Any) -> Plan:
        """A plan for it with some fields; what is not given is as it usually is. Raises BadInput.

        >>> comparison = ivrell.read("demo/tolls-per-lock.toml")
        >>> comparison.plan(rounds=3, knobs={"rows": [1_000]}).rounds
        3
        """
        from secrets import randbits

        from pydantic import ValidationError

        from ivrell.core.base.errors import BadInput
        from ivrell.core.base.wording import told
        from ivrell.core.records.plan import Plan

        usual = {"own_files": str(self.own_files), "order_seed": randbits(_SEED_BITS)}
        try:
            return Plan(**(usual | fields))
        except ValidationError as error:
            problem = told(error)
            raise BadInput(
                f"The plan cannot be used: {problem.message}.",
                where=problem.path,
                hint="See docs/file.md for the fields of a plan.",
            ) from None

    def check(
        self,
        knobs: Mapping[str, Sequence[Value]] | None = None,
        *,
        progress: Callable[[TrialEvent], None] | None = None,
        control: Control | None = None,
    ) -> TrialFindings:
        """Whether the approaches agree: each is run once, on a small size. Raises BadInput.

        Args:
            knobs: values that are not to be the small ones.
            progress, control: as ``run`` takes them.
        """
        from ivrell.core.base.temp_dirs import own_folder
        from ivrell.core.trial.once import small_knobs

        small = {**small_knobs(self.text, CHECK_ROWS), **(knobs or {})}
        plan = self.plan(rounds=1, warm_ups=0, knobs=small)
        with own_folder() as folder:
            return self.run(plan, folder=folder, progress=progress, control=control).whole

    def run(
        self,
        plan: Plan | None = None,
        *,
        folder: Path | None = None,
        progress: Callable[[TrialEvent], None] | None = None,
        control: Control | None = None,
        rule: Callable[[Sequence[RunRecord], int], bool] | None = None,
        **fields: Any,
    ) -> Trial:
        """Run a trial. Raises BadInput for what cannot be run here.

        Args:
            plan: what is done; unless given one of ``fields``, such as rounds and knobs.
            folder: the result folder, which is made; a new one in Ivrell's data folder unless
                given. In one that holds runs of this trial already they are not done again.
            progress: hears what happens, see ivrell.core.records.events; unless given a line
                tells how far it is, on a terminal and in a notebook.
            control: is asked whether to stop.
            rule: hears all runs after each whole round of a plan with ``until``, and says whether
                they are enough.
        """
        plan, folder = plan or self.plan(**fields), folder or new_folder()
        self._check_folder(folder)
        return _conducted(self.text, plan, folder, progress, control, rule=rule)

    def run_changed(
        self,
        earlier: Trial,
        *,
        folder: Path | None = None,
        progress: Callable[[TrialEvent], None] | None = None,
        control: Control | None = None,
        other_versions: bool = False,
    ) -> Trial:
        """Run those lanes of an earlier trial anew whose code, settings or input are others now,
        beside one that is not; the runs of the others are taken over. Raises BadInput, also where
        more than lanes has changed.

        Args:
            earlier: a trial of this comparison as it was.
            folder, progress, control: as ``run`` takes them.
            other_versions: as ``Trial.resume`` takes it.
        """
        from ivrell.core.results.folder import ResultFolder
        from ivrell.core.trial.changed import only_changed, take_over

        folder = folder or new_folder()
        self._check_folder(folder)
        before, records = earlier.comparison.contents, earlier.records
        found = only_changed(before, self.contents, earlier.plan, records)
        take_over(ResultFolder(earlier.folder), ResultFolder(folder), found.kept)
        return _conducted(
            self.text, found.plan, folder, progress, control,
            other_versions=other_versions, stretch=found.stretch,
        )  # fmt: skip

    def _check_folder(self, folder: Path) -> None:
        """Refuse a folder that holds anything but a trial of this comparison."""
        from ivrell.core.base.errors import BadInput
        from ivrell.core.results.folder import ResultFolder

        if not folder.exists() or not any(folder.iterdir()):
            return
        kept = ResultFolder(folder)
        if not kept.is_one or kept.comparison_text != self.text:
            raise BadInput(
                f"The folder {folder} holds something else already.",
                where="folder",
                hint="Name a new or an empty one.",
            )

    def estimate(
        self, plan: Plan, earlier: Sequence[Trial] = (), *, minutes: float | None = None
    ) -> Estimate:
        """What a plan will take, by what runs of its lanes took in earlier trials; of lanes whose
        code, settings or data are others now they tell nothing. Making data is not in it.

        >>> comparison = ivrell.read("demo/day-totals.toml")
        >>> trial = comparison.run(rounds=1, warm_ups=0)
        >>> found = comparison.estimate(comparison.plan(rounds=50), [trial])
        >>> found.low < found.seconds < found.high, {lane.rests_on for lane in found.lanes}
        (True, {'measured'})

        Args:
            plan: that is thought of.
            earlier: trials of this comparison, at these sizes or at others.
            minutes: that are to be filled with rounds; ``rounds_in_time`` says how many fit.
        """
        from ivrell.core.trial.estimate import as_ended, estimated, took, took_by

        found = [
            one
            for trial in earlier
            for one in took_by(
                self.contents, trial.comparison.contents, took(map(as_ended, trial.records))
            )
        ]
        time_s = None if minutes is None else 60 * minutes
        return estimated(self.contents, plan, found, time_s=time_s)

    def tried_estimate(
        self,
        plan: Plan,
        *,
        minutes: float | None = None,
        progress: Callable[[TrialEvent], None] | None = None,
        control: Control | None = None,
    ) -> Estimate:
        """What a plan will take, by runs of each lane at three small sizes that are done for it;
        wide where it is far beyond them. One that is stopped goes by the runs until then. Raises
        BadInput.

        Args:
            plan: that is thought of.
            minutes: that are to be filled with rounds.
            progress, control: as ``run`` takes them.
        """
        from ivrell.core.base.temp_dirs import own_folder
        from ivrell.core.trial.once import small_knobs

        lanes = plan.approaches
        with own_folder() as folder:
            trials = []
            for rows in TRIED_ROWS:
                small = self.plan(
                    rounds=1, warm_ups=0, knobs=small_knobs(self.text, rows), approaches=lanes
                )
                trials.append(
                    self.run(small, folder=folder / str(rows), progress=progress, control=control)
                )
                if control is not None and control.stop_all():
                    break
            return self.estimate(plan, trials, minutes=minutes)

    def try_lane(self, lane: str, rows: int = CHECK_ROWS, *, explained: bool = False) -> TryOutcome:
        """Run one approach once on a small size; its run and the first rows of its answer.

        Args:
            lane: its id.
            rows: of the largest table, at the most.
            explained: tell how the engine carries it out, instead of its answer.

        Raises BadInput.
        """
        from ivrell.core.base.temp_dirs import own_folder
        from ivrell.core.records.wire import EXPLAINED, RUN
        from ivrell.core.trial.once import try_once

        self.contents.approach_called(lane)
        with own_folder() as folder:
            return try_once(
                self.text, lane, rows, folder, store(),
                own_files=str(self.own_files), mode=EXPLAINED if explained else RUN,
            )  # fmt: skip

    def hot(
        self, lane: str, rows: int | None = None, *, control: Control | None = None
    ) -> HotFindings:
        """Run one approach once more, and see which of its lines the time and the memory go to. The
        run counts for nothing.

        Args:
            lane: its id.
            rows: of the largest table, at the most; as the comparison says unless given.
            control: heard while it runs.

        Raises BadInput.
        """
        from ivrell.core.base.temp_dirs import own_folder
        from ivrell.core.hot.found import found_of, mode_of
        from ivrell.core.trial.once import EVERY_ROW, HOT_SECONDS, try_once

        mode = mode_of(self.contents.approach_called(lane))
        with own_folder() as folder:
            outcome = try_once(
                self.text, lane, rows or EVERY_ROW, folder, store(), own_files=str(self.own_files),
                control=control, mode=mode, seconds=HOT_SECONDS,
            )  # fmt: skip
        return found_of(self.text, lane, outcome)

    def interrupt(
        self, lane: str, rows: int = CHECK_ROWS, share: float = 0.5
    ) -> InterruptionOutcome:
        """Kill an approach part-way on a small size, at a share of its usual time, and see whether
        it can be started again. Raises BadInput."""
        from ivrell.core.base.temp_dirs import own_folder
        from ivrell.core.trial.interrupted import interrupted

        self.contents.approach_called(lane)
        with own_folder() as folder:
            return interrupted(
                self.text, lane, rows, share, folder, store(), own_files=str(self.own_files)
            )


class Trial:
    """A trial in its result folder, of an earlier version's too.

    >>> trial = ivrell.read("demo/day-totals.toml").run(rounds=1, warm_ups=0)
    >>> again = ivrell.Trial.open(trial.folder)
    >>> again.ended, again.findings == trial.findings
    ('done', True)
    """

    def __init__(self, folder: Path) -> None:
        from ivrell.core.results.folder import ResultFolder

        self._kept: ResultFolder = ResultFolder(Path(folder))

    @classmethod
    def open(cls, folder: Path | str) -> Trial:
        """The trial in a folder. Raises BadInput where there is none."""
        from ivrell.core.base.errors import BadInput
        from ivrell.core.results.folder import PLAN

        found = cls(Path(folder))
        if not found._kept.is_one:
            raise BadInput(f"{folder} is no result folder of a trial: it has no {PLAN.name}.")
        return found

    def __repr__(self) -> str:
        return f"Trial({str(self.folder)!r})"

    def _repr_mimebundle_(
        self, include: object = None, exclude: object = None
    ) -> Mapping[str, str]:
        """As a notebook shows it: its board, once it has ended."""
        if not self._kept.has_ended or not self.findings:
            return {"text/plain": repr(self)}
        return self.board()._repr_mimebundle_()

    def board(self, **values: Value) -> Shown:
        """Its lanes side by side at a point, to be looked at: static HTML. Raises BadInput.

        Args:
            values: of knobs and conditions of the point; the first unless given.
        """
        from ivrell.core.records.machine import Machine
        from ivrell.core.report.document.shown import board_shown

        sessions = self.sessions
        machine = sessions[-1].machine if sessions else Machine()
        return board_shown(self.comparison.contents, self.at(**values), machine)

    def picture(self, knob: str = "", **at: Value) -> Shown:
        """Elapsed time over a knob, to be looked at: SVG. Raises BadInput where it was not run at
        several sizes.

        Args:
            knob: along which; the first unless given.
            at: values of the other knobs.
        """
        from ivrell.core.report.document.shown import sweep_shown

        return sweep_shown(self.comparison.contents, self.whole, knob, **at)

    def pair(self, base: str, lane: str, **values: Value) -> Shown:
        """Two lanes with every measure, to be looked at: static HTML. Raises BadInput.

        Args:
            base: what the other is held against, by id.
            lane: the other.
            values: of knobs and conditions of the point; the first unless given.
        """
        from ivrell.core.report.document.shown import pair_shown
        from ivrell.core.trial.reporting import pair_of

        found = self.at(**values)
        taken, answers = self._kept.run_set(), self._kept.answers
        return pair_shown(pair_of(self.comparison.contents, taken, answers, found, (base, lane)))

    @property
    def folder(self) -> Path:
        """Its result folder."""
        return self._kept.path

    @property
    def comparison(self) -> Comparison:
        """What it ran, as it was."""
        own_files = self.plan.own_files
        return Comparison(self._kept.comparison_text, Path(own_files) if own_files else Path.cwd())

    @property
    def plan(self) -> Plan:
        """What was to be done."""
        from ivrell.core.results.folder import PLAN

        return self._kept.read(PLAN)

    @property
    def sessions(self) -> list[Session]:
        """Each time that it was begun or gone on with: when, on what machine, with which
        versions."""
        return self._kept.sessions()

    @property
    def ended(self) -> str:
        """ "done" or "stopped"; "" where it has not ended."""
        return self.whole.ended if self._kept.has_ended else ""

    @property
    def whole(self) -> TrialFindings:
        """The findings of every point and sweep in one record. Raises BadInput before its end."""
        from ivrell.core.results.folder import FINDINGS

        return self._kept.read(FINDINGS).model_copy(update={"sweeps": self.sweep})

    @property
    def findings(self) -> list[Findings]:
        """What it says at each point. Raises BadInput before its end."""
        return self.whole.points

    def at(self, **values: Value) -> Findings:
        """What it says at the first point that has these values of knobs and conditions. Raises
        BadInput where none has."""
        from ivrell.core.base.errors import BadInput

        for found in self.findings:
            if values.items() <= found.point.items():
                return found
        told = ", ".join(f"{name} {value}" for name, value in values.items())
        raise BadInput(f"The trial has no point with {told}.", where=str(self.folder))

    @property
    def sweep(self) -> list[SweepFindings]:
        """What is found along each knob of several sizes."""
        from ivrell.core.results.folder import SWEEP

        return self._kept.read(SWEEP) if self._kept.has(SWEEP) else []

    @property
    def agreement(self) -> list[tuple[Point, dict[str, Agreement]]]:
        """What became of each lane's answer, by lane, at each point."""
        return [
            (found.point, {lane.id: lane.agreement for lane in found.lanes if lane.agreement})
            for found in self.findings
        ]

    @property
    def records(self) -> list[RunRecord]:
        """Each run as it was recorded: warm-ups, memory runs and those set aside too."""
        return self._kept.runs()

    def runs(self) -> pa.Table:
        """The runs as a table: a column for each knob and condition, whether a run is ``counted``
        (no warm-up, no memory run, not done again), then each plain figure of it; what was not
        measured is null."""
        import pyarrow as pa

        return pa.Table.from_pylist(list(_rows(self.records)))

    def frame(self, of: str = "pandas") -> Any:
        """The same table as a frame of ``pandas`` or ``polars``, or of ``arrow``. Raises BadInput
        for what is not known, or not installed."""
        from importlib import import_module

        from ivrell.core.base.errors import BadInput

        if of not in ("pandas", "polars", "arrow"):
            raise BadInput(f"There is no frame of {of}.", hint="Of pandas, polars or arrow.")
        table = self.runs()
        try:
            library = import_module(of) if of != "arrow" else None
        except ImportError:
            raise BadInput(f"{of} is not installed.", hint=f"pip install {of}") from None
        if library is None:
            return table
        return table.to_pandas() if of == "pandas" else library.from_arrow(table)

    def measures(self) -> list[PointMeasures]:
        """Every measure of every lane at each point."""
        from ivrell.core.trial.measured import measures_in

        return measures_in(self._kept)

    def report(
        self,
        to: Path | str | None = None,
        *,
        comparison: Comparison | None = None,
        pairs: Sequence[tuple[str, str]] = (),
    ) -> Path:
        """The report, to be read with nothing else beside it. Raises BadInput before the trial's
        end.

        Args:
            to: a file that ends in ``.html``, ``.md`` (with drawings beside it) or ``.pdf`` (by a
                browser that is installed); the page in the result folder unless given.
            comparison: whose claims and notes it has; the trial's own unless given.
            pairs: of lanes by id that are shown in full, each with the one held against first.

        Returns the file.
        """
        from ivrell.core.trial.reporting import document_of, written_to

        now = None if comparison is None else comparison.contents
        document = document_of(self._kept, now, pairs=list(pairs))
        return written_to(document, self._kept.report if to is None else Path(to))

    def resume(
        self,
        *,
        progress: Callable[[TrialEvent], None] | None = None,
        control: Control | None = None,
        other_versions: bool = False,
    ) -> Trial:
        """Go on where it was cut off or stopped. Raises BadInput, also where engines, libraries or
        the system are others than before, unless ``other_versions`` are asked for."""
        return _conducted(
            self._kept.comparison_text, self.plan, self.folder, progress, control,
            other_versions=other_versions,
        )  # fmt: skip

    def more(
        self,
        *,
        rounds: int = 0,
        lanes: Sequence[str] = (),
        knobs: Mapping[str, Sequence[Value]] | None = None,
        at: Mapping[str, Value] | None = None,
        told_within_minutes: float | None = None,
        comparison: Comparison | None = None,
        progress: Callable[[TrialEvent], None] | None = None,
        control: Control | None = None,
        other_versions: bool = False,
    ) -> Trial:
        """Add rounds, lanes or values of knobs to one that has ended.

        Args:
            rounds: how many, at each point or ``at`` one; of lanes and values as many as there
                are unless given.
            lanes: ids of lanes that did not run; they are run beside one that did.
            knobs: values that did not run.
            at: values of knobs and conditions of the point that rounds are added at.
            told_within_minutes: rounds go on until it is told who is the quickest, at the longest
                for so many minutes.
            comparison: that has the lanes, where the trial's own does not; all else must be as it
                was.
            progress, control, other_versions: as ``resume`` takes them.

        Raises BadInput.
        """
        from ivrell.core.base.errors import BadInput
        from ivrell.core.records.session import More
        from ivrell.core.trial.more import extended, text_with

        if not self._kept.has_ended:
            raise BadInput("This trial has not ended.", hint="Go on with it: resume().")
        self._kept.refuse_thinned()
        point = None if at is None else self.at(**at).point
        more = More(
            rounds=rounds, lanes=list(lanes), point=point, told_within_minutes=told_within_minutes,
            knobs={knob: list(values) for knob, values in (knobs or {}).items()},
        )  # fmt: skip
        records, text = self.records, self._kept.comparison_text
        if comparison is not None:
            text = text_with(text, comparison.text, records, more.lanes)
        plan, stretch = extended(Comparison(text).contents, self.plan, records, more)
        return _conducted(
            text, plan, self.folder, progress, control,
            other_versions=other_versions, stretch=stretch,
        )  # fmt: skip

    def over(self, earlier: Trial, **values: Value) -> Overlay:
        """This trial laid over an earlier one of the same comparison: what differs, and what that
        did to each lane, without the machine's part. Raises BadInput where one of them did not run
        at the point.

        Args:
            earlier: the other trial.
            values: of knobs and conditions of the point; the first unless given.
        """
        from ivrell.core.report.overlay import overlay

        point = self.at(**values).point if values else self.findings[0].point
        earlier.at(**{name: value for name, value in point.items() if value is not None})
        return overlay(earlier.past(1), self.past(2), point)

    def assert_no_slower(
        self, earlier: Trial, *, margin: float = 0.1, lanes: Sequence[str] = (), **values: Value
    ) -> None:
        """For tests: raise AssertionError where a lane surely takes more time than in an earlier
        trial by more than a margin, without what the machine did to lanes that are the same in
        both. What cannot be told passes; ``gate`` runs until it is told.

        Args:
            earlier: the other trial.
            margin: the share that is let pass.
            lanes: ids; all that ran in both unless given.
            values: of knobs and conditions of the point; the first unless given.

        Raises BadInput where one of them did not run at the point.
        """
        from ivrell.core.base.quantities import three_figures

        found = self.over(earlier, **values)
        changes = next((one.lanes for one in found.measures if one.key == "elapsed"), [])
        slower = [
            f"{one.name} takes {three_figures(1 / one.ratio.value)} times as long "
            f"(at least {three_figures(1 / one.ratio.high)})"
            for one in changes
            if (not lanes or one.lane in lanes)
            and one.ratio.high is not None
            and 1 / one.ratio.high > 1 + margin
        ]
        if slower:
            raise AssertionError("; ".join(slower))

    def cost(self, assumed: Assumed | None = None, **values: Value) -> CostFindings:
        """What its lanes cost a month, by the prices that are kept on this machine (`ivrell
        prices`). Raises BadInput.

        Args:
            assumed: how often a day, on which machine and storage; what its file says under
                ``[cost]`` unless given.
            values: of knobs and conditions of the point; the first unless given.
        """
        from ivrell.core.trial.costing import cost_of

        point = self.at(**values).point if values else None
        return cost_of(self._kept, assumed, point)

    def next_steps(self, **values: Value) -> NextSteps:
        """What to look at next, of its own figures, at the first point with these values. Raises
        BadInput before its end."""
        from ivrell.core.trial.next_steps import next_of

        return next_of(self._kept, self.at(**values).point if values else None)

    def bundle(self, to: Path | str, *, answers: bool = False) -> Path:
        """Pack it into one file that can be looked at and run again elsewhere. Raises BadInput
        before its end.

        Args:
            to: the file, such as ``tolls.zip``.
            answers: with the answers that were kept, beside their digests.
        """
        from ivrell.core.bundles.pack import pack

        pack(self._kept, Path(to), answers=answers)
        return Path(to)

    def past(self, number: int) -> Past:
        """It as one of several that are held against each other, by a number."""
        from datetime import UTC, datetime

        from ivrell.core.report.overlay import Past
        from ivrell.core.results.folder import DATA

        taken = self._kept.run_set()
        began = self.sessions[0].began if self.sessions else ""
        try:
            when = datetime.fromisoformat(began).astimezone(UTC)
        except ValueError:
            when = datetime.fromtimestamp(self.folder.stat().st_mtime, UTC)
        made = self._kept.read(DATA) if self._kept.has(DATA) else []
        return Past(number, when, self.comparison.contents, self.plan, taken, made)

    def judge_again(self, reference: str | None = None) -> Trial:
        """Hold the kept answers against another lane's, or against what the question says. Raises
        BadInput."""
        from ivrell.core.trial.conduct import Trial as Conducted

        self._kept.refuse_thinned()
        comparison = self.comparison
        Conducted(comparison.text, self.plan, self.folder, store()).judge_again(reference)
        return self


def history(
    trials: Sequence[Trial], measure: str = "elapsed", anchor: str | None = None, **values: Value
) -> History:
    """Trials of a comparison over time: what each lane took, and since when it takes another time;
    trials are told by their places, from 1. Raises BadInput.

    Args:
        trials: the oldest first.
        measure: its key.
        anchor: the lane, by id, that others are held against; one that was never changed unless
            given, the baseline before others.
        values: of knobs and conditions of the point; the one that most trials ran unless given.
    """
    from ivrell.core.report.history import history as told
    from ivrell.core.report.history import points_ran

    past = [trial.past(number) for number, trial in enumerate(trials, 1)]
    points = points_ran([run.point for run in one.taken.runs if run.counted] for one in past)
    wanted = [point for point in points if values.items() <= point.items()]
    return told(past, points, wanted[0] if values and wanted else None, measure, anchor)


def read(path: Path | str) -> Comparison:
    """The comparison in a file. Raises BadInput where it cannot be read or used.

    >>> ivrell.read("demo/tolls-per-lock.toml").knobs
    {'rows': [1000000, 10000, 100000]}
    """
    from ivrell.core.comparison.file import parse, read_text

    path = Path(path)
    text = read_text(path)
    parse(text, source=path.name)
    return Comparison(text, path.parent.resolve())


def store() -> DataStore:
    """Where made data is kept on this machine."""
    from ivrell.core.base.folders import data_folder
    from ivrell.core.recipe.store import DataStore

    return DataStore(data_folder() / "made")


def _conducted(
    text: str,
    plan: Plan,
    folder: Path,
    progress: Callable[[TrialEvent], None] | None,
    control: Control | None,
    *,
    other_versions: bool = False,
    stretch: Stretch | None = None,
    rule: Callable[[Sequence[RunRecord], int], bool] | None = None,
) -> Trial:
    from ivrell.core.trial.conduct import Trial as Conducted
    from ivrell.core.trial.control import ignore_event
    from ivrell.core.trial.plan import most_runs
    from ivrell.progress import usual

    own = usual(lambda: most_runs(Comparison(text).contents, plan))
    with own if progress is None else nullcontext(progress) as heard:
        Conducted(
            text, plan, folder, store(), listen=heard or ignore_event, control=control,
            other_versions=other_versions, stretch=stretch, rule=rule,
        ).conduct()  # fmt: skip
    return Trial(folder)


def new_folder() -> Path:
    """An empty folder for results."""
    import datetime
    import tempfile

    from ivrell.core.base.folders import data_folder

    place = data_folder() / "results"
    place.mkdir(parents=True, exist_ok=True)
    now = datetime.datetime.now().astimezone()
    return Path(tempfile.mkdtemp(prefix=f"{now:%Y-%m-%d-%H%M%S}-", dir=place))


def _rows(records: Sequence[RunRecord]) -> Iterator[dict[str, object]]:
    plain = (str, int, float, bool)
    for record in records:
        told = record.model_dump(mode="json")
        yield {
            **told.pop("point"),
            "counted": record.counted,
            **{name: value for name, value in told.items()
               if value is None or isinstance(value, plain)},
        }  # fmt: skip


_SEED_BITS = 32
