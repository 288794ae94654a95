"""Where a run works and what it finds around it; an engine brings its own where files in a folder
are not all."""

import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path

from ivrell.core.base.folders import data_folder
from ivrell.core.base.temp_dirs import remove
from ivrell.core.base.waits import WantedStop, never
from ivrell.core.engines.base import Approach, Scope
from ivrell.core.measure.cache import cached_share, evict, warm
from ivrell.core.recipe.databases.places import Databases, seen
from ivrell.core.recipe.databases.store import Loaded
from ivrell.core.recipe.store import Made
from ivrell.core.records.run import CacheState, RunRecord
from ivrell.core.records.wire import ClusterProgress, DatabasePlace, SparkPlace
from ivrell.core.servers.own import ELSEWHERE
from ivrell.core.service.running import SERVICE_CPU, StandIn, stand_in
from ivrell.core.spark.places import Places
from ivrell.core.tasks.sessions import sessions_of

OF_SERVER = ("cpu_user_s", "cpu_system_s", "peak_memory_bytes", "start_memory_bytes")
"""Figures that a server's processes have a share of."""

Told = tuple[str, str]
"""A lane and the fingerprint of an answer of its."""


@dataclass(frozen=True)
class WorkspaceRequest:
    """What a run's place is made of.

    Attributes:
        number: the run's.
        approach: that runs.
        made: its tables, in files or loaded.
        folder: the run's own, empty.
        cache: state of the page cache that is wanted of the inputs.
        threads: that its libraries may use, or None for their own choice.
        databases: where tables are loaded.
        spark: where sessions of Spark run, where that is known.
        stored: answers that are kept where executors wrote them, by where; a place adds to it.
    """

    number: int
    approach: Approach
    made: Mapping[str, Made] | Loaded
    folder: Path
    cache: str
    threads: int | None
    databases: Databases
    spark: Places | None
    stored: dict[str, Told]


class RunWorkspace:
    """A folder of a run's own, beside tables in files.

    Attributes:
        folder: the run's own.
        cache: what of its inputs is in the page cache.
        seconds: that it took to bring them there.
        writes: whether it changes tables that are put back before each call.
        restores: whether they are put back by who conducts.
        on_server: whether a server goes on with what a run began when that has ended.
        database, spark: what the run is told of where its tables are loaded, and of where its
            session runs.
        server_process: main process of the server or cluster that works for the run, where it is
            seen here.
        network: whether it reaches the network.
        beside: process whose network it shares, where that is one of its own.
        writable: folders of this machine that it writes to besides its own.
        log: what its session wrote of its tasks, once there is something.
    """

    writes = False
    restores = False
    on_server = False
    database: DatabasePlace | None = None
    spark: SparkPlace | None = None
    server_process: int | None = None
    network = False
    beside: int | None = None
    writable: tuple[Path, ...] = ()

    def __init__(self, asked: WorkspaceRequest, wanted_stop: WantedStop = never) -> None:
        """Bring the inputs into the state asked for. Raises Stopped when ``wanted_stop`` says so
        meanwhile."""
        self._asked = asked
        self.folder = asked.folder
        began = time.monotonic()
        self.cache = self._bring(wanted_stop)
        self.seconds = time.monotonic() - began

    @property
    def made(self) -> Mapping[str, Made]:
        """The tables in files, by name."""
        return {} if isinstance(self._asked.made, Loaded) else self._asked.made

    @property
    def log(self) -> Path | None:
        return None

    def _bring(self, wanted_stop: WantedStop) -> CacheState:
        paths = [Path(path) for table in self.made.values() for path in table.paths
                 if path.startswith("/")]  # fmt: skip
        return set_cache(paths, self._asked.cache)

    @contextmanager
    def around(
        self, *, sandboxed: bool, memory_bytes: int, wanted_stop: WantedStop
    ) -> Iterator[StandIn | None]:
        """The service that an approach asks, while it runs. Raises as ``stand_in`` does."""
        settings = self._asked.approach.needs.service
        if settings is None:
            yield None
            return
        with stand_in(
            asdict(settings), self.folder.with_suffix(".service"), sandboxed=sandboxed,
            memory_bytes=memory_bytes, wanted_stop=wanted_stop,
        ) as service:  # fmt: skip
            yield service

    @property
    def inputs(self) -> list[str]:
        """Files and folders that a sandboxed run is shown."""
        shown = [_shown(path) for table in self.made.values() for path in table.paths]
        return shown + [beside for path in shown if Path(beside := f"{path}.places.json").exists()]

    @property
    def parts(self) -> str:
        """Where executors leave an answer that they write, where there are any."""
        return ""

    def progress(self) -> ClusterProgress | None:
        """How the work of others for the run stands."""
        return None

    def restore(self, wanted_stop: WantedStop) -> None:
        """Put back the tables that it changed."""
        raise NotImplementedError

    def still_at_work(self) -> bool:
        """Whether a server still does what a run asked of it that has ended."""
        return False

    def account(self, run: RunRecord, scope: Scope) -> Scope:
        """Hold the figures of a run to the processes that they are those of; which these are."""
        served = run.counters.get(SERVICE_CPU)
        if scope == Scope.SERVICE and served is not None and run.others_cpu_s is not None:
            # The service is no stranger on the machine.
            run.others_cpu_s = max(0.0, run.others_cpu_s - served)
        return scope

    def keep(self, answer: Told) -> None:
        """Hear that a lane's answer of a fingerprint was taken over."""

    def leave(self) -> None:
        """Remove what the run had for itself."""
        remove(self.folder)


