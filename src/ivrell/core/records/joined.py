"""What a machine that has joined and the application that it joined say to each other."""

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from ivrell.core.records.agreement import Agreement
from ivrell.core.records.data import MadeTable
from ivrell.core.records.events import LiveEvent
from ivrell.core.records.machine import Machine
from ivrell.core.records.plan import Plan
from ivrell.core.records.run import RunRecord
from ivrell.core.records.session import Session, Stretch
from ivrell.core.records.trouble import Trouble

WORKER_SCHEME = "IvrellWorker"
"""What stands before a joined machine's token in its requests."""

MOST_RUNS = 50
"""Runs in one message."""

Sample = tuple[float, float, int]


class MadeBytes(BaseModel, frozen=True):
    """The hash of the bytes that a table of a recipe (its ``fingerprint``) has in a form where it
    was made before; another machine makes the same."""

    fingerprint: str
    form: str
    bytes_hash: str


class JoinedTask(BaseModel):
    """A trial that a machine is to run: its number, a ``key`` that no other trial of any Ivrell
    has, the text and the plan; ``stretch`` and ``other_versions`` as a trial takes them;
    ``expected`` is what its data must be."""

    trial: int
    key: str
    text: str
    plan: Plan
    stretch: Stretch | None = None
    other_versions: bool = False
    expected: list[MadeBytes] = []


Nonce = Annotated[str, Field(min_length=8, max_length=64, pattern="^[A-Za-z0-9_-]+$")]


class Asking(BaseModel):
    """A machine asks for work, and says what it is; ``worker`` is another word each time that its
    worker is started, so that of two one alone is given work."""

    machine: Machine
    worker: Nonce


class Given(BaseModel):
    """What it is given: nothing, with the reason where there is one, or a trial."""

    task: JoinedTask | None
    why_not: str = ""


class Told(BaseModel):
    """What happened in a trial since it was told last, with the runs that have ended and their
    curves by number."""

    worker: Nonce
    events: Annotated[list[LiveEvent], Field(max_length=1000)] = []
    runs: Annotated[list[RunRecord], Field(max_length=MOST_RUNS)] = []
    curves: dict[int, list[Sample]] = {}


class Wanted(BaseModel):
    """What people ask of a trial meanwhile."""

    stop: bool
    pause: bool
    stop_run: int | None
    dropped: list[str]


class Brought(BaseModel):
    """The end of a trial: how it ended, and what stands beside its runs. With ``trouble`` it could
    not go on; with ``paused`` it waits."""

    worker: Nonce
    ended: Literal["done", "stopped", "failed", "paused"]
    sessions: list[Session] = []
    data: list[MadeTable] = []
    agreement: dict[str, dict[str, Agreement | None]] = {}
    trouble: Trouble | None = None
