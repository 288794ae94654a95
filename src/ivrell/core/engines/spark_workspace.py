"""Where a run in Apache Spark works: beside a session at a place that the trial knows."""

from pathlib import Path

from ivrell.core.base.waits import WantedStop, never
from ivrell.core.engines.base import Scope
from ivrell.core.engines.spark import UNREPORTED
from ivrell.core.engines.workspace import (
    OF_SERVER,
    RunWorkspace,
    Told,
    WorkspaceRequest,
    unmeasured,
)
from ivrell.core.records.run import RunRecord
from ivrell.core.records.wire import ClusterProgress
from ivrell.core.spark.answers import PARTS
from ivrell.core.spark.event_log import HELD, Tally, log_in

PYTHON_CPU = "Python workers' CPU seconds"


class SessionWorkspace(RunWorkspace):
    """A folder of a run's own, beside a session of Spark."""

    def __init__(self, asked: WorkspaceRequest, wanted_stop: WantedStop = never) -> None:
        super().__init__(asked, wanted_stop)
        assert asked.spark is not None
        at = self._at = asked.spark.at(asked.approach.needs.at, asked.threads)
        self._tally: Tally | None = None
        self.spark = at.place
        self.server_process, self.beside, self.network = at.server, at.beside, at.network
        self.writable = (at.folder,) if at.folder else ()

    @property
    def log(self) -> Path | None:
        return log_in(self.folder)

    @property
    def inputs(self) -> list[str]:
        if storage := self._at.cluster.storage:
            return [storage] if storage.startswith("/") else []
        return super().inputs

    @property
    def parts(self) -> str:
        storage = self._at.place.storage
        if not storage:
            return f"{self.folder}/{PARTS}"
        # A folder of this machine's is told as one where what lies there does not stay.
        return f"{storage if self._at.stays else storage.removeprefix('file://')}/{PARTS}"

    def progress(self) -> ClusterProgress | None:
        if self._tally is None and self.log:
            self._tally = Tally(self.log)
        return self._tally.read().progress() if self._tally else None

    def account(self, run: RunRecord, scope: Scope) -> Scope:
        if self._at.cluster.is_local:
            return Scope.RUN
        if self._at.server is not None:
            return Scope.SERVER
        if self._at.cluster.address.startswith("sc://"):
            unmeasured(run, OF_SERVER, UNREPORTED)
            return Scope.UNSEEN
        if not run.counters.get(HELD):
            memory = ("peak_memory_bytes", "start_memory_bytes")
            unmeasured(run, memory, "no executor told what it held while its tasks ran")
        run.not_measured[PYTHON_CPU] = (
            "Spark's executor CPU time does not hold that of the Python workers, which cannot be "
            "read on other machines"
        )
        return Scope.REMOTE

    def keep(self, answer: Told) -> None:
        if not self._at.stays:
            return
        # The first answer of its kind stays where it is, and is the one that is kept.
        stored, storage = self._asked.stored, self._at.place.storage
        stored.setdefault(storage, answer)
        if list(stored.values()).count(answer) > 1:
            del stored[storage]

    def leave(self) -> None:
        if self._at.place.storage not in self._asked.stored:
            self._at.leave()
        super().leave()
