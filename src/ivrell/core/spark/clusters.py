"""Places where Apache Spark runs that lanes may ask for by name."""

import json
import os
import re
import socket
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from urllib.parse import urlsplit

from ivrell.core.base.errors import BadInput
from ivrell.core.base.folders import data_folder
from ivrell.core.base.name_registry import Registered
from ivrell.core.spark.install import INSTALL, java_version

LOCAL = "local"
"""The address of this machine's own cores; what lanes get that name no place."""

OWN = "standalone"
"""How the address of a cluster begins that Ivrell starts: ``standalone:2`` has two workers."""

_OWN = re.compile(r"standalone:([1-9]\d?)")
_LOCAL = re.compile(r"local(\[(\*|[1-9]\d*)\])?")
_ELSEWHERE = ("spark://", "k8s://", "sc://")
_PORTS = {"spark": 7077, "k8s": 443, "https": 443, "http": 80, "sc": 15002}
"""Where they listen unless an address says so."""

_YARN = "yarn"
_STORAGES = ("file://", "s3a://", "hdfs://", "gs://")
_CONNECT_S = 5.0
_SETTING = re.compile(r"spark\.[\w.\-]+")
_MEMORY = re.compile(r"[1-9]\d*[mg]")
_SECRET = re.compile("secret|password|token|access.key", re.IGNORECASE)


@dataclass(frozen=True)
class SparkCluster:
    """A place as it was found when last looked at.

    Attributes:
        address: ``local``, ``local[2]``, ``standalone:2``, ``spark://...``, ``yarn``,
            ``k8s://...`` or ``sc://...``.
        settings: of every session there.
        storage: a folder or address that all of it reaches, where tables are made and answers
            are left; "" where files of this machine are read.
        worker_cores, worker_memory: of each worker that Ivrell starts.
        words: what it is, in a line.
        problem: why it cannot be used, "" when it can.
    """

    name: str
    address: str
    settings: Mapping[str, str] = field(default_factory=dict)
    storage: str = ""
    worker_cores: int = 1
    worker_memory: str = "1536m"
    words: str = ""
    problem: str = ""

    @property
    def workers(self) -> int:
        """Workers that Ivrell starts for it; 0 where it is no cluster of Ivrell's own."""
        found = _OWN.fullmatch(self.address)
        return int(found[1]) if found else 0

    @property
    def is_local(self) -> bool:
        """Whether it is this machine's cores, without a cluster."""
        return _LOCAL.fullmatch(self.address) is not None


HERE = SparkCluster("", LOCAL)


def _checked(name: str, kept: str) -> SparkCluster:
    told = json.loads(kept)
    return look_at(SparkCluster(name=name, **told))


def look_at(cluster: SparkCluster) -> SparkCluster:
    """What is found of a place now."""
    from dataclasses import replace

    problem = _problem(cluster)
    return replace(cluster, problem=problem, words="" if problem else _words(cluster))


def _words(cluster: SparkCluster) -> str:
    if cluster.workers:
        cores = f"{cluster.worker_cores} core{'s' if cluster.worker_cores > 1 else ''}"
        each = f"{cores} and {cluster.worker_memory} each"
        return f"a cluster that Ivrell starts on this machine: {cluster.workers} workers, {each}"
    if cluster.is_local:
        return "this machine's cores"
    if cluster.address.startswith("sc://"):
        return "reached by Spark Connect; what it uses cannot be measured"
    return "a cluster of your own"


def _problem(cluster: SparkCluster) -> str:
    address, storage = cluster.address, cluster.storage
    if storage.startswith("/") and not Path(storage).is_dir():
        return f"its storage {storage} is not there"
    if java_version() is None and not address.startswith("sc://"):
        return f"there is no Java here ({INSTALL})"
    if cluster.workers or cluster.is_local:
        return ""
    if address == _YARN:
        if os.environ.get("HADOOP_CONF_DIR") or os.environ.get("YARN_CONF_DIR"):
            return ""
        return "for YARN Ivrell must be started with HADOOP_CONF_DIR or YARN_CONF_DIR set"
    if not address.startswith(_ELSEWHERE):
        known = f"local, {OWN}:2, spark://, yarn, k8s://, sc://"
        return f"“{address}” is no address of Spark's; known are {known}"
    if found := _SECRET.search(address):
        return (
            f"a {found[0]} in an address would be shown and kept with it; give it to Spark's own "
            "settings on this machine"
        )
    try:
        hosts = _hosts(address)
    except ValueError:
        return "its port is no number"
    if not all(host for host, _ in hosts):
        return "it names no host"
    silent = []
    for host, port in hosts:
        try:
            with socket.create_connection((host, port), _CONNECT_S):
                return ""
        except OSError as error:
            silent.append(f"{host} does not answer at port {port}: {error}")
    return "; ".join(silent)


