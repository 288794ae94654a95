"""The places of a trial where its sessions of Spark run, started when first asked for."""

import os
import secrets
import shutil
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from ivrell.core.base.errors import NotAvailable
from ivrell.core.contain.sandbox import give, why_not
from ivrell.core.records.wire import SparkPlace
from ivrell.core.spark.clusters import Clusters, SparkCluster
from ivrell.core.spark.install import JVM
from ivrell.core.spark.standalone import StandaloneCluster

_LOOPBACK = "127.0.0.1"


@dataclass(frozen=True)
class At:
    """A place as a run finds it.

    Attributes:
        cluster: as it is registered.
        place: what its session is told.
        server: process that all of the cluster's hang below, where they are on this machine.
        beside: process whose network the session shares, where that is one of its own.
        network: whether the session reaches beyond this machine.
        stays: whether what executors write stays where they write it.
    """

    cluster: SparkCluster
    place: SparkPlace
    server: int | None = None
    beside: int | None = None
    network: bool = False
    stays: bool = False

    @property
    def folder(self) -> Path | None:
        """The folder that executors write to, where it is one of this machine."""
        address = self.place.storage.removeprefix("file://")
        return Path(address) if address.startswith("/") else None

    def leave(self) -> None:
        """Remove what executors left for one run."""
        if folder := self.folder:
            shutil.rmtree(folder, ignore_errors=True)


class Places:
    """Places by name. Clusters of Ivrell's own are started once, and stopped with ``stop``.

    Args:
        folder: where they have their files; each process that starts one has its own there.
        registry: folder in which places are registered; Ivrell's own unless given.
        shown: folders that clusters of Ivrell's own read.
        cores: that sessions on this machine may use; all there are unless given.
    """

    def __init__(
        self, folder: Path, registry: Path | None = None, shown: tuple[str, ...] = (),
        cores: int | None = None,
    ) -> None:  # fmt: skip
        self._folder = folder
        self._known = Clusters(registry)
        self._shown = shown
        self._cores = cores
        self._running: dict[str, StandaloneCluster] = {}
        self._refused: dict[str, NotAvailable] = {}

    def cluster(self, name: str) -> SparkCluster:
        """A place as it is registered. Raises BadInput."""
        return self._known.get(name)

    def start(self, name: str) -> None:
        """Start a place that Ivrell starts, unless it runs. Raises BadInput where it does not."""
        cluster = self.cluster(name)
        if cluster.workers:
            self._started(name, cluster)

    def at(self, name: str, threads: int | None = None) -> At:
        """A place that runs; ``threads`` are those of a session on this machine's cores. Raises
        BadInput where there is none of that name, or it does not start."""
        cluster = self.cluster(name)
        settings = dict(cluster.settings)
        if cluster.workers:
            running = self._started(name, cluster)
            settings = {**_on_loopback(cluster.worker_memory), **settings}
            place = SparkPlace(running.master, settings, _own(f"{running.storage}"))
            beside = running.pid if running.sandboxed else None
            return At(
                cluster, place, running.pid, beside, network=not running.sandboxed,
                stays=bool(cluster.storage),
            )  # fmt: skip
        if cluster.is_local:
            cores = threads or self._cores or len(os.sched_getaffinity(0))
            master = cluster.address if "[" in cluster.address else f"local[{cores}]"
            return At(cluster, SparkPlace(master, settings))
        storage = cluster.storage and _own(cluster.storage)
        place = SparkPlace(cluster.address, settings, storage, seen=False)
        return At(cluster, place, network=True, stays=bool(cluster.storage))

    def _started(self, name: str, cluster: SparkCluster) -> StandaloneCluster:
        running = self._running.get(name)
        if running is None or not running.alive:
            if name in self._refused:
                raise self._refused[name]
            # Each process that conducts has clusters of its own: they end with it.
            own = self._folder / f"{os.getpid()}-{name.replace(':', '-')}"
            try:
                self._running[name] = running = StandaloneCluster(cluster, own, self._shown)
            except NotAvailable as error:
                # Whoever asks next need not wait as long again.
                self._refused[name] = error
                raise
        return running

    def stop(self) -> None:
        """Stop the clusters that were started."""
        for running in self._running.values():
            running.stop()
        self._running.clear()


def _own(storage: str) -> str:
    """Address of a place of its own on a storage, made where that is a folder of this machine."""
    address = f"{storage}/run-{secrets.token_hex(8)}"
    if not address.startswith("/"):
        return address
    folder = Path(address)
    folder.mkdir()
    if why_not() is None:
        give(folder)
    return folder.as_uri()


def _on_loopback(worker_memory: str) -> Mapping[str, str]:
    """Settings of sessions on a cluster of Ivrell's own."""
    number, unit = int(worker_memory[:-1]), worker_memory[-1]
    total = number * (1024 if unit == "g" else 1)
    # What an executor takes besides its heap must find room in its worker too.
    heap = max(512, round(total * 0.65))
    return {
        "spark.driver.host": _LOOPBACK,
        "spark.driver.bindAddress": _LOOPBACK,
        "spark.executor.memory": f"{heap}m",
        "spark.executor.defaultJavaOptions": JVM,
    }
