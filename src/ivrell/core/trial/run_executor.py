"""Doing one run: its input brought into the asked state, the runner told, its answer kept."""

import logging
import os
import sys
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

from ivrell.core.agreement.record import NotKept
from ivrell.core.base.errors import Stopped
from ivrell.core.base.folders import data_folder
from ivrell.core.base.temp_dirs import remove
from ivrell.core.base.waits import never
from ivrell.core.comparison.model import Comparison
from ivrell.core.contain.calls import Filter, compiled
from ivrell.core.contain.environment import scrubbed_environment
from ivrell.core.contain.sandbox import OURS, why_not
from ivrell.core.engines.base import Approach
from ivrell.core.engines.registry import ENGINES
from ivrell.core.engines.workspace import RunWorkspace, Told, WorkspaceRequest
from ivrell.core.recipe.csv_style import CsvStyle
from ivrell.core.recipe.databases.places import Databases
from ivrell.core.recipe.databases.store import Loaded
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.store import Made
from ivrell.core.records.events import RunProgress
from ivrell.core.records.plan import OWN
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.run import RunRecord
from ivrell.core.records.wire import (
    DONE,
    FAILED,
    RUN,
    STOPPED,
    Calls,
    Failure,
    Job,
    Order,
    Progress,
    Restore,
    RunEnd,
    RunSpec,
    TableShape,
    Walls,
)
from ivrell.core.run.answers.receiver import AnswerReceiver, NotReceived, Received
from ivrell.core.run.launch import Runner, RunnerGone
from ivrell.core.run.runner.bounds import left_files
from ivrell.core.run.runner.run_end import asked_for_network, without_its_service
from ivrell.core.run.worker.threads import thread_environment
from ivrell.core.runtimes import Runtime
from ivrell.core.service.running import StandIn
from ivrell.core.spark.places import Places
from ivrell.core.tasks.task import ApproachFailed
from ivrell.core.trial.plan import Plan, PlannedRun
from ivrell.core.trial.record import run_record

log = logging.getLogger("ivrell.trial")
Tell = Callable[[RunProgress], None]
Curve = list[tuple[float, float, int]]


@dataclass(frozen=True)
class RunOverrides:
    """What of a run differs from the plan: its mode, the fields of its approach, the seconds that
    its timed part may last."""

    mode: str = ""
    approach: Mapping[str, Any] = field(default_factory=dict)
    seconds: float | None = None


NO_OVERRIDES = RunOverrides()


KeepFiles = Callable[[RunRecord, "Iterator[os.DirEntry[str]]", Callable[[], bool]], None]


