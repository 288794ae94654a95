"""Sessions of a trial: each time that it was begun or gone on with, on what, and with which
versions: sessions.json. A set of runs with the sessions that they are of is what findings are
made of."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import NamedTuple, Self

from pydantic import BaseModel, Field

from ivrell.core.records.machine import Machine
from ivrell.core.records.plan import KnobValues, Plan
from ivrell.core.records.points import Point
from ivrell.core.records.run import RunRecord


class More(BaseModel):
    """What is to be added to a trial that has ended: so many ``rounds``, at one ``point`` or at
    all; ``lanes`` that did not run, with as many rounds as the others have unless some are said;
    values of ``knobs`` that did not. With ``told_within_minutes`` rounds go on until it is told who
    is the quickest, at the longest for so long."""

    rounds: int = Field(default=0, ge=0, le=1000)
    lanes: list[str] = []
    knobs: dict[str, KnobValues] = {}
    point: Point | None = None
    told_within_minutes: float | None = Field(default=None, gt=0, le=24 * 60)


class Stretch(BaseModel):
    """What a session does where that is not the whole plan of its trial: a plan of its own, at
    ``points`` alone unless there are none, with rounds counted from ``first_round``; as ``More``
    it may end once it is told who is the quickest."""

    plan: Plan
    first_round: int = 1
    points: list[Point] = []
    told_within_minutes: float | None = None


class Session(BaseModel):
    """One stretch of a trial, by whoever conducted it then. Runs name theirs by its ``number``,
    from 1; ``began`` is when, ``plan`` what was to be done, its seed among it, ``machine`` what it
    ran on, with versions; ``stretch`` what it added to a trial that had ended."""

    number: int = 1
    began: str = ""
    plan: Plan = Plan()
    machine: Machine = Machine()
    stretch: Stretch | None = None

    def versions(self, engines: Iterable[str]) -> dict[str, str]:
        """What figures depend on, by name: the processor, the system, Python, Ivrell, and what some
        engines and the other interpreters are made of. What is not known is left out."""
        machine = self.machine
        found = {
            "the processor": machine.processor,
            "cores": "" if machine.cores is None else str(machine.cores),
            "the kernel": machine.kernel,
            "the system": machine.system,
            "Python": machine.python,
            "Ivrell": machine.ivrell,
        }
        for engine in engines:
            if engine in machine.engines:
                found |= machine.engines[engine].versions
        for name, runtime in machine.runtimes.items():
            found[name] = f"{runtime.implementation} {runtime.version}"
            found |= {f"{package} in {name}": told for package, told in runtime.packages.items()}
        return {name: version for name, version in found.items() if version}


class Change(NamedTuple):
    """Something that was another version in a later session."""

    name: str
    before: str
    after: str

    def __str__(self) -> str:
        return f"{self.name} {self.before}, then {self.after}"


def changes(before: Session, after: Session, engines: Iterable[str]) -> list[Change]:
    """What is not the same in two sessions; what only one of them tells is no change."""
    names = list(engines)
    one, other = before.versions(names), after.versions(names)
    return [
        Change(name, version, other[name])
        for name, version in one.items()
        if name in other and other[name] != version
    ]


@dataclass(frozen=True)
class RunSet:
    """Runs that are looked at together, and the sessions that they are of, the oldest first."""

    runs: Sequence[RunRecord]
    sessions: Sequence[Session] = ()

    @classmethod
    def of(cls, runs: Sequence[RunRecord], machine: Machine) -> Self:
        """Runs of one session on a machine."""
        return cls(runs, [Session(machine=machine)])

    def at(self, point: Point) -> "RunSet":
        """Those at one point."""
        return replace(self, runs=[run for run in self.runs if run.point == point])

    @property
    def used_sessions(self) -> list[Session]:
        """The sessions that a run is of; all where no run names one that is there."""
        named = {run.session for run in self.runs}
        return [one for one in self.sessions if one.number in named] or list(self.sessions)

    @property
    def machine(self) -> Machine:
        """The machine as it was in the latest session, with what held it back in all of them."""
        used = self.used_sessions
        if not used:
            return Machine()
        held: dict[str, float] = {}
        for name in ("throttled_s", "heat_throttles", "swapped_bytes"):
            told = [getattr(one.machine, name) for one in used]
            if known := [value for value in told if value is not None]:
                held[name] = sum(known)
        return used[-1].machine.model_copy(update=held)

    def changes(self, engines: Iterable[str]) -> list[Change]:
        """What is not the same in all sessions that runs are of, from each to the next."""
        names, used = list(engines), self.used_sessions
        return [
            change for before, after in pairwise(used) for change in changes(before, after, names)
        ]
