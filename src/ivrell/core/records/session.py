"""Sessions of a trial: each time that it was begun or gone on with, on what, and with which versions:
sessions.json."""

from collections.abc import Iterable, Sequence

from pydantic import BaseModel

from ivrell.core.records.machine import Machine
from ivrell.core.records.plan import Plan


class Session(BaseModel):
    """One stretch of a trial, by whoever conducted it then. Runs name theirs by its number, from 1;
    ``began`` is when, ``plan`` what was to be done, its seed among it, ``machine`` what it ran on,
    with versions."""

    number: int = 1
    began: str = ""
    plan: Plan
    machine: Machine

    def versions(self, engines: Iterable[str]) -> dict[str, str]:
        """What measured figures depend on, by name: the machine, its system, Python, Ivrell, and
        what some engines and the other interpreters are made of. What is not known is left out."""
        machine = self.machine
        found = {
            "machine": machine.host,
            "processor": machine.processor,
            "cores": "" if machine.cores is None else str(machine.cores),
            "kernel": machine.kernel,
            "system": machine.system,
            "Python": machine.python,
            "Ivrell": machine.ivrell,
        }
        for engine in engines:
            if engine in machine.engines:
                found |= machine.engines[engine].versions
        for name, runtime in machine.runtimes.items():
            found[f"interpreter {name}"] = f"{runtime.implementation} {runtime.version}"
            found |= {f"{package} in {name}": told for package, told in runtime.packages.items()}
        return {name: version for name, version in found.items() if version}


def differences(
    before: Session, after: Session, engines: Sequence[str]
) -> dict[str, tuple[str, str]]:
    """What is not the same in two sessions, with the version in each; what only one of them tells
    is no difference."""
    one, other = before.versions(engines), after.versions(engines)
    return {
        name: (version, other[name])
        for name, version in one.items()
        if name in other and other[name] != version
    }
