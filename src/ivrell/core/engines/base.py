"""The protocol that every engine keeps.

Engine modules import only the standard library when they are loaded: the worker imports
them in the very process that is measured, so what they load would weigh on its memory.
"""

import contextlib
import importlib.metadata
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from ivrell.core.recipe.input import Input

if TYPE_CHECKING:
    import pyarrow as pa

Stage = Callable[[str], contextlib.AbstractContextManager[None]]
"""``with stage("read"):`` names a part of the timed run."""


@dataclass(frozen=True, kw_only=True)
class Approach:
    """What every approach says, whatever its engine.

    ``input`` is the form of the tables it reads, or a form and how its files are cut and
    packed; ``parent`` the approach it was branched from.
    """

    __pydantic_config__ = {"extra": "forbid", "str_max_length": 200_000}

    id: str
    engine: str
    name: str = ""
    input: str | Input = "csv"
    parent: str | None = None
    note: str = ""

    def text(self) -> str:
        """The code that a person wrote for it."""
        raise NotImplementedError

    @property
    def wanted(self) -> Input:
        """Its input in full."""
        return Input(form=self.input) if isinstance(self.input, str) else self.input

    @property
    def label(self) -> str:
        """The name, or the id where it has none."""
        return self.name or self.id


@dataclass(frozen=True)
class Job:
    """One run as the worker sees it.

    Attributes:
        approach: fields of the approach, as in the comparison file.
        tables: path of each table in the form the approach asked for, or paths of its parts.
        knobs: value of each knob at this point.
        folder: the run's own working folder.
        threads: how many threads its libraries may use, or None for their own choice.
        database: where tables are loaded: ``place`` (a file) or ``address`` (a connection
            string); empty for forms that are files.
    """

    approach: Mapping[str, Any]
    tables: Mapping[str, str | list[str]]
    form: str
    knobs: Mapping[str, Any]
    folder: Path
    threads: int | None = None
    database: Mapping[str, str] = field(default_factory=dict)


class ApproachFailed(Exception):
    """The approach's own code failed, with the line of it where that is known."""

    def __init__(self, kind: str, message: str, line: int | None = None, trace: str = "") -> None:
        super().__init__(message)
        self.kind = kind
        self.message = message
        self.line = line
        self.trace = trace


class Task:
    """An approach made ready to run in this process; engines say how."""

    sets_up_each = False
    """Whether something is to be set up before each call."""

    def before_each(self) -> None:
        """Set up for one call; outside the clock."""

    def run(self, stage: Stage) -> object:
        """Produce the whole answer; called between two readings of the clock."""
        raise NotImplementedError

    def run_many(self, stage: Stage, times: int) -> object:
        """The same several times with as little between as can be; the last answer."""
        answer: object = None
        for _ in range(times):
            answer = self.run(stage)
        return answer

    def hand_over(self, answer: object) -> "pa.Table":
        """The answer as an Arrow table; untimed."""
        from ivrell.core.engines.answers import to_arrow

        return to_arrow(answer)

    def counters(self) -> dict[str, float]:
        """What the engine counted during ``run``."""
        return {}

    def threads(self) -> dict[str, int]:
        """What the engine says of the threads that it works with."""
        return {}

    def close(self) -> None:
        """Let go of everything."""


class Engine(Protocol):
    """One way to execute approaches.

    An engine that needs more than Python packages has a method ``outside``: versions of what
    it found, names of what is missing, and the line that installs it.
    """

    name: str
    language: str

    @property
    def approach(self) -> type[Approach]:
        """The fields that an approach of this engine may have."""

    @property
    def forms(self) -> tuple[str, ...] | None:
        """Forms of tables it can read, or None when the approach itself reads them."""

    @property
    def packages(self) -> tuple[str, ...]:
        """Python packages it needs."""

    def problem(self, approach: Any) -> "Problem | None":
        """What is plainly wrong with an approach's text, found without running it."""

    def prepare(self, job: Job) -> Task:
        """Everything that stays outside the clock: imports, connections, views."""


@dataclass(frozen=True)
class Problem:
    """Something wrong in an approach's text; ``line`` counts from 1."""

    what: str
    line: int | None = None
    cure: str = ""


@dataclass(frozen=True)
class EngineState:
    """Whether an engine can be used on this machine.

    ``versions`` holds each package and program with its version; ``missing`` names what is
    not there, ``cure`` is the line that installs it.
    """

    name: str
    language: str
    installed: bool
    versions: dict[str, str] = field(default_factory=dict)
    missing: tuple[str, ...] = ()
    cure: str = ""


def state_of(engine: Engine) -> EngineState:
    """Look at what is installed for an engine in this interpreter and on this machine."""
    versions = {}
    missing = []
    for package in engine.packages:
        try:
            versions[package] = importlib.metadata.version(package)
        except importlib.metadata.PackageNotFoundError:
            missing.append(package)
    cure = f"pip install {' '.join(missing)}" if missing else ""
    found, absent, line = getattr(engine, "outside", lambda: ({}, (), ""))()
    return EngineState(
        engine.name,
        engine.language,
        not missing and not absent,
        found | versions,
        (*missing, *absent),
        cure or line,
    )