class DatabaseWorkspace(RunWorkspace):
    """A folder of a run's own, beside tables in a database."""

    def _bring(self, wanted_stop: WantedStop) -> CacheState:
        asked = self._asked
        assert isinstance(asked.made, Loaded)
        self.loaded = asked.made
        self.writes = asked.approach.needs.writes
        self._store = asked.databases.at(asked.approach.needs.at, self.loaded.engine)
        self._database = self._store.for_run(
            self.loaded, asked.number, asked.folder, self.writes, asked.cache, wanted_stop
        )
        self.database = self._database
        self.on_server = bool(self._database.name)
        self.restores = self.writes and self.on_server
        self._server = self._store.server(self.loaded.engine) if self.on_server else None
        self.server_process = self._server.pid if self._server else None
        self.network = self._store.given is not None
        files = [Path(self._database.file)] if self._database.file else []
        return CacheState(asked=asked.cache, share=cached_share(files))

    @property
    def inputs(self) -> list[str]:
        socket = self._server and self._server.socket_folder
        own = (self._database.pristine, self._database.file, socket and str(socket))
        return [path for path in own if path]

    def restore(self, wanted_stop: WantedStop) -> None:
        self._store.restore(self.loaded, self._database, wanted_stop)

    def still_at_work(self) -> bool:
        return self.on_server and bool(self._store.sessions(self.loaded, self._database))

    def account(self, run: RunRecord, scope: Scope) -> Scope:
        if scope != Scope.SERVER or seen(self._store):
            return super().account(run, scope)
        unmeasured(run, OF_SERVER, ELSEWHERE)
        return Scope.UNSEEN

    def leave(self) -> None:
        left = sessions_of(self.folder)
        self._store.after_run(self.loaded, self._database, self.writes, left)
        super().leave()


def unmeasured(run: RunRecord, figures: tuple[str, ...], why: str) -> None:
    """Say of some figures of a run that they were not measured, and why."""
    for figure in figures:
        setattr(run, figure, None)
        run.not_measured[figure] = why


PlaceMaker = Callable[[WorkspaceRequest, WantedStop], RunWorkspace]
"""Makes the place of a run. Raises Stopped where that is asked for meanwhile."""


def workspace_of(asked: WorkspaceRequest, wanted_stop: WantedStop = never) -> RunWorkspace:
    """The place of a run of an engine that brings none of its own."""
    kind = DatabaseWorkspace if isinstance(asked.made, Loaded) else RunWorkspace
    return kind(asked, wanted_stop)


def set_cache(paths: list[Path], state: str) -> CacheState:
    """Bring the inputs into memory, or out of it; what is really there is looked at after."""
    for path in paths:
        if state == "cold":
            evict(path)
        else:
            warm(path)
    return CacheState(asked=state, share=cached_share(paths))


def _shown(path: str) -> str:
    """What of an input a run is shown: the folder of made data, but of a file of the user's own
    that file alone."""
    file = Path(path)
    return str(file.parent if file.is_relative_to(data_folder()) else file)
