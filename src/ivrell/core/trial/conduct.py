"""Conducting a trial: data made, runs in order, answers judged, everything kept.

The conductor does as little as it can while a run is timed: it waits for the runner.
"""

import logging
import os
import time
from collections import Counter
from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from dataclasses import asdict
from functools import partial
from pathlib import Path
from typing import Any, Protocol, TypeVar

import psycopg

from ivrell.core.agreement.record import Answers
from ivrell.core.agreement.sources import Sources
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.points import point_name
from ivrell.core.engines.base import Approach, state_of
from ivrell.core.engines.registry import ENGINES
from ivrell.core.errors import BadInput, Stopped
from ivrell.core.locks import in_use
from ivrell.core.machine import busy_cores, snapshot
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.recipe.databases.places import Databases
from ivrell.core.recipe.databases.store import Loaded
from ivrell.core.recipe.generate import Generator, shapes
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.store import DataStore, Made
from ivrell.core.report.findings import findings
from ivrell.core.report.html import report_html
from ivrell.core.results.folder import (
    AGREEMENT,
    COMPARISON,
    DATA,
    FINDINGS,
    MACHINE,
    PLAN,
    REPORT,
    AddRun,
    ResultFolder,
)
from ivrell.core.runtimes import Runtimes
from ivrell.core.scratch import scratch
from ivrell.core.trial.answer_desk import AnswerDesk, Received
from ivrell.core.trial.attempt import Attempts, sandboxed
from ivrell.core.trial.enough import enough
from ivrell.core.trial.plan import Plan, PlannedRun, memory_run, ordered_runs

log = logging.getLogger("ivrell.trial")
_FAILURES_BEFORE_OUT = 2
_SETTLE_S = 0.3

Done = TypeVar("Done")


class Control(Protocol):
    """What the person who watches may ask for while a trial goes on."""

    def stop_all(self) -> bool:
        """Whether the trial is to end now."""

    def stop_run(self, number: int) -> bool:
        """Whether the run of that number is to end now."""

    def dropped(self) -> set[str]:
        """Lanes that are to run no more."""


class NoControl:
    """Nobody asks for anything."""

    def stop_all(self) -> bool:
        return False

    def stop_run(self, number: int) -> bool:
        return False

    def dropped(self) -> set[str]:
        return set()


DataPlace = tuple[str, Input, tuple[str, ...], tuple[str, ...], str]
"""A point, an input, the keys and indexes of loaded tables, and the server they stand on."""


Listener = Callable[[str, dict[str, Any]], None]
"""Called with the kind of an event and its fields."""


