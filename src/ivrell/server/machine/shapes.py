"""What the API takes and gives of the machine and of what is on it."""

from pydantic import BaseModel

from ivrell.core.engines.base import EngineState
from ivrell.core.recipe.store import Kept
from ivrell.core.records.machine import Machine, Noise
from ivrell.core.runtimes import Runtime


class NoiseFloors(Noise):
    """The machine's noise, with the factor that equals stay within at some numbers of rounds."""

    floors: dict[str, float]


class MachineShape(Machine):
    """The machine as it is now."""

    noise: NoiseFloors | None = None


class EngineList(BaseModel):
    """All engines that Ivrell knows."""

    engines: list[EngineState]


class Now(BaseModel):
    """Who is signed in, and what the machine is doing: ``timing`` says that something may be
    timed now, which is better not disturbed, ``noise`` that its noise is measured or will be."""

    user: str
    may_run: bool
    trial: int | None
    comparison: int | None
    comparison_name: str | None
    waiting: int
    paused: int
    worker: bool
    timing: bool
    noise: bool


class LoadedData(BaseModel):
    """Tables loaded into an engine's database."""

    engine: str
    tables: list[str]
    rows: int
    indexes: list[str]
    size_bytes: int


class MadeData(BaseModel):
    """All made data that is kept, and the limit that it is trimmed to."""

    limit_bytes: int
    kept: list[Kept]
    loaded: list[LoadedData]


class RuntimeList(BaseModel):
    """All interpreters registered here."""

    runtimes: list[Runtime]


class ServerShape(BaseModel):
    """A database server of the user's own; ``seen`` says whether what it uses can be measured,
    ``problem`` why it cannot be used. Its address is told without a password."""

    name: str
    address: str
    version: str
    seen: bool
    problem: str


class ServerList(BaseModel):
    """All servers registered here."""

    servers: list[ServerShape]


class NewServer(BaseModel):
    """A server to register, by its URL or connection string; ``password_from`` says where its
    password stands, as env:NAME or file:PATH."""

    name: str
    address: str
    password_from: str = ""


class ClusterShape(BaseModel):
    """A place where Apache Spark runs; ``words`` say what it is, ``problem`` why it cannot be used.
    ``storage`` is where tables are made and answers left, "" for files of this machine."""

    name: str
    address: str
    storage: str
    settings: dict[str, str]
    words: str
    problem: str


class ClusterList(BaseModel):
    """All places of Spark registered here."""

    clusters: list[ClusterShape]


class NewCluster(BaseModel):
    """A place of Spark to register: its address as Spark writes it, or standalone:N for a cluster
    of N workers that Ivrell starts."""

    name: str
    address: str
    storage: str = ""
    settings: dict[str, str] = {}
    worker_cores: int = 1
    worker_memory: str = "1536m"


class NewRuntime(BaseModel):
    """An interpreter to register."""

    name: str
    interpreter: str
