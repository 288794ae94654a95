"""Doing one run: its input brought into the asked state, the runner told, its answer kept."""

import os
import shutil
import sys
from collections.abc import Callable, Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

from ivrell.core.agreement.record import point_name
from ivrell.core.comparison.model import Comparison
from ivrell.core.folders import data_folder
from ivrell.core.measure.cache import cached_share, evict, warm
from ivrell.core.recipe.databases.store import DatabaseStore, Loaded
from ivrell.core.recipe.store import Made
from ivrell.core.trial.launch import Runner, RunnerGone, scrubbed_environment
from ivrell.core.trial.plan import Plan, PlannedRun
from ivrell.core.trial.record import run_record
from ivrell.core.trial.sandbox import why_not
from ivrell.core.trial.threads import thread_environment

Tell = Callable[[str, dict[str, Any]], None]


class Attempts:
    """Does the runs of one trial with one runner, which is started anew when a run takes it
    down.

    Args:
        scratch: folder for the runs' own folders.
        journal: the runner's own record.
        databases: where tables are loaded for engines that keep them.
    """

    def __init__(
        self,
        comparison: Comparison,
        plan: Plan,
        scratch: Path,
        journal: Path,
        databases: DatabaseStore,
    ) -> None:
        self._databases = databases
        self._comparison = comparison
        self._plan = plan
        self._scratch = scratch
        self._journal = journal
        self._runner = Runner(journal)
        self._sandboxed = plan.sandbox == "auto" and why_not() is None
        self._cores = pinned(plan.cores)
        self._repeats: dict[tuple[str, str], int] = {}

    def learn(self, run: Mapping[str, Any]) -> None:
        """Take from a run that was done how often its lane's calls are repeated at its point,
        so that all its runs are alike."""
        if run["state"] == "done":
            place = (run["approach"], point_name(run["point"]))
            self._repeats.setdefault(place, run["inner_repeats"])

    def close(self) -> None:
        """End the runner and whatever it still watches."""
        self._runner.close()

    def do(
        self,
        planned: PlannedRun,
        made: Mapping[str, Made] | Loaded,
        tell: Tell,
        wanted_stop: Callable[[], bool],
        take: Callable[[Path], str],
    ) -> tuple[dict[str, Any], list[list[float]]]:
        """Do one run; ``take`` keeps its answer and gives the fingerprint.

        Returns the run object and the curve.
        """
        approach = self._comparison.lane(planned.approach)
        folder = self._scratch / str(planned.number)
        folder.mkdir(parents=True)
        asked = planned.point.get("cache", self._plan.cache[0])
        writes = bool(getattr(approach, "writes", False))
        database: dict[str, str] = {}
        if isinstance(made, Loaded):
            database = self._databases.for_run(made, planned.number, folder, writes, asked)
            files = [Path(database["place"])] if "place" in database else []
            cache = {"asked": asked, "share": cached_share(files)}
            made = {}
        else:
            paths = [Path(path) for table in made.values() for path in table.paths]
            cache = set_cache(paths, asked)
        ended: dict[str, Any] | None = None
        spec = self._spec(planned, made, folder, database)
        try:
            for event in self._runner.events(spec, wanted_stop):
                if event["event"] == "progress":
                    tell("progress", {**event, "approach": planned.approach})
                elif event["event"] == "ended":
                    ended = event
        except RunnerGone as gone:
            # The approach took its watcher along. Its successor clears what is left of both.
            self._runner.close()
            self._runner = Runner(self._journal)
            ended = _lost(str(gone))
        assert ended is not None
        run = run_record(planned, approach.engine, ended)
        run["cache"] = cache
        run["sandboxed"] = self._sandboxed
        run["cores"] = len(self._cores) if self._cores else None
        if run["state"] == "done":
            run["answer_fingerprint"] = take(folder / ".answer.arrow")
        self._databases.after_run(database, writes)
        self.learn(run)
        shutil.rmtree(folder, ignore_errors=True)
        return run, ended["curve"]

    def _spec(
        self,
        planned: PlannedRun,
        made: Mapping[str, Made],
        folder: Path,
        database: Mapping[str, str],
    ) -> dict[str, Any]:
        approach = self._comparison.lane(planned.approach)
        threads = planned.point.get("threads", self._plan.threads[0])
        environment = scrubbed_environment(folder)
        sandbox = None
        if self._sandboxed:
            places = [str(Path(path).parent) for table in made.values() for path in table.paths]
            if "place" in database:
                places.append(database["place"])
            if "name" in database:
                places.append(str(self._databases.cluster.socket_folder))
            sandbox = {"inputs": tuple(places), "hidden": (str(data_folder()),)}
        return {
            "run": planned.number,
            "interpreter": sys.executable,
            "environment": {**environment, **thread_environment(threads)},
            "limits": self._plan.limits.model_dump(),
            "cores": self._cores,
            "background": planned.point.get("background", self._plan.background[0]),
            "sandbox": sandbox,
            "server": self._databases.cluster.pid if "name" in database else None,
            "job": {
                "approach": asdict(approach),
                "tables": {name: table.given for name, table in made.items()},
                "form": approach.wanted.form,
                "knobs": {knob: planned.point[knob] for knob in self._comparison.knobs},
                "folder": str(folder),
                "database": dict(database),
                "threads": threads,
                "kept": self._plan.kept,
                "shortest_s": self._plan.shortest_s,
                "repeats": self._repeats.get((planned.approach, point_name(planned.point))),
            },
        }


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


def _lost(why: str) -> dict[str, Any]:
    """What stands for a run whose runner was taken down with it."""
    return {
        "state": "failed",
        "start_s": None,
        "parts": [],
        "elapsed_at_least_s": None,
        "most_threads": None,
        "handed": None,
        "failed": {
            "kind": "took its watcher down",
            "message": f"The approach ended the process that watches it ({why}). Nothing of the "
            "run could be measured; the next run has a new watcher.",
            "line": None,
            "trace": "",
            "part": "running",
        },
        "limit": None,
        "left_bytes": None,
        "curve": [],
        "output": "",
        "output_bytes": 0,
    }
