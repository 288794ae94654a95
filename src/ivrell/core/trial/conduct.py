"""Conducting a trial: data made, runs in order, answers judged, everything kept.

The conductor does as little as it can while a run is timed: it waits for the runner.
"""

import logging
import os
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Literal

from ivrell.core.agreement.judge import ClusterJudge
from ivrell.core.agreement.record import Answers
from ivrell.core.base.errors import BadInput, NotAvailable, OtherVersions, Stopped, room_on_disk
from ivrell.core.base.folders import data_folder
from ivrell.core.base.locks import in_use
from ivrell.core.base.temp_dirs import scratch
from ivrell.core.comparison.file import parse
from ivrell.core.engines.registry import ENGINES
from ivrell.core.machine import busy_cores, snapshot
from ivrell.core.measure.constraints import HostConstraints
from ivrell.core.recipe.databases.places import Databases
from ivrell.core.recipe.store import DataStore
from ivrell.core.records.data import MadeTable
from ivrell.core.records.events import (
    DataMade,
    DataProgress,
    LaneOut,
    RunEnded,
    RunStarted,
    SessionSeen,
    StandingTold,
    TrialEnded,
)
from ivrell.core.records.findings import TrialFindings
from ivrell.core.records.loads import QUIET
from ivrell.core.records.machine import Machine
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.run import Identity, RunRecord
from ivrell.core.records.session import RunSet, Session, Stretch, changes
from ivrell.core.records.wire import (
    EXPLAINED,
    FAILED,
    NOT_AVAILABLE,
    RUN,
    STOPPED,
    Failure,
    RunEnd,
)
from ivrell.core.report.findings import findings
from ivrell.core.report.measures import values_at
from ivrell.core.report.ratios import Judge
from ivrell.core.results.folder import (
    AGREEMENT,
    COMPARISON,
    DATA,
    FINDINGS,
    SESSIONS,
    AddRun,
    ResultFolder,
)
from ivrell.core.results.kept_files import keep_files
from ivrell.core.run.answers.receiver import AnswerReceiver, Received
from ivrell.core.stats import history
from ivrell.core.trial.control import Control, Listener, NoControl, ignore_event
from ivrell.core.trial.disturbance import Repeats
from ivrell.core.trial.enough import enough, look_after, told
from ivrell.core.trial.judging import judged
from ivrell.core.trial.lane_status import LaneStatus
from ivrell.core.trial.plan import (
    PLAN,
    Plan,
    PlannedRun,
    chosen_approaches,
    memory_run,
    ordered_runs,
    points_with,
    searched_knob,
    stepped_knob,
)
from ivrell.core.trial.preparation import Preparation, Tables
from ivrell.core.trial.record import run_record
from ivrell.core.trial.run_executor import RunExecutor, sandboxed
from ivrell.core.trial.search import CrossingSearch
from ivrell.core.trial.step_up import StepUp

log = logging.getLogger("ivrell.trial")
_SETTLE_S = 0.3
_STANDING_FROM = 2
"""Rounds from which on it is said who leads."""


