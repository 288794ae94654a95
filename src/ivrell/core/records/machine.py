"""What machine a trial ran on: machine.json, the API."""

from pydantic import BaseModel, field_validator


class Noise(BaseModel):
    """The machine's own noise as it was last measured: ``logs`` are logarithms of ratios between
    two lanes that are the same, one a round; ``elapsed_s`` the median of one of them."""

    taken_at: str = ""
    load: list[float] = []
    busy_cores: float | None = None
    rounds: int = 0
    elapsed_s: float | None = None
    logs: list[float]


class UsualSpread(BaseModel, frozen=True):
    """What lanes of an engine and a magnitude (a power of ten, seconds or bytes) showed on this
    machine: ``level`` is the mean logarithm of the variance of a measure's logarithm, ``variance``
    how that differs from lane to lane, ``lanes`` how many there were."""

    measure: str
    engine: str
    magnitude: int
    lanes: int
    level: float
    variance: float


class SandboxState(BaseModel):
    """Whether runs can be sandboxed here, and why not."""

    works: bool
    why_not: str | None = None


class Methods(BaseModel):
    """How CPU time and memory are measured here."""

    cpu: str = ""
    memory: str = ""


class InstalledEngine(BaseModel):
    """An engine as it was found: whether it can be used, and the versions of what it needs."""

    installed: bool
    versions: dict[str, str]


class UsedRuntime(BaseModel):
    """Another interpreter that runs of the trial used."""

    implementation: str
    version: str
    interpreter: str
    packages: dict[str, str]


class Machine(BaseModel):
    """The machine as it was; sizes in bytes, ``load`` the kernel's run-queue averages over 1, 5 and
    15 minutes, ``pressure`` the share of the last 10 s in which something waited for a core,
    memory or disk, in percent. ``quota_cores`` are the cores that a control group allows,
    ``cache_bytes`` the largest cache of a processor core. Over the runs of a trial: ``throttled_s``
    in which a quota held tasks back, how often cores were slowed for heat, bytes swapped. What was
    not told has no value."""

    host: str = ""
    taken_at: str = ""
    processor: str = ""
    architecture: str = ""
    cores: int | None = None
    memory_bytes: int = 0
    free_memory_bytes: int = 0
    free_disk_bytes: int = 0
    kernel: str = ""
    system: str = ""
    python: str = ""
    load: list[float] = []
    busy_cores: float | None = None
    noise: Noise | None = None
    usual_spreads: list[UsualSpread] = []
    sandbox: SandboxState = SandboxState(works=False)
    pressure: dict[str, float] | None = None
    quota_cores: float | None = None
    cache_bytes: int | None = None
    on_battery: bool | None = None
    throttled_s: float | None = None
    heat_throttles: int | None = None
    swapped_bytes: float | None = None
    engines: dict[str, InstalledEngine] = {}
    ivrell: str = ""
    methods: Methods = Methods()
    runtimes: dict[str, UsedRuntime] = {}

    @field_validator("runtimes", mode="before")
    @classmethod
    def _told_as_text_before(cls, given: dict[str, object]) -> dict[str, object]:
        return {name: told for name, told in given.items() if not isinstance(told, str)}
