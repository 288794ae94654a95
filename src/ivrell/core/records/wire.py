"""What conductor, runner and worker say to each other of one run. Standard library only.

A worker may be another interpreter, from Python 3.9 on.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, Union


@dataclass(frozen=True)
class Client:
    """How a session is opened: a module of the database API for Python (PEP 249), and what its
    ``connect`` takes.

    Attributes:
        driver: the module.
        given: what it takes by place.
        named: what it takes by name.
        dialect: a word of DIALECTS, for what differs.
    """

    driver: str
    given: Sequence[str] = ()
    named: Mapping[str, str | int | bool] = field(default_factory=dict)
    dialect: str = ""


@dataclass(frozen=True)
class DatabasePlace:
    """Where a run finds loaded tables.

    Attributes:
        file: a database that is a file; ``pristine`` is the one that it was copied from, where
            the approach writes.
        name: of a server's database; ``address`` is its connection string.
        user: who the run is there, where that was made for it alone.
        shared: whether the server has work of others too.
        client: how a session is opened, where it is by the database API for Python.
        seconds: how long a statement may last on the server, if that is known.
    """

    file: str = ""
    pristine: str = ""
    name: str = ""
    address: str = ""
    user: str = ""
    shared: bool = False
    client: Client | None = None
    seconds: float | None = None


@dataclass(frozen=True)
class SparkPlace:
    """Where a run's session of Apache Spark runs.

    Attributes:
        master: as Spark writes it: ``local[2]``, ``spark://...``, ``yarn``, ``sc://...``.
        settings: of the session, besides those of the approach.
        storage: a folder or address that driver and executors both reach, for answers that are
            written; "" for the run's own folder.
        seen: whether all of its processes can be seen on this machine.
    """

    master: str
    settings: Mapping[str, str] = field(default_factory=dict)
    storage: str = ""
    seen: bool = True


@dataclass(frozen=True)
class TableShape:
    """Rows of a table, and its Arrow schema in hexadecimal digits."""

    rows: int
    schema: str


@dataclass(frozen=True)
class Job:
    """One run as the worker sees it.

    Attributes:
        approach: fields of the approach, as in the comparison file.
        tables: path of each table in the form the approach asked for, or paths of its parts.
        knobs: value of each knob at this point.
        folder: the run's own working folder.
        threads: how many threads its libraries may use, or None for their own choice.
        database: where tables are loaded; None for forms that are files.
        service: address of the remote service, for approaches that ask one.
        styles: how each table's csv is written, see CsvStyle; empty for other forms.
        shapes: of each table, for engines that lay tables out themselves.
        spark: where its session of Apache Spark runs, for approaches that have one.
    """

    approach: Mapping[str, Any]
    tables: Mapping[str, str | list[str]]
    form: str
    knobs: Mapping[str, Any]
    folder: Path
    threads: int | None = None
    database: DatabasePlace | None = None
    service: str = ""
    styles: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    shapes: Mapping[str, TableShape] = field(default_factory=dict)
    spark: SparkPlace | None = None

    @property
    def loaded(self) -> DatabasePlace:
        """Where its tables are loaded. Raises ValueError for forms that are files."""
        if self.database is None:
            raise ValueError("these tables are files")
        return self.database


@dataclass(frozen=True)
class Calls:
    """How often the approach is called in its process.

    Attributes:
        per_process: calls one behind the other, told apart.
        min_sample_s: seconds that a sample lasts at least, by repeating a short call.
        repeats: of a short call, as the lane's first run at its point found them; None where
            they are yet to be found.
    """

    per_process: int = 1
    min_sample_s: float = 0.0
    repeats: int | None = None


RUN, EXPLAINED, LEFT, HOT = "run", "explained", "left", "hot"
"""What a run does: the approach; the approach, telling how its engine carries it out; nothing but
reading what an earlier one left; the approach, sampled for where its time goes."""


@dataclass(frozen=True)
class Order:
    """What a worker finds in its job file."""

    job: Job
    calls: Calls = field(default_factory=Calls)
    mode: str = RUN

    def as_json(self) -> dict[str, Any]:
        """As plain data."""
        database = asdict(self.job.database) if self.job.database else None
        job = {**vars(self.job), "folder": str(self.job.folder), "database": database}
        job["shapes"] = {name: vars(shape) for name, shape in self.job.shapes.items()}
        job["spark"] = asdict(self.job.spark) if self.job.spark else None
        return {"job": job, "calls": vars(self.calls), "mode": self.mode}

    @classmethod
    def from_json(cls, given: Mapping[str, Any]) -> Order:
        """From what ``as_json`` made."""
        job = {**given["job"], "folder": Path(given["job"]["folder"])}
        if job["database"]:
            place = dict(job["database"])
            if place.get("client"):
                place["client"] = Client(**place["client"])
            job["database"] = DatabasePlace(**place)
        if job["spark"]:
            job["spark"] = SparkPlace(**job["spark"])
        job["shapes"] = {name: TableShape(**shape) for name, shape in job["shapes"].items()}
        return cls(Job(**job), Calls(**given["calls"]), given["mode"])


@dataclass(frozen=True)
class RunLimits:
    """Bounds of one run, see Limits of a plan, whose fields these are."""

    seconds: float
    cpu_seconds: float | None
    memory_bytes: int
    output_bytes: int
    written_bytes: int
    processes: int
    prepare_seconds: float


@dataclass(frozen=True)
class Walls:
    """What a sandboxed run sees besides its own folder, and may not call; see Sandbox."""

    calls: str
    ours: list[str]
    inputs: list[str]
    hidden: list[str]
    network: bool
    beside: int | None
    writable: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class RunSpec:
    """One run as the runner is told it.

    Attributes:
        run: its number.
        interpreter: path of the Python that the worker runs in.
        environment: of the worker, whole.
        limits: those of the plan, or others.
        cores: that it is pinned to, or None.
        background: the load beside it, by name.
        walls: of its sandbox, or None for none.
        memory_alone: whether the run is there for its memory only: looked at often and closely,
            whatever time that costs it.
        restores: whether it has a copy of its own on a server, to be put back for more calls.
        server: main process of a server that works for it alone, if there is one.
        patience_s: how long its clock may wait for a quiet moment once it is ready.
        order: for the worker.
    """

    run: int
    interpreter: str
    environment: dict[str, str]
    limits: RunLimits
    cores: list[int] | None
    background: str
    walls: Walls | None
    memory_alone: bool
    restores: bool
    server: int | None
    patience_s: float
    order: Order

    def as_json(self) -> dict[str, Any]:
        """As plain data."""
        walls = vars(self.walls) if self.walls else None
        return {
            **vars(self), "limits": vars(self.limits), "walls": walls,
            "order": self.order.as_json(),
        }  # fmt: skip

    @classmethod
    def from_json(cls, given: Mapping[str, Any]) -> RunSpec:
        """From what ``as_json`` made."""
        walls = Walls(**given["walls"]) if given["walls"] else None
        parts = {"limits": RunLimits(**given["limits"]), "walls": walls}
        return cls(**{**given, **parts, "order": Order.from_json(given["order"])})


@dataclass(frozen=True)
class StageTime:
    """What a stage of one run took, and how often it was gone through. One that ``overlaps`` went
    on while other threads or tasks were in stages: such times add up to more than went by."""

    name: str
    elapsed_s: float
    cpu_s: float
    times: int = 1
    overlaps: bool = False


@dataclass(frozen=True)
class Span:
    """When a stage was in one run, in seconds since its start."""

    name: str
    start_s: float
    end_s: float


@dataclass
class Figures:
    """What one timed part used: seconds, bytes, counts; ``others_around`` is how many cores others
    kept busy around a part too short to tell it of itself. None could not be measured."""

    cpu_user_s: float | None = None
    cpu_system_s: float | None = None
    cpu_method: str | None = None
    peak_memory_bytes: int | None = None
    start_memory_bytes: int | None = None
    memory_method: str | None = None
    read_bytes: float | None = None
    written_bytes: float | None = None
    page_faults: float | None = None
    context_switches: float | None = None
    run_queue_wait_s: float | None = None
    held_up_s: float | None = None
    others_cpu_s: float | None = None
    others_around: float | None = None
    stolen_s: float | None = None
    throttled_s: float | None = None
    swapped_bytes: float | None = None
    pressure: dict[str, float] | None = None
    server_cpu_s: float | None = None
    server_memory_bytes: int | None = None
    client_cpu_s: float | None = None


@dataclass
class TimedPart:
    """One timed part of a run: a call, or ``repeats`` of one. Parts that are ``joined`` stand for
    repeats of one call together. ``counters`` are what the engine counted of it, ``unknown`` what
    it could not tell, each with the reason."""

    elapsed_s: float
    repeats: int
    joined: bool
    several_processes: bool
    stages: list[StageTime]
    spans: list[Span]
    figures: Figures
    counters: dict[str, float] = field(default_factory=dict)
    unknown: dict[str, str] = field(default_factory=dict)
    remote: RemoteUse | None = None


@dataclass
class Step:
    """One step of a plan and the steps that feed it.

    Attributes:
        what: the engine's own word for it.
        detail: on what: table, index, condition.
        rows: rows that it gave, over all its loops; None where the engine did not count.
        expected_rows: what the engine had expected.
        own_s: seconds spent in it without the steps that feed it, of all threads together
            where the engine works in threads; None where it did not time.
        loops: how often it was gone through.
        blocks: blocks that it found in buffers, read, and read or wrote as temporary files,
            those of the steps that feed it included.
    """

    what: str
    detail: str = ""
    rows: float | None = None
    expected_rows: float | None = None
    own_s: float | None = None
    loops: int | None = None
    blocks: dict[str, int] = field(default_factory=dict)
    steps: list[Step] = field(default_factory=list)


@dataclass
class StatementPlan:
    """A statement, the line that it starts on, and how it was carried out; None where engines do
    not tell."""

    text: str
    line: int
    plan: Step | None


@dataclass
class HotFrame:
    """A frame of call stacks.

    Attributes:
        above: the number of the frame that called it; -1 for none.
        what: its function, with its module where it is not the lane's.
        line: of the lane's code; 0 for other code.
        elapsed_s: seconds that went by in it itself, of the thread that answers.
        cpu_s: CPU seconds in it itself, of all threads and child processes.
        grown_bytes: by how much resident memory rose in it above what it had ever been.
    """

    above: int
    what: str
    line: int
    elapsed_s: float = 0.0
    cpu_s: float = 0.0
    grown_bytes: float = 0.0


@dataclass
class HotProfile:
    """Where the time of a call went.

    Attributes:
        frames: of all stacks; one stands behind that which called it.
        together: the first of the lines that cannot be told from a line, by that line.
        elapsed_s, cpu_s: of a call in all, child processes included.
        native_cpu_s: CPU time of threads that libraries started, told to the line that waited.
        children_cpu_s: of child processes; ``children_seen_s`` of it has lines.
        samples: how often was looked.
        calls: over how many calls.
    """

    frames: list[HotFrame]
    together: dict[int, int]
    elapsed_s: float
    cpu_s: float
    native_cpu_s: float
    children_cpu_s: float
    children_seen_s: float
    samples: int
    calls: int


@dataclass(frozen=True)
class Export:
    """The answer as the worker left it: rows, columns, bytes; the threads that libraries say they
    have; how the engine carried out each statement, and where the time went, where that was
    asked."""

    rows: int
    columns: int
    bytes: int
    threads: dict[str, int] = field(default_factory=dict)
    plans: list[StatementPlan] = field(default_factory=list)
    hot: HotProfile | None = None


@dataclass(frozen=True)
class Failure:
    """Why a run failed: the kind of error, its message, line and trace, the part of the run that
    it came in, and the last lines that the run printed."""

    kind: str
    message: str
    line: int | None = None
    trace: str = ""
    part: str = "running"
    printed: str = ""


@dataclass(frozen=True)
class LimitReached:
    """Which limit ended a run, and its value."""

    kind: str
    value: float


NOT_AVAILABLE = "not available"
"""Kind of a failure that no code of the lane's brought about: what it runs on was not there."""