class Trial:
    """One trial in one result folder.

    Args:
        text: the comparison file, exactly as it is to be kept.
        plan: what to do.
        folder: the result folder; runs found in it already are not done again.
        store: where made data is kept.
        listen: hears what happens.
        control: asked whether to stop.
        data_workers: processes that make data; as many as cores unless given.
        runtimes: folder in which other interpreters and servers are registered; Ivrell's own
            unless given.
        other_versions: whether it may go on with other versions than it had before.
        stretch: what is added to a trial that has ended; ``plan`` is then that of the whole.
        mode: what runs do; those of another one than "run" count for nothing.
        rule: hears all runs after each whole round of a plan with ``until``, and says whether they
            are enough.

    Raises BadInput for what cannot be run here.
    """

    def __init__(
        self,
        text: str,
        plan: Plan,
        folder: Path,
        store: DataStore,
        *,
        listen: Listener = ignore_event,
        control: Control | None = None,
        data_workers: int | None = None,
        runtimes: Path | None = None,
        mode: str = RUN,
        other_versions: bool = False,
        stretch: Stretch | None = None,
        rule: Callable[[Sequence[RunRecord], int], bool] | None = None,
    ) -> None:
        self.mode = mode
        self._rule = rule
        self._stretch = stretch
        self._other_versions = other_versions
        self.text = text
        self.comparison = parse(text)
        self.plan = plan
        self.results = ResultFolder(folder)
        self.store = store
        self.listen = listen
        self.control = control or NoControl()
        workers = data_workers or len(os.sched_getaffinity(0))
        self.preparation = Preparation(
            self.comparison, plan, store, workers=workers, registry=runtimes
        )
        self.lanes = self.preparation.lanes
        self.points = self.preparation.points
        self.runs: list[RunRecord] = []
        self.made: list[MadeTable] = []
        self.earlier: list[Session] = []
        self.session = Session(plan=plan)
        self._status = LaneStatus()
        self._spent_s = 0.0
        knob = stepped_knob(self.points) if plan.step_up else None
        self._step_up = StepUp(knob, self.points, plan.limits) if knob else None
        self._left_behind: set[str] = set()
        self._done: set[Identity] = set()
        self._paused_s = 0.0
        self._search = self._searching()
        self._repeats = self._fresh_repeats(plan, self.lanes, self.points)

    @staticmethod
    def _fresh_repeats(plan: Plan, lanes: Sequence[str], points: Sequence[Point]) -> Repeats:
        planned = len(lanes) * len(points) * plan.most_rounds
        return Repeats(plan.disturbed, planned, len(os.sched_getaffinity(0)))

    def _searching(self) -> CrossingSearch | None:
        knob = searched_knob(self.plan, self.points)
        if knob is None or self._aside:
            return None
        return CrossingSearch(self.plan, knob, self.lanes, self.points, self.comparison.matters)

    @property
    def folder(self) -> Path:
        """The result folder's path."""
        return self.results.path

    @property
    def databases(self) -> Databases:
        """Where tables are loaded."""
        return self.preparation.databases

    @property
    def _aside(self) -> bool:
        """Whether its runs count for nothing."""
        return self.mode != RUN

    def conduct(self) -> TrialFindings:
        """Do the whole trial, or what is left of it.

        Returns the findings of every point, as findings.json holds them. A stop leaves a
        complete folder of what was done until then, with ``ended`` saying so.
        """
        with (
            room_on_disk(self.folder),
            self.results.conducted(),
            in_use(self.store.root),
            in_use(self.databases.root),
        ):
            return self._conduct()

    def _conduct(self) -> TrialFindings:
        # First: what is refused changes nothing.
        self._begin_session()
        self.results.write(COMPARISON, self.text)
        self.results.keep(PLAN, self.plan)
        ended: Literal["done", "stopped"] = "done"
        log.info("trial of %s in %s", self.comparison.name, self.folder)
        try:
            # What looks at answers loads its libraries while the rest is prepared.
            with scratch() as folder, self._desk(folder) as desk:
                self.answers = self._answers()
                self._take_up()
                self._make_all()
                if desk:
                    desk.wait_until_ready(self.control.stop_all)
                # Looked at anew once our own work of making data has settled.
                time.sleep(_SETTLE_S)
                self.machine.busy_cores = busy_cores()
                self._keep_session()
                before = HostConstraints.now(with_heat=True)
                try:
                    self._do_runs(folder, desk)
                finally:
                    self._tell_what_held(before)
        except Stopped:
            ended = "stopped"
        finally:
            # However it ended: no server is left behind.
            self.preparation.stop()
        found = self._finish(ended)
        self._remember()
        return found

    def _remember(self) -> None:
        """Tell the machine's history what spread these lanes showed."""
        if self._aside:
            return
        engines = {approach.id: approach.engine for approach in self.comparison.approach}
        for point in self.points:
            here = [run for run in self.runs if run.point == point and not run.memory_run]
            if any(run.counted and run.was_disturbed for run in here):
                continue
            values = values_at(self.comparison, here, point)
            for key in history.REMEMBERED:
                if key in values:
                    spreads = history.lane_spreads(key, values[key].lanes, engines)
                    history.keep(data_folder(), spreads)

    @property
    def machine(self) -> Machine:
        """The machine as this session found it."""
        return self.session.machine

    @property
    def taken(self) -> RunSet:
        """The runs so far, with the sessions that they are of."""
        return RunSet(self.runs, [*self.earlier, self.session])

    def _begin_session(self) -> None:
        """Look at the machine. Raises BadInput where an earlier session had other versions."""
        self.earlier = self.results.sessions()
        machine = snapshot(self.folder)
        machine.runtimes = self.preparation.used_runtimes
        self._go_on_with_stretch()
        self.session = Session(
            number=len(self.earlier) + 1, began=machine.taken_at, plan=self.plan, machine=machine,
            stretch=self._stretch,
        )  # fmt: skip
        if not self._other_versions:
            self._refuse_other_versions()
        if self._stretch:
            # What is added to it is not in what was found of it.
            self.results.reopen()
        self._keep_session()

    def _go_on_with_stretch(self) -> None:
        """Take up what an earlier session was adding when it was cut off, and what is added."""
        last = self.earlier[-1] if self.earlier else None
        if self._stretch is None and last and last.stretch and not self.results.has_ended:
            self._stretch = last.stretch
        if self._stretch is None:
            return
        plan = self._stretch.plan
        lanes = chosen_approaches(plan, self.comparison)
        self._repeats = self._fresh_repeats(plan, lanes, self._stretch.points or self.points)

    @property
    def _first_of_stretch(self) -> int:
        """The first session that added what this one adds."""
        found = self.session.number
        for session in reversed(self.earlier):
            if self._stretch is None or session.stretch != self._stretch:
                break
            found = session.number
        return found

    def _refuse_other_versions(self) -> None:
        engines = [approach.engine for approach in self.preparation.approaches]
        used = RunSet(self.results.runs(), self.earlier).used_sessions
        found = changes(used[-1], self.session, engines) if used else []
        if found:
            told = "; ".join(map(str, found))
            raise OtherVersions(
                f"What this trial began with is not what is here now: {told}.",
                where=str(self.folder),
                hint="Run it anew; or go on all the same, which its findings will say: "
                f"ivrell resume --other-versions {self.folder}",
            )

    def _tell_what_held(self, before: HostConstraints) -> None:
        held = HostConstraints.now(with_heat=True).since(before)
        self.machine.throttled_s = held.throttled_s
        self.machine.heat_throttles = held.heat_throttles
        self.machine.swapped_bytes = held.swapped_bytes
        self._keep_session()

    def _keep_session(self) -> None:
        sessions = [*self.earlier, self.session]
        self.results.keep(SESSIONS, sessions)
        self.listen(SessionSeen(sessions=sessions))

    def prepare(self) -> Tables:
        """Make the data of the first lane at the first point and no more; gives it."""
        self.results.make()
        return self.preparation.make(self.points[0], self.preparation.approaches[0])

    def attempts(self, folder: Path, desk: AnswerReceiver | None) -> RunExecutor:
        """What does this trial's runs, whose own folders lie in ``folder``; ``desk`` looks at their
        answers."""
        return RunExecutor(
            self.comparison,
            self.plan,
            folder,
            self.results.journal,
            self.databases,
            self.preparation.runtimes,
            spark=self.preparation.spark,
            keep_log=self.results.keep_event_log,
            keep_files=self._keep_files if self.plan.keep_files else None,
            desk=desk,
            mode=self.mode,
            shapes=self.preparation.shapes,
            own_styles=self.preparation.own_styles,
            patience=self._patience,
        )

    def _keep_files(
        self, run: RunRecord, left: "Iterator[os.DirEntry[str]]", wanted_stop: Callable[[], bool]
    ) -> None:
        """Keep what a lane's first run that counts at a point left in its folder."""
        place = self.results.files / run.approach / (point_name(run.point) or "all")
        if not place.exists():
            keep_files(left, place, self.plan.limits.written_bytes, wanted_stop)

    def judge_again(self, reference: str | None = None) -> TrialFindings:
        """Hold the kept answers of a trial that has ended against another reference.

        ``reference`` is the id of a lane; None takes what the question says. Gives the findings
        of every point, and writes them as ``conduct`` does. Raises BadInput for an unknown lane
        or where the trial has not ended.
        """
        if not self.results.has_ended:
            raise BadInput("This trial has not ended.", hint="Wait for its end, or stop it.")
        if reference is not None:
            self.comparison.approach_called(reference)
            asked = {"reference": reference, "expected": None}
            answer = self.comparison.answer.model_copy(update=asked)
            self.comparison = self.comparison.model_copy(update={"answer": answer})
        *self.earlier, self.session = self.results.sessions() or [Session(plan=self.plan)]
        self.made = self.results.read(DATA)
        self.answers = self._answers()
        self._take_up()
        return self._finish(self.results.read(FINDINGS).ended)

    def _answers(self) -> Answers:
        own_files = Path(self.plan.own_files or Path.cwd())
        judge = ClusterJudge(self.preparation.spark)
        return Answers(self.comparison, self.results.answers, own_files, judge)

    def _take_up(self) -> None:
        """Read what an earlier session of this trial left."""
        runs = self.results.runs()
        known = {point_name(point) for point in self.points}
        for point in points_with(self.plan, self.comparison, (run.point for run in runs)):
            if point_name(point) not in known:
                self.preparation.add(point)
        if self._search:
            self._search.take_up(runs)
        for run in runs:
            self.runs.append(run)
            self._note(run)
            if run.answer_fingerprint:
                self.answers.count_kept(run.approach, run.point, run.answer_fingerprint)

    def _make_all(self) -> None:
        """Make the data of all that is to run; what was made before is told with it."""
        stretch = self._stretch
        made = self.preparation.make_all(
            self._tell_data,
            self.control.stop_all,
            lanes=chosen_approaches(stretch.plan, self.comparison) if stretch else None,
            points=(stretch.points or None) if stretch else None,
        )
        before = self.results.read(DATA) if stretch and self.results.has(DATA) else []
        tables = {(table.paths[0], table.table): table for table in (*before, *made)}
        self.made = list(tables.values())
        self.results.keep(DATA, self.made)
        self.listen(DataMade(tables=self.made))

    def _tell_data(self, table: str, form: str, rows: int, total: int) -> None:
        self.listen(DataProgress(table=table, form=form, rows=rows, total=total))

    def _desk(self, folder: Path) -> AbstractContextManager[AnswerReceiver | None]:
        return nullcontext() if self.mode == EXPLAINED else desk_for(self.plan, folder)

    def _do_runs(self, folder: Path, desk: AnswerReceiver | None) -> None:
        attempts = self.attempts(folder, desk)
        for run in self.runs:
            attempts.learn(run)
        self._spent_s = self._spent_before()
        began = time.monotonic() - self._spent_s
        ended_round = -self.plan.warm_ups
        try:
            with self.results.adding_runs() as add:
                for planned in self._ordered():
                    if planned.round > ended_round + 1:
                        ended_round = planned.round - 1
                        self._tell_standing(ended_round)
                        if self._enough(ended_round, self._since(began)):
                            return
                    self._do_with_memory(attempts, planned, add, began)
                search = self._search if self._stretch is None else None
                for planned in search.runs(self.runs, self._able) if search else ():
                    self._make_at(planned.point)
                    self._do_with_memory(attempts, planned, add, began)
        finally:
            attempts.close()

    def _tell_standing(self, rounds: int) -> None:
        """Say who leads at the first point, between two runs, where nothing is timed."""
        if rounds < _STANDING_FROM or self._aside:
            return
        began = time.monotonic()
        added = self._stretch.points if self._stretch else []
        point = (added or self.points)[0]
        here = RunSet([run for run in self.runs if run.point == point], [self.session])
        told = findings(self.comparison, here, {}, point)
        if told.conclusion:
            self.listen(StandingTold(rounds=rounds, point=point, words=told.conclusion))
        self._paused_s += time.monotonic() - began

    def _ordered(self) -> Iterator[PlannedRun]:
        if self._stretch is None:
            return ordered_runs(self.comparison, self.plan)
        added = self._stretch
        return ordered_runs(self.comparison, added.plan, added.first_round, added.points)

    def _able(self) -> set[str]:
        """Lanes whose answer is right at the smallest size; what is wrong leads nowhere."""
        first = self.points[0]
        agreement = self.answers.judge(self.lanes, first, self.preparation.sources(first))
        return {lane for lane, own in agreement.items() if own.agrees}

    def _make_at(self, point: Point) -> None:
        """Make the data of a point that the plan did not name, before its first run."""
        if point in self.points:
            return
        self.preparation.add(point)
        self._make_all()
        time.sleep(_SETTLE_S)

    def _do_with_memory(
        self,
        attempts: RunExecutor,
        planned: PlannedRun,
        add: AddRun,
        began: float,
    ) -> None:
        """Do a run unless it is done or out, and the memory run that it may call for."""
        if self.control.stop_all():
            raise Stopped
        if planned.warm_up and self._warms_itself(planned):
            return
        self._pause()
        if planned.identity not in self._done and not self._is_out(planned):
            self._do(attempts, planned, add, began)
        attempt = 1
        while (first := self._repeats.wanted(planned.identity)) and not self._is_out(planned):
            if self.control.stop_all():
                raise Stopped
            self._do(attempts, replace(planned, repeat_of=first), add, began, attempt)
            attempt += 1
        if self._needs_memory_run(planned):
            self._do(attempts, memory_run(planned), add, began)

    def _pause(self) -> None:
        """Let whoever watches do something between two runs."""
        at = time.monotonic()
        self.control.between_runs()
        self._paused_s += time.monotonic() - at

    def _since(self, began: float) -> float:
        """Seconds since the runs began, without those that it was paused."""
        return time.monotonic() - began - self._paused_s

    def _warms_itself(self, planned: PlannedRun) -> bool:
        """Whether each process of a lane warms up by itself: rounds for that would be twice."""
        approach = self.comparison.approach_called(planned.approach)
        return ENGINES[approach.engine].warm_up_calls > 0

    def _patience(self, planned: PlannedRun) -> float:
        """How long a run's clock may wait for a quiet moment: one that counts does, unless it is
        to be beside a load."""
        load = str(planned.point.get("background", self.plan.background[0]))
        counts = not (planned.warm_up or planned.memory_alone or self._aside)
        return self._repeats.patience_s if counts and load == QUIET else 0.0

    def _do(
        self,
        attempts: RunExecutor,
        planned: PlannedRun,
        add: AddRun,
        began: float,
        attempt: int = 0,
    ) -> None:
        """Do a run, under the number that is next, and keep it."""
        at = time.monotonic()
        planned = replace(planned, number=max((run.run for run in self.runs), default=0) + 1)
        run = self.preparation.with_server(partial(self._run, attempts, planned))
        log.debug(
            "run %s of %s in round %s: %s, %s s",
            run.run, run.approach, run.round, run.state, run.elapsed_s,
        )  # fmt: skip
        run.session = self.session.number
        run.spent_s = self._since(began)
        if self._patience(planned) > 0:
            self._repeats.waited(run.quiet_wait_s)
        self._repeats.judge(run, attempt)
        attempts.learn(run)
        if attempt:
            self._repeats.spend(time.monotonic() - at - run.quiet_wait_s)
        self.runs.append(run)
        add(run)
        self._note(run)
        self.listen(RunEnded(record=run))
        if run.state == STOPPED and self.control.stop_all():
            # The last run too: a trial that was stopped in it is not done.
            raise Stopped

    def _run(self, attempts: RunExecutor, planned: PlannedRun) -> RunRecord:
        approach = self.comparison.approach_called(planned.approach)
        self.listen(
            RunStarted(
                run=planned.number,
                approach=planned.approach,
                point=planned.point,
                round=planned.round,
                warm_up=planned.warm_up,
                memory_run=planned.memory_alone,
            )
        )

        def wanted_stop() -> bool:
            return self.control.stop_all() or self.control.stop_run(planned.number)

        def take(answer: Received) -> str:
            print_ = answer.fingerprint
            self.answers.take(planned.approach, planned.point, answer.path, print_, answer.parts)
            return print_

        try:
            tables = self.preparation.tables(planned.point, approach)
            run, curve = attempts.do(planned, tables, self.listen, wanted_stop, take)
        except NotAvailable as error:
            told = Failure(NOT_AVAILABLE, f"{error.what} {error.hint}".strip(), part="preparing")
            return run_record(planned, approach.engine, RunEnd(FAILED, failure=told))
        self.results.keep_curve(planned.number, curve)
        return run

    def _spent_before(self) -> float:
        """Seconds that earlier sessions of this trial spent on its runs."""
        return max((run.spent_s or 0.0 for run in self.runs), default=0.0)

    def _needs_memory_run(self, planned: PlannedRun) -> bool:
        wanted = self._status.needs_memory_run(planned)
        return wanted and not self._aside and not self._is_out(planned)

    def _enough(self, rounds: int, seconds: float) -> bool:
        """Whether the plan's rule ends the trial after so many whole rounds."""
        if self._stretch is not None:
            return self._told(self._stretch, rounds, seconds - self._spent_s)
        until = self.plan.until
        if until is None or rounds < 1:
            return False
        if self._rule is not None and self._rule(self.runs, rounds):
            return True
        running = self._status.running(self.runs)
        return enough(until, running, self.comparison.baseline_id, rounds, seconds / 60)

    def _told(self, added: Stretch, rounds: int, seconds: float) -> bool:
        """Whether what was added until it is told has told it, or has had its time."""
        if added.told_within_minutes is None or rounds < added.first_round:
            return False
        if seconds / 60 >= added.told_within_minutes:
            return True
        if not look_after(rounds, added.first_round):
            return False
        counted = [run for run in self._status.running(self.runs) if run.counted]
        points = added.points or self.points
        judge = Judge.of(self.comparison, self.machine)
        # Those that answered otherwise when it ended win nothing.
        known = self.results.read(AGREEMENT) if self.results.has(AGREEMENT) else {}
        wrong = {
            point: {lane for lane, one in lanes.items() if not one.agrees}
            for point, lanes in known.items()
        }
        return all(
            told(
                [
                    run for run in counted
                    if run.point == point and run.approach not in wrong.get(point_name(point), ())
                ],
                judge,
            )
            for point in points
        )  # fmt: skip

    def _is_out(self, planned: PlannedRun) -> bool:
        if planned.approach in self.control.dropped() or self._status.is_out(planned):
            return True
        if self._step_up is None or not self._step_up.leaves_behind(planned):
            return False
        contest = f"{planned.approach} {point_name(planned.point)}"
        if contest not in self._left_behind:
            self._left_behind.add(contest)
            self.listen(LaneOut(approach=planned.approach, point=planned.point))
        return True

    def _note(self, run: RunRecord) -> None:
        if self._stretch is None or run.session >= self._first_of_stretch:
            self._done.add(run.identity)
            self._repeats.take(run)
        elif run.round > 0:
            # Warm-ups are had again where much time has passed since.
            self._done.add(run.identity)
        if self._step_up:
            self._step_up.take(run)
        if self._status.take(run):
            self.listen(LaneOut(approach=run.approach, point=run.point))

    def _finish(self, ended: Literal["done", "stopped"]) -> TrialFindings:
        try:
            found = self._judged(ended)
        finally:
            self.preparation.spark.stop()
        log.info("trial in %s ended: %s, %s runs", self.folder, ended, len(self.runs))
        self.listen(TrialEnded(state=ended))
        return found

    def _judged(self, ended: Literal["done", "stopped"]) -> TrialFindings:
        return judged(
            self.comparison,
            self.results,
            self.taken,
            self.answers,
            self.preparation.sources,
            lanes=self.lanes,
            made=self.made,
            ended=ended,
            plan=self.plan,
        )


def desk_for(plan: Plan, folder: Path) -> AnswerReceiver:
    """What looks at the answers of runs of a plan, whose own folders lie in ``folder``."""
    limits = plan.limits
    return AnswerReceiver(
        folder, limits.memory_bytes, limits.prepare_seconds, sandboxed=sandboxed(plan)
    )
