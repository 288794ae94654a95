"""Other interpreters of this machine that approaches in Python may ask for by name."""

import json
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.base.folders import data_folder
from ivrell.core.base.name_registry import Registered

OLDEST = (3, 9)
_LOOK_S = 30.0
_LOOK = """
import importlib.metadata as m, json, platform, sys
found = {}
for d in m.distributions():
    name = d.metadata["Name"]
    if name:
        found[name] = d.version
print(json.dumps({
    "implementation": platform.python_implementation(),
    "version": platform.python_version(),
    "prefixes": sorted({sys.prefix, sys.base_prefix}),
    "packages": found,
}))
"""


@dataclass(frozen=True)
class Runtime:
    """An interpreter as it was found when last looked at.

    ``prefixes`` are the folders that it and its packages lie in; ``problem`` says why it cannot
    be used, "" when it can.
    """

    name: str
    interpreter: str
    implementation: str = ""
    version: str = ""
    prefixes: tuple[str, ...] = ()
    packages: Mapping[str, str] = field(default_factory=dict)
    problem: str = ""


def look_at(name: str, interpreter: str) -> Runtime:
    """What an interpreter says of itself."""
    if not Path(interpreter).is_absolute():
        return Runtime(name, interpreter, problem="the path must begin with /")
    if not Path(interpreter).is_file():
        return Runtime(name, interpreter, problem="there is no such file")
    try:
        done = subprocess.run(
            [interpreter, "-I", "-c", _LOOK], capture_output=True, text=True, timeout=_LOOK_S
        )
        told = json.loads(done.stdout)
        version = str(told["version"])
        numbers = tuple(int(part) for part in version.split(".")[:2])
        runtime = Runtime(
            name,
            interpreter,
            str(told["implementation"]),
            version,
            tuple(told["prefixes"]),
            dict(sorted(told["packages"].items())),
        )
    except (OSError, subprocess.TimeoutExpired, ValueError, KeyError):
        return Runtime(name, interpreter, problem="it does not answer as a Python interpreter does")
    if numbers < OLDEST:
        wanted = ".".join(map(str, OLDEST))
        return Runtime(
            name, interpreter, problem=f"it is Python {version}; {wanted} or later is wanted"
        )
    return runtime


class Runtimes:
    """The interpreters registered on this machine, kept in Ivrell's data folder."""

    def __init__(self, folder: Path | None = None) -> None:
        self._kept = Registered(
            (folder or data_folder()) / "runtimes.json",
            what="runtime",
            asked_as="runtime",
            put_as="./ivrell runtimes --add NAME PATH",
        )

    def all(self) -> list[Runtime]:
        """Every one, looked at now."""
        return [look_at(name, interpreter) for name, interpreter in self._kept.all().items()]

    def add(self, name: str, interpreter: str) -> Runtime:
        """Register an interpreter. Raises BadInput when it cannot be used."""
        self._kept.check_name(name)
        found = look_at(name, interpreter)
        if found.problem:
            raise BadInput(
                f"{interpreter} cannot be used: {found.problem}.",
                where="interpreter",
                hint="Give the full path of a Python interpreter, such as bin/python in a "
                "virtual environment.",
            )
        self._kept.put(name, interpreter)
        return found

    def check_free(self, name: str) -> None:
        """Raise BadInput where there is one of that name already."""
        self._kept.check_name(name)
        if name in self._kept.all():
            raise BadInput(
                f"There is a runtime called {name} already.",
                where="name",
                hint="Take another name, or forget that one first.",
            )

    def remove(self, name: str) -> None:
        """Forget one. Raises BadInput when there is none of that name."""
        self._kept.remove(name)

    def get(self, name: str) -> Runtime:
        """The one of that name. Raises BadInput where there is none, or it cannot be used."""
        found = look_at(name, self._kept.get(name))
        if found.problem:
            raise BadInput(
                f"The runtime {name} cannot be used: {found.problem}.",
                where="runtime",
                hint=f"Register it anew: ./ivrell runtimes --add {name} PATH",
            )
        return found
