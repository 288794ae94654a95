"""What every engine is, and what it says it can do.

Engine modules import only the standard library when they are loaded: the worker imports
them in the very process that is measured, so what they load would weigh on its memory.
"""

import importlib.metadata
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from ivrell.core.base.folders import package_folder
from ivrell.core.recipe.input import Input
from ivrell.core.records.wire import Job
from ivrell.core.tasks.task import Task

if TYPE_CHECKING:
    from ivrell.core.base.waits import WantedStop
    from ivrell.core.engines.workspace import RunWorkspace, WorkspaceRequest
    from ivrell.core.service.settings import ServiceSettings


@dataclass(frozen=True)
class Needs:
    """What an approach needs besides tables in a form.

    Attributes:
        keys, indexes: of loaded tables, as in ``passages(lock)``.
        writes: whether it changes loaded tables, which are put back before each call.
        setup: its untimed statements before each call; None where its engine has none.
        server: the engine whose server it drives from its own code, or "".
        at: name of the registered server that its tables are loaded on; "" for the private one.
        runtime: name of the registered interpreter that it runs in; "" for Ivrell's own.
        service: the remote service that it asks, if any.
        session: whether it has a session of Apache Spark, at the place that ``at`` names; this
            machine's cores unless given.
    """

    keys: tuple[str, ...] = ()
    indexes: tuple[str, ...] = ()
    writes: bool = False
    setup: str | None = None
    server: str = ""
    at: str = ""
    runtime: str = ""
    service: "ServiceSettings | None" = None
    session: bool = False


@dataclass(frozen=True, kw_only=True)
class Approach:
    """What every approach says, whatever its engine.

    ``input`` is the form of the tables it reads, or a form and how its files are cut and
    packed; ``parent`` the approach it was branched from. One that is ``retired`` runs no more
    unless it is asked for by its id; old trials keep it.
    """

    __pydantic_config__ = {"extra": "forbid", "str_max_length": 200_000, "allow_inf_nan": False}

    id: str
    engine: str
    name: str = ""
    input: str | Input = "csv"
    parent: str | None = None
    note: str = ""
    retired: bool = False

    def text(self) -> str:
        """The code that a person wrote for it."""
        raise NotImplementedError

    @property
    def wanted(self) -> Input:
        """Its input in full."""
        return Input(form=self.input) if isinstance(self.input, str) else self.input

    @property
    def needs(self) -> "Needs":
        """What it needs besides tables in a form."""
        return Needs()

    @property
    def label(self) -> str:
        """The name, or the id where it has none."""
        return self.name or self.id


class Scope(StrEnum):
    """Which processes the CPU time and the memory of a run are those of."""

    RUN = "the run's own processes"
    SERVER = "the run's own processes and those of a server on this machine"
    ENGINE = "the engine's process; the client that drives it is told apart"
    SERVICE = "the run's own processes; the service that it asks is told apart"
    REMOTE = "the run's own processes, and what remote ones report of themselves"
    UNSEEN = "not measurable: part of the work is done where it cannot be seen"


@dataclass(frozen=True)
class Problem:
    """Something wrong in an approach's text; ``line`` counts from 1."""

    what: str
    line: int | None = None
    hint: str = ""


@dataclass(frozen=True)
class Seen:
    """Something that an approach's code can name: the way it writes it, and what it stands for."""

    name: str
    words: str


TableShapes = Mapping[str, tuple[list[str], int]]
"""Names of the columns, and rows, of each table."""


Own = TypeVar("Own", bound=Approach)
"""The approaches of an engine."""


