"""Doing one run: its input brought into the asked state, the runner told, its answer kept."""

import logging
import os
import shutil
import sys
import time
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, nullcontext
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from ivrell.core.comparison.model import Comparison
from ivrell.core.comparison.points import point_name
from ivrell.core.contain.environment import scrubbed_environment
from ivrell.core.contain.sandbox import OURS, why_not
from ivrell.core.engines.base import Approach
from ivrell.core.engines.registry import ENGINES
from ivrell.core.errors import Stopped
from ivrell.core.folders import data_folder
from ivrell.core.measure.cache import cached_share, evict, warm
from ivrell.core.recipe.csv_style import CsvStyle
from ivrell.core.recipe.databases.places import Databases, seen
from ivrell.core.recipe.databases.store import DatabaseStore, Loaded
from ivrell.core.recipe.store import Made
from ivrell.core.runtimes import Runtime
from ivrell.core.servers import ELSEWHERE
from ivrell.core.service.running import StandIn, stand_in
from ivrell.core.tasks.task import ApproachFailed
from ivrell.core.trial.answer_desk import AnswerDesk, NotReceived, Received
from ivrell.core.trial.launch import Runner, RunnerGone
from ivrell.core.trial.plan import Plan, PlannedRun
from ivrell.core.trial.record import run_record
from ivrell.core.trial.threads import thread_environment

log = logging.getLogger("ivrell.trial")
_OF_SERVER = ("cpu_user_s", "cpu_system_s", "peak_memory_bytes", "start_memory_bytes")
Tell = Callable[[str, dict[str, Any]], None]


@dataclass(frozen=True)
class Place:
    """Where one run works: its folder, tables as files or loaded (see Job.database), whether it
    writes to them, what of them is in the page cache, and seconds that it took to bring them
    there."""

    folder: Path
    made: Mapping[str, Made]
    database: Mapping[str, str]
    writes: bool
    cache: Mapping[str, Any]
    store: DatabaseStore | None = None
    loaded: Loaded | None = None
    seconds: float = 0.0