class RunExecutor:
    """Does the runs of one trial with one runner, which is started anew when a run takes it
    down.

    Args:
        scratch: folder for the runs' own folders.
        journal: the runner's own record.
        databases: where tables are loaded for engines that keep them.
        runtimes: other interpreters that lanes ask for, by name.
        spark: where sessions of Spark run.
        keep_log: keeps the log of a run's session, by the run's number.
        keep_files: keeps what a run that counts left in its folder.
        desk: looks at the answers; None where runs give none.
        shapes: gives the tables' shapes at a point, see Job.shapes.
        patience: gives how long a run's clock may wait for a quiet moment, in seconds.
        own_styles: how tables that are csv files of the user's own are written, by name.
        mode: what runs do, see wire.RUN.
    """

    def __init__(
        self,
        comparison: Comparison,
        plan: Plan,
        scratch: Path,
        journal: Path,
        databases: Databases,
        runtimes: Mapping[str, Runtime] | None = None,
        *,
        spark: Places | None = None,
        keep_log: Callable[[int, Path], None] | None = None,
        keep_files: KeepFiles | None = None,
        desk: AnswerReceiver | None = None,
        mode: str = RUN,
        shapes: Callable[[Point], Mapping[str, TableShape]] | None = None,
        own_styles: Mapping[str, CsvStyle] | None = None,
        patience: Callable[[PlannedRun], float] = lambda _: 0.0,
    ) -> None:
        self._patience = patience
        self._shapes = shapes
        self._own_styles = own_styles or {}
        self._spark = spark
        self._keep_log = keep_log
        self._keep_files = keep_files
        self._desk = desk
        self._mode = mode
        self._runtimes = runtimes or {}
        self._databases = databases
        self._comparison = comparison
        self._plan = plan
        self._scratch = scratch
        self._journal = journal
        self._runner = Runner(journal)
        self._sandboxed = sandboxed(plan)
        self._cores = pinned(plan.cores)
        self._repeats: dict[tuple[str, str], int] = {}
        self._stored: dict[str, Told] = {}

    def learn(self, run: RunRecord) -> None:
        """Take from a run that was done how often its lane's calls are repeated at its point,
        so that all its runs are alike. One that was disturbed took longer, and so asks for too
        few: the next run finds them anew."""
        if run.state == DONE and not run.memory_run and not run.was_disturbed:
            place = (run.approach, point_name(run.point))
            self._repeats.setdefault(place, run.inner_repeats)

    def _renew_runner(self) -> None:
        log.warning("another runner watches the next run")
        self._runner.close()
        self._runner = Runner(self._journal)

    def close(self) -> None:
        """End the runner and whatever it still watches."""
        self._runner.close()

    def do(
        self,
        planned: PlannedRun,
        made: Mapping[str, Made] | Loaded,
        tell: Tell,
        wanted_stop: Callable[[], bool],
        take: Callable[[Received], str],
    ) -> tuple[RunRecord, Curve]:
        """Do one run; ``take`` keeps its answer and gives the fingerprint.

        Returns the run record and the curve.
        """
        try:
            place = self.place_for(planned, made, wanted_stop)
        except Stopped:
            return run_record(planned, self._engine_of(planned), RunEnd(STOPPED)), []
        try:
            run, curve = self.attempt(planned, place, tell, wanted_stop, take)
            if self._keep_files and run.counted:
                self._keep_files(run, left_files(place.folder), wanted_stop)
        finally:
            place.leave()
        return run, curve

    def _engine_of(self, planned: PlannedRun) -> str:
        return self._comparison.approach_called(planned.approach).engine

    def place_for(
        self,
        planned: PlannedRun,
        made: Mapping[str, Made] | Loaded,
        wanted_stop: Callable[[], bool] = never,
    ) -> RunWorkspace:
        """A folder of its own for a run, and its inputs in the state of the cache asked for. Raises
        Stopped when ``wanted_stop`` says so meanwhile."""
        approach = self._comparison.approach_called(planned.approach)
        folder = self._scratch / str(planned.number)
        # There already where the server ended while this was done the first time.
        remove(folder)
        folder.mkdir(parents=True)
        asked = WorkspaceRequest(
            number=planned.number,
            approach=approach,
            made=made,
            folder=folder,
            cache=str(planned.point.get("cache", self._plan.cache[0])),
            threads=self._threads(planned),
            databases=self._databases,
            spark=self._spark,
            stored=self._stored,
        )
        return ENGINES[approach.engine].workspace(asked, wanted_stop)

    def _threads(self, planned: PlannedRun) -> int | None:
        threads = planned.point.get("threads", self._plan.threads[0])
        return None if threads is None else int(threads)

    def attempt(
        self,
        planned: PlannedRun,
        place: RunWorkspace,
        tell: Tell,
        wanted_stop: Callable[[], bool],
        take: Callable[[Received], str],
        overrides: RunOverrides = NO_OVERRIDES,
    ) -> tuple[RunRecord, Curve]:
        """Do a run in a place."""
        approach = self._comparison.approach_called(planned.approach)
        end, restoring = self._ended(planned, approach, place, tell, wanted_stop, overrides)
        run = run_record(planned, approach.engine, end)
        run.scope = place.account(run, ENGINES[approach.engine].scope(approach)).value
        run.cache = place.cache
        run.tables_s = place.seconds + restoring
        run.sandboxed = self._sandboxed
        if self._sandboxed and run.error and not place.network:
            run.error = asked_for_network(run.error)
        run.cores = len(self._cores) if self._cores else None
        if self._keep_log and place.log:
            self._keep_log(planned.number, place.log)
        if self._mode == RUN and run.state == DONE:
            self._take_over(run, place, wanted_stop, take)
        return run, end.curve

    def _ended(
        self,
        planned: PlannedRun,
        approach: Approach,
        place: RunWorkspace,
        tell: Tell,
        wanted_stop: Callable[[], bool],
        overrides: RunOverrides,
        *,
        again: bool = False,
    ) -> tuple[RunEnd, float]:
        """Have the runner do a run; its end, and seconds that putting tables back took.

        A runner that ended before it began the run is nobody's fault: another one does it.
        """
        restoring = 0.0
        if not self._runner.alive:
            # It ended between two runs, which neither of them is to blame for.
            self._renew_runner()
        try:
            around = place.around(
                sandboxed=self._sandboxed,
                memory_bytes=self._plan.limits.memory_bytes,
                wanted_stop=wanted_stop,
            )
            with around as service:
                spec = self._spec(planned, place, service, overrides)
                for says in self._runner.events(spec, wanted_stop):
                    if isinstance(says, Progress):
                        fields = {"run": planned.number, "approach": planned.approach}
                        tell(RunProgress(**fields, **vars(says), cluster=place.progress()))
                    elif isinstance(says, Restore):
                        began = time.monotonic()
                        place.restore(wanted_stop)
                        restoring += time.monotonic() - began
                        self._runner.restored(planned.number)
                    else:
                        if service:
                            says = without_its_service(says, service.why_ended())
                        return says, restoring
        except Stopped:
            # A run that waited for its tables is ended with who watches it.
            self._renew_runner()
            return RunEnd(STOPPED), restoring
        except RunnerGone as gone:
            if wanted_stop():
                self._renew_runner()
                return RunEnd(STOPPED), restoring
            # The approach took its watcher along. Its successor clears what is left of both.
            self._renew_runner()
            if not gone.began and not again:
                return self._ended(
                    planned, approach, place, tell, wanted_stop, overrides, again=True
                )
            failure = Failure(
                "took its watcher down",
                f"The approach ended the process that watches it ({gone}). Nothing of the run "
                "could be measured; the next run has a new watcher.",
            )
            return RunEnd(FAILED, failure=failure), restoring
        except ApproachFailed as error:
            return RunEnd(FAILED, failure=Failure(error.kind, error.message)), restoring
        raise RunnerGone("the runner told of no end", began=True)

    def _take_over(
        self,
        run: RunRecord,
        place: RunWorkspace,
        wanted_stop: Callable[[], bool],
        take: Callable[[Received], str],
    ) -> None:
        """Have the answer looked at, and keep it."""
        assert self._desk
        try:
            most = self._plan.limits.written_bytes
            received = self._desk.take(place.folder, most, wanted_stop)
            run.answer_fingerprint = take(replace(received, parts=place.parts))
            place.keep((run.approach, received.fingerprint))
        except Stopped:
            run.state = "stopped"
        except (NotReceived, NotKept) as error:
            run.state = "failed"
            run.error = Failure("answer cannot be read", str(error), part="result export")

    def _shapes_for(self, planned: PlannedRun, approach: Approach) -> Mapping[str, TableShape]:
        """Rows and schema of each table, where the engine lays them out itself."""
        wanted = ENGINES[approach.engine].given_shapes
        return self._shapes(planned.point) if wanted and self._shapes else {}

    def _styles(self, approach: Approach) -> Mapping[str, Mapping[str, Any]]:
        """How each table's csv is written: a file of the user's own as it is, where it is given
        so, the others as the approach wants them."""
        wanted = approach.wanted
        if not wanted.form.startswith("csv"):
            return {}
        # A file of the user's own is given as it is where that form is wanted, else made anew.
        as_it_is = self._own_styles if wanted == Input(form="csv") else {}
        made = wanted.csv or CsvStyle()
        return {name: as_it_is.get(name, made).as_dict() for name in self._comparison.data.tables}

    def _spec(
        self,
        planned: PlannedRun,
        place: RunWorkspace,
        service: StandIn | None,
        overrides: RunOverrides,
    ) -> RunSpec:
        approach = self._comparison.approach_called(planned.approach)
        runtime = self._runtimes.get(self._runtime_name(planned, approach))
        limits = self._plan.limits.for_run()
        if overrides.seconds is not None:
            limits = replace(limits, seconds=overrides.seconds)
        background = planned.point.get("background", self._plan.background[0])
        order = self._order(planned, place, approach, service, overrides)
        return RunSpec(
            run=planned.number,
            interpreter=runtime.interpreter if runtime else sys.executable,
            environment={
                **scrubbed_environment(place.folder),
                **thread_environment(order.job.threads),
            },
            limits=limits,
            cores=self._cores,
            background=str(background),
            walls=self._walls(place, runtime, service) if self._sandboxed else None,
            memory_alone=planned.memory_alone,
            restores=place.restores,
            server=place.server_process,
            patience_s=self._patience(planned),
            order=order,
        )

    def _runtime_name(self, planned: PlannedRun, approach: Approach) -> str:
        """The interpreter that a run is done in: the condition's, else the approach's own."""
        asked = str(planned.point.get("runtime", self._plan.runtime[0]))
        able = ENGINES[approach.engine].takes_runtime
        return asked if able and asked != OWN else approach.needs.runtime

    def _order(
        self,
        planned: PlannedRun,
        place: RunWorkspace,
        approach: Approach,
        service: StandIn | None,
        overrides: RunOverrides,
    ) -> Order:
        job = Job(
            approach={**asdict(approach), **overrides.approach},
            tables={name: table.given for name, table in place.made.items()},
            form=approach.wanted.form,
            knobs={knob: planned.point[knob] for knob in self._comparison.knobs},
            folder=place.folder,
            threads=self._threads(planned),
            database=place.database and replace(place.database, seconds=self._plan.limits.seconds),
            service=service.address if service else "",
            styles=self._styles(approach),
            shapes=self._shapes_for(planned, approach),
            spark=place.spark,
        )
        once = (overrides.mode or self._mode) != RUN
        first = 0 if once else ENGINES[approach.engine].warm_up_calls
        # Memory is that of the kind of call that time is taken of.
        calls = Calls(1 + first)
        if not planned.memory_alone:
            repeats = self._repeats.get((planned.approach, point_name(planned.point)))
            calls = Calls(self._plan.calls_per_process + first, self._plan.min_sample_s, repeats)
        return Order(job, calls, overrides.mode or self._mode)

    def _walls(
        self, place: RunWorkspace, runtime: Runtime | None, service: StandIn | None
    ) -> Walls:
        """What a sandboxed run is shown."""
        inputs = [*place.inputs, *(runtime.prefixes if runtime else ())]
        return Walls(
            calls=compiled(Filter.RUN),
            ours=list(OURS),
            inputs=inputs,
            hidden=[str(data_folder())],
            network=place.network,
            beside=service.pid if service else place.beside,
            writable=[str(folder) for folder in place.writable],
        )


def sandboxed(plan: Plan) -> bool:
    """Whether the runs of a plan are in sandboxes here."""
    return plan.sandbox == "auto" and why_not() is None


def pinned(cores: int | None) -> list[int] | None:
    """The cores that runs are pinned to: the last ones, since the first is where the system's
    own work lands."""
    if cores is None:
        return None
    return sorted(os.sched_getaffinity(0))[-cores:]