EXECUTORS_LOST = "executors lost"
"""Kind of a failure of a lane whose executors of Spark ended again and again."""

DONE, FAILED, LIMIT, STOPPED = "done", "failed", "limit", "stopped"
"""How a run can end."""


@dataclass(frozen=True)
class RunEnd:
    """How a run ended, as the runner tells and journals it; ``curve`` holds samples: seconds since
    the clock started, CPU seconds until then, bytes held; ``start_cpu_s`` what the worker and
    children that it waited for had used when the clock started; ``quiet_wait_s`` how long it waited
    for a quiet moment."""

    state: str
    start_s: float | None = None
    parts: list[TimedPart] = field(default_factory=list)
    elapsed_at_least_s: float | None = None
    most_threads: int | None = None
    export: Export | None = None
    failure: Failure | None = None
    limit: LimitReached | None = None
    left_bytes: int | None = None
    curve: list[tuple[float, float, int]] = field(default_factory=list)
    output: str = ""
    output_bytes: int = 0
    start_cpu_s: float | None = None
    quiet_wait_s: float = 0.0


@dataclass(frozen=True)
class Progress:
    """A run as it goes on: seconds, CPU seconds, bytes above its start, the stage that it is in,
    and how busy each core of the machine is."""

    elapsed_s: float
    cpu_s: float
    memory_bytes: int
    stage: str
    cores: list[float]


