"""Environments: an interpreter with packages of its own, made in Ivrell's data folder.

Each is a virtual environment that pip fills, registered as a runtime of its name, so that lanes run
in several of them side by side. One that cannot be made, or whose packages cannot be imported,
leaves nothing and is told.
"""

import json
import os
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable, Sequence
from importlib.util import find_spec
from pathlib import Path

from ivrell.core.base.errors import BadInput, Stopped
from ivrell.core.base.folders import data_folder
from ivrell.core.base.locks import alone
from ivrell.core.base.parents import end_with_parent
from ivrell.core.runtimes import Runtime, Runtimes

FOLDER = "environments"
MOST_PACKAGES = 40
_POLL_S = 0.1
_IMPORT_S = 120.0
_OTHERS_S = 600.0
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,39}")
_SPEC = re.compile(
    r"[A-Za-z0-9][A-Za-z0-9._-]*(\[[A-Za-z0-9._,-]+\])?"
    r"(\s*(===?|~=|!=|<=?|>=?)\s*[A-Za-z0-9.*+!_-]+(\s*,\s*(?=[=~!<>]))?)*"
)
_IMPORTED = """
import importlib, importlib.metadata as m, json, re, sys
wanted = {re.sub(r"[-_.]+", "-", name).lower() for name in sys.argv[1:]}
troubles = {}
for dist in m.distributions():
    if re.sub(r"[-_.]+", "-", dist.metadata["Name"] or "").lower() not in wanted:
        continue
    tops = (dist.read_text("top_level.txt") or "").split() or sorted({
        str(f).split("/")[0].removesuffix(".py") for f in dist.files or ()
        if str(f).endswith(".py") and ".dist-info" not in str(f)
    })
    for top in tops:
        if not top.isidentifier() or top.startswith("_"):
            continue
        try:
            importlib.import_module(top)
        except BaseException as error:
            troubles[top] = f"{type(error).__name__}: {error}"
print("\\n" + json.dumps(troubles))
"""

Listen = Callable[[str], None]
"""Hears a line of what is said while an environment is made."""


def environment_folder(name: str, data: Path | None = None) -> Path:
    """Where an environment lies."""
    return (data or data_folder()) / FOLDER / name


def check(name: str, packages: Sequence[str]) -> None:
    """Raise BadInput for a name or for packages that cannot be asked for."""
    if not _NAME.fullmatch(name):
        raise BadInput(
            f'"{name}" cannot be the name of an environment.',
            where="name",
            hint="Take letters, digits, points and dashes, 40 at the most.",
        )
    if len(packages) > MOST_PACKAGES:
        raise BadInput(f"More than {MOST_PACKAGES} packages.", where="packages")
    for package in packages:
        if not _SPEC.fullmatch(package):
            raise BadInput(
                f'"{package}" is no package with a version.',
                where="packages",
                hint="Write it as pandas==2.3.3, or as polars alone for the newest.",
            )


def make(
    name: str,
    packages: Sequence[str],
    *,
    python: str | None = None,
    data: Path | None = None,
    listen: Listen = lambda line: None,
    stopped: Callable[[], bool] = lambda: False,
) -> Runtime:
    """Make an environment and register it.

    Args:
        name: of the environment and of the runtime.
        packages: as pip takes them, such as ``pandas==2.3.3``.
        python: path of the interpreter that it is of; Ivrell's own unless given.
        data: Ivrell's data folder.
        listen: hears what is said.
        stopped: whether to end; what was made is taken away.

    Raises BadInput where it cannot be made, Stopped where it was to end.
    """
    check(name, packages)
    runtimes = Runtimes(data)
    runtimes.check_free(name)
    folder = environment_folder(name, data)
    folder.parent.mkdir(mode=0o755, parents=True, exist_ok=True)
    with alone(folder.parent / f".{name}.lock", stopped, _OTHERS_S):
        runtimes.check_free(name)
        if folder.exists():
            # What one left that was killed.
            shutil.rmtree(folder)
        _fill(folder, packages, python, listen, stopped)
        found = runtimes.add(name, str(folder / "bin" / "python"))
    told = _asked_for(packages)
    versions = [f"{p} {v}" for p, v in found.packages.items() if _plain(p) in told]
    listen(f"{name}: {found.implementation} {found.version}, {', '.join(versions)}.")
    return found


def _fill(
    folder: Path,
    packages: Sequence[str],
    python: str | None,
    listen: Listen,
    stopped: Callable[[], bool],
) -> None:
    """Make a virtual environment with packages; where that fails nothing is left."""
    interpreter = folder / "bin" / "python"
    try:
        listen(f"Making {folder.name}.")
        # Ivrell's own pip fills it where there is one: it needs none of its own.
        own = find_spec("pip") is not None
        venv = ["-m", "venv", *(["--without-pip"] if own else []), str(folder)]
        _say([python or sys.executable, *venv], listen, stopped, python)
        if packages:
            pip = [sys.executable, "-m", "pip", "--python"] if own else []
            how = ["--no-input", "--disable-pip-version-check", "install", "--progress-bar", "off"]
            before = [] if own else ["-m", "pip"]
            _say([*pip, str(interpreter), *before, *how, *packages], listen, stopped)
        listen("Importing what was installed.")
        _import(interpreter, packages)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise


def remove(name: str, data: Path | None = None) -> None:
    """Forget an environment and take it from the disk. Raises BadInput where there is none."""
    folder = environment_folder(name, data)
    if not _NAME.fullmatch(name) or not folder.is_dir():
        raise BadInput(f"There is no environment called {name}.", where="name")
    Runtimes(data).remove(name)
    shutil.rmtree(folder)


def _plain(package: str) -> str:
    return re.sub(r"[-_.]+", "-", package).lower()


def _asked_for(packages: Sequence[str]) -> list[str]:
    """Names of packages without what is wanted of them."""
    return [_plain(re.split(r"[\[=~!<>\s]", package, maxsplit=1)[0]) for package in packages]


def _say(
    command: Sequence[str],
    listen: Listen,
    stopped: Callable[[], bool],
    python: str | None = None,
) -> None:
    """Run a command that says what it does. Raises BadInput where it fails, Stopped."""
    # Its own group: what it started ends with it.
    try:
        process = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            stdin=subprocess.DEVNULL, start_new_session=True, env=_own(),
            preexec_fn=end_with_parent,
        )  # fmt: skip
    except OSError as error:
        raise BadInput(
            f"{command[0]} cannot be started: {error.strerror}.",
            where="python",
            hint="Give the full path of a Python interpreter.",
        ) from None
    assert process.stdout
    os.set_blocking(process.stdout.fileno(), False)
    lines: list[str] = []
    rest = b""
    try:
        while True:
            ended = process.poll() is not None
            *whole, rest = (rest + (process.stdout.read() or b"")).split(b"\n")
            for line in filter(None, (one.decode(errors="replace").strip() for one in whole)):
                lines.append(line)
                listen(line)
            if ended:
                break
            if stopped():
                raise Stopped
            _wait(process)
    finally:
        if process.poll() is None:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        process.stdout.close()
    if process.returncode:
        raise _trouble([*lines, rest.decode(errors="replace")], python)


def _own() -> dict[str, str]:
    """What packages may see of the environment: nothing of Ivrell's own, nor of its Python's."""
    return {
        name: value
        for name, value in os.environ.items()
        if not name.startswith(("PYTHON", "IVRELL", "DJANGO"))
    }


def _wait(process: "subprocess.Popen[bytes]") -> None:
    try:
        process.wait(_POLL_S)
    except subprocess.TimeoutExpired:
        return


def _trouble(lines: Sequence[str], python: str | None) -> BadInput:
    """What kept an environment from being made, in words; the last errors that were said."""
    text = "\n".join(lines)
    errors = [line.removeprefix("ERROR: ") for line in lines if line.startswith("ERROR: ")]
    said = " ".join(errors[-2:]) or " ".join(lines[-2:]) or "nothing was said"
    offline = ("Temporary failure in name resolution", "Failed to establish a new connection",
               "Name or service not known", "Network is unreachable", "ConnectTimeout",
               "Could not fetch URL", "ProxyError", "Connection refused")  # fmt: skip
    if any(word in text for word in offline):
        return BadInput(
            "The registry of packages cannot be reached.",
            hint=f"Is this machine on a network, or is a mirror set for pip? Last said: {said}",
        )
    if "ResolutionImpossible" in text or "conflicting dependencies" in text:
        conflict = [line for line in lines if " depends on " in line or "conflict" in line.lower()]
        return BadInput(
            "These packages cannot be had together.",
            where="packages",
            hint=f"Ask for versions that go together. {' '.join(conflict[-3:]) or said}",
        )
    if "No matching distribution found" in text:
        wanted = re.findall(r"No matching distribution found for (.+)", text)
        return BadInput(
            f"There is no {wanted[-1] if wanted else 'such package'} for this interpreter.",
            where="packages",
            hint="Look at its name and version, or take another interpreter.",
        )
    if "ensurepip" in text:
        return BadInput(
            "This interpreter cannot make environments: it lacks venv.",
            where="python" if python else "",
            hint="Install its package for that (python3-venv on Debian), or take another one.",
        )
    return BadInput(f"The environment could not be made: {said}", hint="The log has all of it.")


def _import(interpreter: Path, packages: Sequence[str]) -> None:
    """Import what was asked for. Raises BadInput where that fails."""
    try:
        done = subprocess.run(
            [str(interpreter), "-I", "-c", _IMPORTED, *_asked_for(packages)],
            capture_output=True, text=True, errors="replace", timeout=_IMPORT_S,
            stdin=subprocess.DEVNULL, cwd=interpreter.parent, env=_own(),
        )  # fmt: skip
        troubles: dict[str, str] = json.loads(done.stdout.strip().splitlines()[-1])
    except (OSError, subprocess.TimeoutExpired, ValueError, IndexError):
        raise BadInput(
            "What was installed ends the interpreter when it is imported.",
            where="packages",
            hint="Ask for other versions.",
        ) from None
    for top, told in troubles.items():
        raise BadInput(
            f"{top} was installed and cannot be imported: {told}.",
            where="packages",
            hint="Ask for other versions, or for what it lacks as well.",
        )