class Attempts:
    """Does the runs of one trial with one runner, which is started anew when a run takes it
    down.

    Args:
        scratch: folder for the runs' own folders.
        journal: the runner's own record.
        databases: where tables are loaded for engines that keep them.
        runtimes: other interpreters that lanes ask for, by name.
        desk: looks at the answers; None where runs give none.
        shapes: gives the tables' shapes at a point, see Job.shapes.
        mode: what runs do: "run", or "explained", which tells how they are carried out and
            gives no answer.
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
        desk: AnswerDesk | None = None,
        mode: str = "run",
        shapes: Callable[[dict[str, Any]], dict[str, dict[str, Any]]] | None = None,
    ) -> None:
        self._shapes = shapes
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

    def learn(self, run: Mapping[str, Any]) -> None:
        """Take from a run that was done how often its lane's calls are repeated at its point,
        so that all its runs are alike."""
        if run["state"] == "done" and not run.get("memory_run"):
            place = (run["approach"], point_name(run["point"]))
            self._repeats.setdefault(place, run["inner_repeats"])

    def _renew_runner(self) -> None:
        log.warning("the runner had ended; another one watches the next run")
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
    ) -> tuple[dict[str, Any], list[list[float]]]:
        """Do one run; ``take`` keeps its answer and gives the fingerprint.

        Returns the run object and the curve.
        """
        place = self.place_for(planned, made)
        try:
            run, curve = self.attempt(planned, place, tell, wanted_stop, take)
        finally:
            self.leave(place)
        self.learn(run)
        return run, curve

    def place_for(self, planned: PlannedRun, made: Mapping[str, Made] | Loaded) -> Place:
        """A folder of its own for a run, and its inputs in the state of the cache asked for."""
        approach = self._comparison.lane(planned.approach)
        folder = self._scratch / str(planned.number)
        # There already where the server ended while this was done the first time.
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir(parents=True)
        asked = planned.point.get("cache", self._plan.cache[0])
        began = time.monotonic()
        if isinstance(made, Loaded):
            writes = bool(getattr(approach, "writes", False))
            store = self._databases.of(approach)
            database = store.for_run(made, planned.number, folder, writes, asked)
            files = [Path(database["place"])] if "place" in database else []
            cache = {"asked": asked, "share": cached_share(files)}
            took = time.monotonic() - began
            return Place(folder, {}, database, writes, cache, store, made, took)
        paths = [Path(path) for table in made.values() for path in table.paths]
        cache = set_cache(paths, asked)
        return Place(folder, made, {}, False, cache, seconds=time.monotonic() - began)

    def leave(self, place: Place) -> None:
        """Remove what a run had for itself."""
        if place.store:
            place.store.after_run(place.database, place.writes)
        shutil.rmtree(place.folder, ignore_errors=True)

    def attempt(
        self,
        planned: PlannedRun,
        place: Place,
        tell: Tell,
        wanted_stop: Callable[[], bool],
        take: Callable[[Received], str],
        **otherwise: Any,
    ) -> tuple[dict[str, Any], list[list[float]]]:
        """Do a run in a place; ``otherwise`` are fields of its job or limits that differ."""
        approach = self._comparison.lane(planned.approach)
        ended: dict[str, Any] | None = None
        restoring = 0.0
        if not self._runner.alive:
            # It ended between two runs, which neither of them is to blame for.
            self._renew_runner()
        try:
            with self._service(approach, place) as service:
                spec = self._spec(planned, place, service, otherwise)
                for event in self._runner.events(spec, wanted_stop):
                    if event["event"] == "progress":
                        tell("progress", {**event, "approach": planned.approach})
                    elif event["event"] == "restore":
                        began = time.monotonic()
                        assert place.store and place.loaded
                        place.store.restore(place.loaded, place.database)
                        restoring += time.monotonic() - began
                        self._runner.restored(planned.number)
                    elif event["event"] == "ended":
                        ended = event
        except RunnerGone as gone:
            # The approach took its watcher along. Its successor clears what is left of both.
            self._renew_runner()
            ended = _not_measured(
                "took its watcher down",
                f"The approach ended the process that watches it ({gone}). Nothing of the run "
                "could be measured; the next run has a new watcher.",
            )
        except ApproachFailed as error:
            ended = _not_measured(error.kind, error.message)
        assert ended is not None
        run = run_record(planned, approach.engine, ended)
        if place.store and not seen(place.store):
            for figure in _OF_SERVER:
                run[figure] = None
                run["not_measured"][figure] = ELSEWHERE
        served = run["counters"].get("service: CPU seconds")
        if served is not None and run["others_cpu_s"] is not None:
            # The stand-in is no stranger on the machine.
            run["others_cpu_s"] = max(0.0, run["others_cpu_s"] - served)
        run["cache"] = place.cache
        run["tables_s"] = place.seconds + restoring
        run["sandboxed"] = self._sandboxed
        run["cores"] = len(self._cores) if self._cores else None
        if self._mode == "explained":
            run["plans"] = (ended["handed"] or {}).get("plans", [])
        elif run["state"] == "done":
            try:
                assert self._desk
                most = int(self._plan.limits.written_bytes)
                run["answer_fingerprint"] = take(self._desk.take(place.folder, most, wanted_stop))
            except Stopped:
                run["state"] = "stopped"
            except NotReceived as error:
                run["state"] = "failed"
                run["error"] = {
                    "kind": "answer cannot be read", "message": str(error), "line": None,
                    "trace": "", "part": "handing over", "printed": "",
                }  # fmt: skip
        return run, ended["curve"]

    def _shapes_for(self, planned: PlannedRun, approach: Approach) -> dict[str, dict[str, Any]]:
        """Rows and schema of each table, where the engine lays them out itself."""
        wanted = ENGINES[approach.engine].given_shapes
        return self._shapes(planned.point) if wanted and self._shapes else {}

    def _styles(self, approach: Approach) -> dict[str, dict[str, Any]]:
        """How each table's csv is written: a file of the user's own as it is, where it is given
        so, the others as the approach wants them."""
        wanted = approach.wanted
        if not wanted.form.startswith("csv"):
            return {}
        found = {}
        for name, table in self._comparison.data.tables.items():
            own = table.file is not None and wanted.parts == 1 and not wanted.csv
            style = (table.csv if own else wanted.csv) or CsvStyle()
            found[name] = style.as_dict()
        return found

    def _service(self, approach: Approach, place: Place) -> AbstractContextManager[StandIn | None]:
        settings = getattr(approach, "service", None)
        if settings is None:
            return nullcontext()
        return stand_in(
            asdict(settings), place.folder.with_suffix(".service"), sandboxed=self._sandboxed,
            memory_bytes=self._plan.limits.memory_bytes,
        )  # fmt: skip

    def _spec(
        self,
        planned: PlannedRun,
        place: Place,
        service: StandIn | None,
        otherwise: Mapping[str, Any],
    ) -> dict[str, Any]:
        made, folder, database = place.made, place.folder, place.database
        limits = self._plan.limits.model_dump()
        approach = self._comparison.lane(planned.approach)
        threads = planned.point.get("threads", self._plan.threads[0])
        environment = scrubbed_environment(folder)
        runtime = self._runtimes.get(getattr(approach, "runtime", None) or "")
        sandbox = None
        if self._sandboxed:
            places = [_shown(path) for table in made.values() for path in table.paths]
            places += (database[key] for key in ("pristine", "place") if key in database)
            if "name" in database:
                assert place.store
                places += filter(None, [str(place.store.cluster.socket_folder or "")])
            if runtime:
                places += runtime.prefixes
            sandbox = {
                "ours": OURS,
                "inputs": tuple(places),
                "hidden": (str(data_folder()),),
                "network": bool(place.store and place.store.given),
                "beside": service.pid if service else None,
            }
        return {
            "run": planned.number,
            "interpreter": runtime.interpreter if runtime else sys.executable,
            "environment": {**environment, **thread_environment(threads)},
            "limits": {name: otherwise.get(name, value) for name, value in limits.items()},
            "cores": self._cores,
            "background": planned.point.get("background", self._plan.background[0]),
            "sandbox": sandbox,
            "memory_alone": planned.memory_alone,
            # Whether the run has a copy of its own on a server, to be put back for more calls.
            "restores": place.writes and "name" in database,
            "server": place.store.cluster.pid if place.store and "name" in database else None,
            "job": {
                "approach": asdict(approach) | otherwise.get("approach", {}),
                "tables": {name: table.given for name, table in made.items()},
                "form": approach.wanted.form,
                "knobs": {knob: planned.point[knob] for knob in self._comparison.knobs},
                "folder": str(folder),
                "database": dict(database),
                "threads": threads,
                "service": service.address if service else "",
                "styles": self._styles(approach),
                "shapes": self._shapes_for(planned, approach),
                "mode": otherwise.get("mode", self._mode),
                "kept": 1 if planned.memory_alone else self._plan.kept,
                "shortest_s": 0.0 if planned.memory_alone else self._plan.shortest_s,
                "repeats": None
                if planned.memory_alone
                else self._repeats.get((planned.approach, point_name(planned.point))),
            },
        }


def _shown(path: str) -> str:
    """What of an input a run is shown: the folder of made data, but of a file of the user's own
    that file alone."""
    file = Path(path)
    return str(file.parent if file.is_relative_to(data_folder()) else file)


def sandboxed(plan: Plan) -> bool:
    """Whether the runs of a plan are in sandboxes here."""
    return plan.sandbox == "auto" and why_not() is None


def pinned(cores: int | None) -> list[int] | None:
    """The cores that runs are pinned to: the last ones, since the first is where the system's
    own work lands."""
    if cores is None:
        return None
    return sorted(os.sched_getaffinity(0))[-cores:]


def set_cache(paths: list[Path], state: str) -> dict[str, Any]:
    """Bring the inputs into memory, or out of it; what is really there is looked at after."""
    for path in paths:
        if state == "cold":
            evict(path)
        else:
            warm(path)
    return {"asked": state, "share": cached_share(paths)}


def _not_measured(kind: str, message: str) -> dict[str, Any]:
    """What stands for a run of which nothing could be measured."""
    return {
        "state": "failed",
        "start_s": None,
        "parts": [],
        "elapsed_at_least_s": None,
        "most_threads": None,
        "handed": None,
        "failed": {
            "kind": kind,
            "message": message,
            "line": None,
            "trace": "",
            "part": "running",
            "printed": "",
        },
        "limit": None,
        "left_bytes": None,
        "curve": [],
        "output": "",
        "output_bytes": 0,
    }
