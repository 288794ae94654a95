"""The protocol that every engine keeps.

Engine modules import only the standard library when they are loaded: the worker imports
them in the very process that is measured, so what they load would weigh on its memory.
"""

import importlib.metadata
from dataclasses import dataclass, field
from typing import Any, Protocol

from ivrell.core.recipe.input import Input
from ivrell.core.tasks.task import Job, Task


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
    def label(self) -> str:
        """The name, or the id where it has none."""
        return self.name or self.id


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