@dataclass(frozen=True)
class ClusterProgress:
    """A session of Apache Spark as it goes on: executors and their cores, tasks that wait, run and
    are done, bytes shuffled and spilled to disk so far."""

    executors: int
    cores: int
    waiting: int
    running: int
    done: int
    shuffle_bytes: int
    spilled_bytes: int


@dataclass(frozen=True)
class Ready:
    """A worker is ready for its clock: seconds since its process started, and the name of a child
    process that does the work in its stead, or ""."""

    start_s: float
    engine: str


@dataclass(frozen=True)
class Used:
    """What a worker's process and the children that it waited for used: CPU seconds, page faults,
    and those of the children alone."""

    user: float
    system: float
    faults: float
    faults_of_children: float


@dataclass(frozen=True)
class SetUpUse:
    """CPU seconds of set-ups between repeated calls, which are no part of them."""

    user: float
    system: float


@dataclass(frozen=True)
class Stopped:
    """The clock of a timed part has stopped; ``more`` says that another part follows."""

    elapsed_s: float
    repeats: int
    used: Used
    set_up: SetUpUse
    stages: list[StageTime]
    spans: list[Span]
    more: bool
    joined: bool


@dataclass(frozen=True)
class RemoteUse:
    """What processes on other machines report that they used: CPU seconds, and the most bytes that
    all of them held."""

    cpu_user_s: float
    cpu_system_s: float
    peak_memory_bytes: int


@dataclass(frozen=True)
class Counted:
    """What an engine counted during one call, or several.

    Attributes:
        counters: figures by plain names.
        unknown: names of figures that could not be told apart from other work, each with the
            reason.
        remote: what remote processes used, where they do part of the work.
    """

    counters: Mapping[str, float] = field(default_factory=dict)
    unknown: Mapping[str, str] = field(default_factory=dict)
    remote: RemoteUse | None = None


@dataclass(frozen=True)
class Restore:
    """A run asks for its tables on a server to be put back to what they were."""


WorkerSays = Union[Ready, Stopped, Counted, Restore, Export, Failure]  # noqa: UP007 - Python 3.9
"""What a worker tells its runner."""

EVENTS: dict[str, type] = {
    "ready": Ready,
    "stopped": Stopped,
    "counted": Counted,
    "restore": Restore,
    "exported": Export,
    "failed": Failure,
}
"""Names of what a worker tells, on the line."""

_NAMES = {kind: name for name, kind in EVENTS.items()}


def as_event(says: WorkerSays) -> dict[str, Any]:
    """What a worker tells, as plain data."""
    return {"event": _NAMES[type(says)], **asdict(says)}