class Engine(Generic[Own]):
    """One way to execute approaches; what it can do besides is said here.

    Attributes:
        name: the word for it in comparison files.
        language: of its code, unless ``language_of`` an approach says otherwise.
        warm_up_calls: calls before the first that counts, in each process, where a session is
            dear to start and slow at first.
        approach: the fields that an approach of it may have.
        packages: Python packages that it needs.
        install: the line that installs what is missing, where that is more than packages.
        arrives_behind: whether ./start installs it while Ivrell works already.
        forms: forms of tables that it can read; None when the approach itself reads them.
        given_shapes: whether a run is told rows and schema of each table, see Job.shapes.
        takes_runtime: whether its approaches can run in another interpreter.
        ways: further texts that an approach can start from, by name.
        looks_at_tables: whether ``problem_with`` says something of an approach and its tables.
        how: for whoever writes an approach: what its code is to be.
        answer: the same of what its answer may be.
        stage: how its code names a part of the run.
    """

    name: str
    language: str
    approach: type[Own]
    packages: tuple[str, ...] = ()
    install = ""
    arrives_behind = False
    forms: tuple[str, ...] | None = None
    given_shapes = False
    takes_runtime = False
    ways: tuple[str, ...] = ()
    looks_at_tables = False
    warm_up_calls = 0
    how = "Write SQL; the rows of the last statement are the answer, fetched inside the clock."
    answer = "The answer is taken with its column names as they are."
    stage = "-- stage: read"

    def language_of(self, approach: Own) -> str:
        """The language of an approach's code, for the editor and for counting lines."""
        return self.language

    def explains(self, approach: Own) -> bool:
        """Whether it can tell how it carries an approach out."""
        return self.language == "sql"

    def problem(self, approach: Own) -> "Problem | None":
        """What is plainly wrong with an approach's text, found without running it."""
        return None

    def problem_with(self, approach: Own, tables: TableShapes) -> "Problem | None":
        """What is wrong with an approach on tables of these shapes."""
        return None

    def outside(self) -> tuple[dict[str, str], tuple[str, ...], str]:
        """What it needs besides Python packages: versions of what was found, names of what is
        missing, and the line that installs it."""
        return {}, (), ""

    def sees(self, approach: Own, tables: Iterable[str], knobs: Iterable[str]) -> list[Seen]:
        """What an approach's code can name: tables, knobs, and a part of the run."""
        words = self.table_words(approach)
        return [
            *(Seen(self.table_name(table), words) for table in tables),
            *(Seen(self.knob_name(knob), "a knob's value") for knob in knobs),
            Seen(self.stage, "names a part of the run, timed on its own"),
        ]

    def table_name(self, table: str) -> str:
        """How code names a table."""
        return table

    def knob_name(self, knob: str) -> str:
        """How code names a knob."""
        return f":{knob}"

    def table_words(self, approach: Own) -> str:
        """What stands behind the name of a table."""
        wanted = approach.wanted
        if wanted.form == self.name:
            return "a table, loaded with its keys and indexes"
        return "a view over its file"

    def starting(self, table: str, column: str) -> dict[str, Any]:
        """Fields of a new approach that runs as it is: it answers with the row count of a table,
        whose first column is named too ("" where that is not known)."""
        return {"code": f"SELECT count(*) AS rows\nFROM {table}\n"}

    def starting_in(self, way: str, table: str) -> dict[str, Any]:
        """The same in one of its ``ways``; with the form that it reads."""
        raise NotImplementedError

    def scope(self, approach: Own) -> Scope:
        """Which processes the figures of an approach's runs are those of."""
        return Scope.RUN

    def workspace(self, asked: "WorkspaceRequest", wanted_stop: "WantedStop") -> "RunWorkspace":
        """Where a run of an approach works and what it finds around it: files in a folder, or
        tables in a database, unless it brings a place of its own. Raises Stopped."""
        # Heavy, and wanted only by who conducts.
        from ivrell.core.engines.workspace import workspace_of

        return workspace_of(asked, wanted_stop)

    def prepare(self, job: Job) -> Task:
        """Everything that stays outside the clock: imports, connections, views."""
        raise NotImplementedError


def path_words(wanted: Input) -> str:
    """What a table is for code that is given its files."""
    if wanted.parts > 1 or wanted.split_by:
        return f"list of paths of the {wanted.form} parts"
    return f"path of the {wanted.form} file"


@dataclass(frozen=True)
class EngineState:
    """Whether an engine can be used on this machine.

    ``versions`` holds each package and program with its version; ``missing`` names what is
    not there, ``hint`` is the line that installs it, and ``arriving`` says that it is being
    installed just now; ``problem`` says why one of another package cannot be used; ``ways`` are
    texts to start from.
    """

    name: str
    language: str
    installed: bool
    versions: dict[str, str] = field(default_factory=dict)
    missing: tuple[str, ...] = ()
    hint: str = ""
    arriving: bool = False
    problem: str = ""
    ways: tuple[str, ...] = ()

    @property
    def lack(self) -> str:
        """What to do where it is not installed."""
        if self.arriving:
            return "It is being installed just now: look again in a minute."
        return f"Install it with: {self.hint}"


def _behind() -> bool:
    """Whether a start of this checkout still installs what Ivrell can begin without."""
    mark = package_folder().parents[1] / ".setup" / "arriving"
    try:
        # One that has ended and was not waited for has none.
        return bool(Path(f"/proc/{int(mark.read_text())}/cmdline").read_bytes())
    except (OSError, ValueError):
        return False


def state_of(engine: Engine[Any]) -> EngineState:
    """Look at what is installed for an engine in this interpreter and on this machine."""
    versions = {}
    missing = []
    for package in engine.packages:
        try:
            versions[package] = importlib.metadata.version(package)
        except importlib.metadata.PackageNotFoundError:
            missing.append(package)
    hint = engine.install or f"pip install {' '.join(missing)}" if missing else ""
    found, absent, line = engine.outside()
    installed = not missing and not absent
    return EngineState(
        engine.name,
        engine.language,
        installed,
        found | versions,
        (*missing, *absent),
        hint or line,
        engine.arrives_behind and not installed and _behind(),
        ways=engine.ways,
    )