class Trial:
    """One trial in one result folder.

    Args:
        text: the comparison file, exactly as it is to be kept.
        plan: what to do.
        folder: the result folder; runs found in it already are not done again.
        store: where made data is kept.
        listen: hears ``data``, ``machine``, ``run started``, ``progress``, ``run ended``,
            ``lane out`` and ``ended``.
        control: asked whether to stop.
        data_workers: processes that make data; as many as cores unless given.
        runtimes: folder in which other interpreters and servers are registered; Ivrell's own
            unless given.
        explained: runs tell how they are carried out, and give no answer; they count for nothing.
    """

    def __init__(
        self,
        text: str,
        plan: Plan,
        folder: Path,
        store: DataStore,
        *,
        listen: Listener = lambda kind, fields: None,
        control: Control | None = None,
        data_workers: int | None = None,
        runtimes: Path | None = None,
        explained: bool = False,
    ) -> None:
        self.explained = explained
        self.text = text
        self.comparison = parse(text)
        self.plan = plan
        self.results = ResultFolder(folder)
        self.store = store
        self.listen = listen
        self.control = control or NoControl()
        self.data_workers = data_workers or len(os.sched_getaffinity(0))
        self.lanes = plan.chosen_lanes(self.comparison)
        self.points = plan.points(self.comparison)
        self.runs: list[dict[str, Any]] = []
        self.out: dict[tuple[str, str], str] = {}
        self.made: list[dict[str, Any]] = []
        self._failures: Counter[tuple[str, str]] = Counter()
        self._several: set[tuple[str, str]] = set()
        self._seen_closely: set[tuple[str, str]] = set()
        self.databases = Databases(store.root.with_name("loaded"), runtimes)
        self._made: dict[DataPlace, dict[str, Made] | Loaded] = {}
        based = self.comparison.data.based_on(Path(plan.own_files or Path.cwd()))
        self._recipes = {point_name(p): based.resolved(p) for p in self.points}
        self._check_engines()
        self._check_cores()
        for lane in self.lanes:
            if getattr(self.comparison.lane(lane), "at", ""):
                self.databases.of(self.comparison.lane(lane))
        asked = (getattr(self.comparison.lane(lane), "runtime", None) for lane in self.lanes)
        known = Runtimes(runtimes)
        self.runtimes = {name: known.get(name) for name in asked if name}

    def _check_engines(self) -> None:
        self._check_layouts()
        for lane in self.lanes:
            state = state_of(ENGINES[self.comparison.lane(lane).engine])
            if not state.installed:
                raise BadInput(
                    f"The engine {state.name} is not installed here "
                    f"({', '.join(state.missing)} missing).",
                    where=f"approach {lane}",
                    cure=f"Install it with: {state.cure}",
                )

    def _check_cores(self) -> None:
        there = len(os.sched_getaffinity(0))
        if self.plan.cores and self.plan.cores > there:
            raise BadInput(
                f"Runs cannot be pinned to {self.plan.cores} cores: there are {there}.",
                where="cores",
                cure=f"Ask for {there} at the most, or leave the choice of cores to the system.",
            )

    def _check_layouts(self) -> None:
        """Refuse what cannot be laid out at a point, before anything is made."""
        for lane in self.lanes:
            approach = self.comparison.lane(lane)
            engine = ENGINES[approach.engine]
            if not engine.looks_at_tables:
                continue
            for recipe in self._recipes.values():
                if wrong := engine.problem_with(approach, shapes(recipe)):
                    where = f"approach {lane}" + (f", line {wrong.line}" if wrong.line else "")
                    raise BadInput(wrong.what, where=where, cure=wrong.cure)

    def conduct(self) -> dict[str, Any]:
        """Do the whole trial, or what is left of it.

        Returns the findings of every point, as findings.json holds them. A stop leaves a
        complete folder of what was done until then, with ``ended`` saying so.
        """
        with self.results.conducted(), in_use(self.store.root), in_use(self.databases.root):
            return self._conduct()

    @property
    def folder(self) -> Path:
        """The result folder's path."""
        return self.results.path

    def _conduct(self) -> dict[str, Any]:
        self.results.write(COMPARISON, self.text)
        self.results.write(PLAN, self.plan.model_dump_json(indent=2))
        ended = "done"
        log.info("trial of %s in %s", self.comparison.name, self.folder)
        try:
            # What looks at answers loads its libraries while the rest is prepared.
            with scratch() as folder, self._desk(folder) as desk:
                self._look_at_machine()
                self.answers = self._answers()
                self._take_up()
                self._make_data()
                if desk:
                    desk.wait_until_ready()
                # Looked at anew once our own work of making data has settled.
                time.sleep(_SETTLE_S)
                self.machine["busy_cores"] = busy_cores()
                self._keep_machine()
                self._do_runs(folder, desk)
        except Stopped:
            ended = "stopped"
        finally:
            # However it ended: no server is left behind.
            self.databases.stop()
        return self._finish(ended)

    def _look_at_machine(self) -> None:
        self.machine = snapshot(self.folder)
        self.machine["runtimes"] = {
            name: {
                "implementation": found.implementation,
                "version": found.version,
                "interpreter": found.interpreter,
                "packages": dict(found.packages),
            }
            for name, found in self.runtimes.items()
        }
        self._keep_machine()

    def prepare(self) -> dict[str, Made] | Loaded:
        """Make the data of the first lane at the first point and no more; gives it."""
        self.results.make()
        approach = self.comparison.lane(self.lanes[0])
        return self._make(self._recipes[point_name(self.points[0])], approach)

    def judge_again(self, reference: str | None = None) -> dict[str, Any]:
        """Hold the kept answers of a trial that has ended against another reference.

        ``reference`` is the id of a lane; None takes what the question says. Gives the findings
        of every point, and writes them as ``conduct`` does. Raises BadInput for an unknown lane
        or where the trial has not ended.
        """
        if not self.results.has_ended:
            raise BadInput("This trial has not ended.", cure="Wait for its end, or stop it.")
        if reference is not None:
            self.comparison.lane(reference)
            asked = {"reference": reference, "expected": None}
            answer = self.comparison.answer.model_copy(update=asked)
            self.comparison = self.comparison.model_copy(update={"answer": answer})

        self.machine = self.results.read_json(MACHINE)
        self.made = self.results.read_json(DATA)
        self.answers = self._answers()
        self._take_up()
        return self._finish(self.results.read_json(FINDINGS)["ended"])

    def shapes(self, point: dict[str, Any]) -> dict[str, dict[str, Any]]:
        """Rows and schema of each table at a point; see Job.shapes."""
        recipe = self._recipes[point_name(point)]
        generator = Generator(recipe)
        return {
            table: {
                "rows": recipe.rows_of(table),
                "schema": generator.schema(table).serialize().to_pybytes().hex(),
            }
            for table in recipe.tables
        }

    def _answers(self) -> Answers:
        own_files = Path(self.plan.own_files or Path.cwd())
        return Answers(self.comparison, self.results.answers, own_files)

    def _keep_machine(self) -> None:
        self.results.write_json(MACHINE, self.machine)
        self.listen("machine", self.machine)

    def _take_up(self) -> None:
        """Read what an earlier session of this trial left."""
        for run in self.results.runs():
            self.runs.append(run)
            self._note_trouble(run)
            if run["answer_fingerprint"]:
                self.answers.count(run["approach"], run["point"], run["answer_fingerprint"])

    def _place_of_data(self, point: dict[str, Any], approach: Approach) -> DataPlace:
        """What decides which data an approach finds at a point."""
        keys, indexes = (tuple(getattr(approach, name, ())) for name in ("keys", "indexes"))
        return point_name(point), approach.wanted, keys, indexes, getattr(approach, "at", "")

    def _make_data(self) -> None:
        told: list[dict[str, Any]] = []
        for point in self.points:
            for lane in self.lanes:
                approach = self.comparison.lane(lane)
                place = self._place_of_data(point, approach)
                if place not in self._made:
                    recipe = self._recipes[point_name(point)]
                    make = partial(self._make, recipe, approach)
                    self._made[place] = self._with_server(make)
        for made in self._made.values():
            told += made.as_made() if isinstance(made, Loaded) else map(asdict, made.values())
        self.made = list({(m["paths"][0], m["table"]): m for m in told}.values())
        self.results.write_json(DATA, self.made)
        self.listen("data made", {"tables": self.made})

    def _make(self, recipe: Recipe, approach: Approach) -> dict[str, Made] | Loaded:
        wanted = approach.wanted
        if wanted.form in DATABASES:
            return self.databases.of(approach).ensure(
                recipe,
                wanted.form,
                keys=getattr(approach, "keys", ()),
                indexes=getattr(approach, "indexes", ()),
                progress=self._tell_data,
                stopped=self.control.stop_all,
            )
        return {
            table: self.store.ensure(
                recipe,
                table,
                wanted,
                workers=self.data_workers,
                progress=self._tell_data,
                stopped=self.control.stop_all,
            )
            for table in recipe.tables
        }

    def _tell_data(self, table: str, form: str, rows: int, total: int) -> None:
        self.listen("data", {"table": table, "form": form, "rows": rows, "total": total})

    def _desk(self, folder: Path) -> AbstractContextManager[AnswerDesk | None]:
        return nullcontext() if self.explained else desk_for(self.plan, folder)

    def _do_runs(self, folder: Path, desk: AnswerDesk | None) -> None:
        done = {run["run"] for run in self.runs}
        attempts = Attempts(
            self.comparison,
            self.plan,
            folder,
            self.results.journal,
            self.databases,
            self.runtimes,
            desk=desk,
            mode="explained" if self.explained else "run",
            shapes=self.shapes,
        )
        for run in self.runs:
            attempts.learn(run)
        began = time.monotonic() - self._spent_before()
        ended_round = -self.plan.warm_ups
        try:
            with self.results.adding_runs() as add:
                for planned in ordered_runs(self.comparison, self.plan):
                    if self.control.stop_all():
                        raise Stopped
                    if planned.round > ended_round + 1:
                        ended_round = planned.round - 1
                        if self._enough(ended_round, time.monotonic() - began):
                            return
                    if planned.number not in done and not self._is_out(planned):
                        run = self._with_server(partial(self._do_run, attempts, planned))
                        self._keep_run(run, add, began)
                    if self._wants_memory_run(planned):
                        closely = memory_run(self.comparison, self.plan, planned)
                        run = self._with_server(partial(self._do_run, attempts, closely))
                        self._keep_run(run, add, began)
        finally:
            attempts.close()

    def _keep_run(self, run: dict[str, Any], add: AddRun, began: float) -> None:
        log.debug(
            "run %s of %s in round %s: %s, %s s",
            run["run"], run["approach"], run["round"], run["state"], run["elapsed_s"],
        )  # fmt: skip
        run["spent_s"] = time.monotonic() - began
        self.runs.append(run)
        add(run)
        self._note_trouble(run)
        self.listen("run ended", run)

    def _spent_before(self) -> float:
        """Seconds that earlier sessions of this trial spent on its runs."""
        return max((float(run.get("spent_s") or 0.0) for run in self.runs), default=0.0)

    def _wants_memory_run(self, planned: PlannedRun) -> bool:
        """Whether a lane was seen to be several processes at a point, whose memory needs a run
        of its own, and has had none there."""
        wanted = self._place_of_run(planned) in self._several - self._seen_closely
        return wanted and not self.explained and not self._is_out(planned)

    def _place_of_run(self, planned: PlannedRun) -> tuple[str, str]:
        return planned.approach, point_name(planned.point)

    def _enough(self, rounds: int, seconds: float) -> bool:
        """Whether the plan's rule ends the trial after so many whole rounds."""
        until = self.plan.until
        if until is None or rounds < 1:
            return False
        running = [
            run
            for run in self.runs
            if self._place_of(run) not in self.out and not run.get("memory_run")
        ]
        return enough(until, running, self.comparison.baseline_id, rounds, seconds / 60)

    def _place_of(self, run: dict[str, Any]) -> tuple[str, str]:
        return run["approach"], point_name(run["point"])

    def _is_out(self, planned: PlannedRun) -> bool:
        if planned.approach in self.control.dropped():
            return True
        return self._place_of_run(planned) in self.out

    def _note_trouble(self, run: dict[str, Any]) -> None:
        """Take a lane out at a point after a limit, or after failing twice in a row."""
        place = self._place_of(run)
        if run.get("memory_run"):
            self._seen_closely.add(place)
            return
        if run["state"] == "done" and run.get("several_processes"):
            self._several.add(place)
        if run["state"] == "failed":
            self._failures[place] += 1
        elif run["state"] == "done":
            self._failures[place] = 0
        at_limit = run["state"] == "limit"
        if at_limit or self._failures[place] >= _FAILURES_BEFORE_OUT:
            self.out[place] = run["state"]
            self.listen("lane out", {"approach": place[0], "point": run["point"]})

    def _with_server(self, what: Callable[[], Done]) -> Done:
        """Do something; once more where the private server ended before or in it."""
        try:
            return what()
        except psycopg.OperationalError:
            if not self.databases.revive():
                raise
            log.warning("the private server had ended and was started again (%s)", self.folder)
            return what()

    def _do_run(self, attempts: Attempts, planned: PlannedRun) -> dict[str, Any]:
        approach = self.comparison.lane(planned.approach)
        self.listen("run started", {**asdict(planned), "warm_up": planned.warm_up})

        def wanted_stop() -> bool:
            return self.control.stop_all() or self.control.stop_run(planned.number)

        def take(answer: Received) -> str:
            print_ = answer.fingerprint
            self.answers.take(planned.approach, planned.point, answer.path, print_)
            return print_

        made = self._made[self._place_of_data(planned.point, approach)]
        run, curve = attempts.do(planned, made, self.listen, wanted_stop, take)
        self._keep_curve(planned.number, curve)
        return run

    def _keep_curve(self, number: int, curve: list[list[float]]) -> None:
        self.results.keep_curve(number, curve)

    def _finish(self, ended: str) -> dict[str, Any]:
        agreement = {
            point_name(point): self.answers.judge(
                self.lanes, point, Sources(self._recipes[point_name(point)])
            )
            for point in self.points
        }
        self.results.write_json(AGREEMENT, agreement)
        self.results.write_curves(run["run"] for run in self.runs)
        found = {
            "ended": ended,
            "points": [
                findings(
                    self.comparison, self.runs, agreement[point_name(point)], self.machine, point
                )
                for point in self.points
            ],
        }
        self.results.write_json(FINDINGS, found)
        report = report_html(self.comparison, found, self.machine, self.made)
        self.results.write(REPORT, report)
        log.info("trial in %s ended: %s, %s runs", self.folder, ended, len(self.runs))
        self.listen("ended", {"ended": ended})
        return found


def desk_for(plan: Plan, folder: Path) -> AnswerDesk:
    """What looks at the answers of runs of a plan, whose own folders lie in ``folder``."""
    limits = plan.limits
    return AnswerDesk(
        folder, limits.memory_bytes, limits.prepare_seconds, sandboxed=sandboxed(plan)
    )