def _hosts(address: str) -> list[tuple[str, int]]:
    """Each host that an address names, and the port there: several for masters of which one
    leads. Raises ValueError where a port is no number."""
    scheme, _, rest = address.partition("://")
    if scheme == "spark":
        parts = [urlsplit(f"spark://{one}") for one in rest.split(",")]
    else:
        parts = [urlsplit(rest if scheme == "k8s" and "://" in rest else address)]
    return [(one.hostname or "", one.port or _PORTS[one.scheme]) for one in parts]


class Clusters:
    """The places registered on this machine, kept in Ivrell's data folder for its user alone."""

    def __init__(self, folder: Path | None = None) -> None:
        self._kept = Registered(
            (folder or data_folder()) / "clusters.json",
            what="cluster",
            asked_as="at",
            put_as="./ivrell clusters --add NAME ADDRESS",
        )

    def all(self) -> list[SparkCluster]:
        """Every one, looked at now."""
        return [_checked(name, kept) for name, kept in self._kept.all().items()]

    def add(
        self,
        name: str,
        address: str,
        storage: str = "",
        settings: Mapping[str, str] | None = None,
        worker_cores: int = 1,
        worker_memory: str = "1536m",
    ) -> SparkCluster:
        """Register a place; see SparkCluster. Raises BadInput when it cannot be used."""
        self._kept.check_name(name)
        _check_settings(settings or {})
        _check_storage(storage)
        if not _MEMORY.fullmatch(worker_memory):
            raise BadInput(
                f"“{worker_memory}” is no amount of memory.", where="worker memory",
                hint="Write it as 1536m or 2g.",
            )  # fmt: skip
        if not 1 <= worker_cores <= 1024:
            raise BadInput("A worker has 1 to 1024 cores.", where="worker cores")
        cluster = SparkCluster(
            name, address, dict(settings or {}), storage, worker_cores, worker_memory
        )
        found = look_at(cluster)
        if found.problem:
            raise BadInput(
                f"The cluster cannot be used: {found.problem}.",
                where="address",
                hint=f"Give local, {OWN}:2 (a cluster that Ivrell starts), or the address of your "
                "own, such as spark://host:7077.",
            )
        kept = {key: value for key, value in asdict(cluster).items()
                if key not in ("name", "words", "problem")}  # fmt: skip
        self._kept.put(name, json.dumps(kept))
        return found

    def remove(self, name: str) -> None:
        """Forget one. Raises BadInput when there is none of that name."""
        self._kept.remove(name)

    def get(self, name: str) -> SparkCluster:
        """The one of that name, "" and ``local`` standing for this machine's cores, and an address
        such as ``standalone:2`` for a cluster of Ivrell's own. Raises BadInput where there
        is none, or it cannot be used."""
        if not name:
            return HERE
        known = self._kept.all()
        if name == LOCAL and name not in known:
            return HERE
        if _OWN.fullmatch(name) and name not in known:
            # A cluster of Ivrell's own needs no registering.
            return look_at(SparkCluster(name, name))
        found = _checked(name, self._kept.get(name))
        if found.problem:
            raise BadInput(f"The cluster {name} cannot be used: {found.problem}.", where="at")
        return found


def _check_settings(settings: Mapping[str, str]) -> None:
    for name, value in settings.items():
        if not _SETTING.fullmatch(name):
            raise BadInput(
                f"“{name}” is no setting of Spark's: they begin with spark.", where="settings"
            )
        if _SECRET.search(name):
            raise BadInput(
                f"{name} is a secret, and is not kept.",
                where="settings",
                hint="Let Spark take it from the environment or from its own configuration.",
            )
        if not isinstance(value, str) or len(value) > 4000:
            raise BadInput(f"{name} has no value that can be kept.", where="settings")


def _check_storage(storage: str) -> None:
    if storage and not storage.startswith(("/", *_STORAGES)):
        known = ", ".join(_STORAGES)
        raise BadInput(
            f"“{storage}” is no storage that a cluster reaches.",
            where="storage",
            hint=f"Give the full path of a folder that all machines see, or an address: {known}.",
        )
    if storage.startswith("/") and not Path(storage).is_dir():
        raise BadInput(f"There is no folder {storage}.", where="storage")
