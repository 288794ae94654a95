"""A sandboxed run: what it can see, reach and write. Standard library only.

Uses bubblewrap, which makes namespaces of the kernel's: the file system read-only but for the
run's own folder, Ivrell's data hidden but for the run's inputs, no network, no processes but
its own, no capabilities, no way to new privileges. Started by root it runs as a user that owns
nothing. Where it is not installed or may not work, runs go on without, and their records say so.
"""

import os
import shutil
import subprocess
import sys
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from ivrell.core.folders import data_folder

_TRY_S = 10.0
OURS = tuple(
    str(path)
    for path in dict.fromkeys(
        (Path(__file__).resolve().parents[3], Path(sys.prefix), Path(sys.base_prefix))
    )
    if path.exists()
)


@dataclass(frozen=True)
class Sandbox:
    """What a sandboxed run sees.

    Attributes:
        folder: the run's own folder, the only place that it can write to.
        ours: folders of Ivrell and of its interpreter, which lie anywhere; as the process that
            was started with its packages sees them.
        inputs: files and folders shown read-only although they lie in a hidden place.
        hidden: folders shown empty, such as Ivrell's own data.
        network: whether it may reach beyond this machine's memory and disk.
    """

    folder: Path
    ours: tuple[str, ...] = ()
    inputs: tuple[str, ...] = ()
    hidden: tuple[str, ...] = ()
    network: bool = False

    def around(self, command: Iterable[str]) -> list[str]:
        """The command line that runs a command inside."""
        line = [
            "bwrap", "--die-with-parent", "--new-session",
            "--unshare-pid", "--unshare-ipc", "--unshare-uts", "--unshare-cgroup-try",
            "--cap-drop", "ALL",
            "--ro-bind", "/", "/", "--dev", "/dev", "--proc", "/proc",
        ]  # fmt: skip
        # What lies there is memory: it has an end, and belongs to whoever the run is.
        for place, size in _IN_MEMORY.items():
            line += ["--size", str(size), "--perms", "1777", "--tmpfs", place]
        if not self.network:
            line.append("--unshare-net")
        shown = tuple(dict.fromkeys((*self.ours, *self.inputs)))
        covered = [place for place in self.hidden if Path(place).exists()]
        covered += _closed_to_others((*shown, str(self.folder))) if as_root() else []
        for place in covered:
            line += ["--perms", "0755", "--tmpfs", place]
        for way in _ways((*shown, str(self.folder)), (*covered, *_IN_MEMORY)):
            line += ["--perms", "0755", "--dir", way]
        # Ivrell and its interpreter must be seen wherever they are installed.
        for path in shown:
            line += ["--ro-bind", path, path]
        line += ["--bind", str(self.folder), str(self.folder), "--chdir", str(self.folder)]
        if as_root():
            for capability in ("CAP_SETUID", "CAP_SETGID", "CAP_SETPCAP"):
                line += ["--cap-add", capability]
            return [*line, "--", *_AS_NOBODY, *command]
        return [*line, "--", *command]


_IN_MEMORY = {"/tmp": 64 << 20, "/run": 1 << 20, "/dev/shm": 256 << 20}
"""Places of a run that are kept in memory, with the most bytes that each can hold. A run's own
temporary files lie in its folder, which is watched."""

_NOBODY = 65534
_AS_NOBODY = (
    "setpriv", f"--reuid={_NOBODY}", f"--regid={_NOBODY}", "--clear-groups",
    "--inh-caps=-all", "--bounding-set=-all", "--no-new-privs", "--",
)  # fmt: skip

SAYS = ("bwrap: ", "setpriv: ")
"""How what a sandbox itself says begins, when it could not start the run."""


def as_root() -> bool:
    """Whether root starts the runs, which then are another user's."""
    return os.geteuid() == 0


def give(folder: Path) -> None:
    """Let the user that runs are started as own a run's folder, with what was put there."""
    if as_root():
        for path in (folder, *folder.rglob("*")):
            os.chown(path, _NOBODY, _NOBODY, follow_symlinks=False)


def _ways(places: Iterable[str], covered: Iterable[str]) -> list[str]:
    """Folders that lead to these places through covered ones, which others must be able to pass
    through; the outer ones first."""
    below = tuple(Path(place) for place in covered)
    found = [
        str(parent)
        for place in places
        for parent in reversed(Path(place).parents)
        if any(parent.is_relative_to(cover) and parent != cover for cover in below)
    ]
    return list(dict.fromkeys(found))


def _closed_to_others(places: Iterable[str]) -> list[str]:
    """Folders above these places that other users may not pass through, such as root's own:
    covered by empty ones, in which the places are shown again."""
    found = []
    for place in places:
        for parent in reversed(Path(place).parents):
            if not parent.stat().st_mode & 0o001:
                found.append(str(parent))
                break
    return list(dict.fromkeys(found))


@lru_cache(maxsize=1)
def why_not() -> str | None:
    """Why runs cannot be sandboxed here, or None when they can: found by starting in one just
    what runs start."""
    import tempfile  # what the runner does not need would weigh on its size

    if shutil.which("bwrap") is None:
        return "bubblewrap is not installed (apt-get install bubblewrap)"
    if as_root() and shutil.which("setpriv") is None:
        return "setpriv is not installed, which runs give root's rights up with (util-linux)"
    with tempfile.TemporaryDirectory(prefix="ivrell-look-") as folder:
        look = [sys.executable, "-c", "import ivrell.core.trial.worker"]
        trial = Sandbox(Path(folder), ours=OURS, hidden=(str(data_folder()),)).around(look)
        try:
            done = subprocess.run(
                trial, capture_output=True, text=True, timeout=_TRY_S,
                env={"PATH": os.environ.get("PATH", os.defpath), "LANG": "C.UTF-8"},
            )  # fmt: skip
        except (OSError, subprocess.TimeoutExpired) as error:
            return f"bubblewrap does not work here: {error}"
    if done.returncode:
        return f"bubblewrap does not work here: {done.stderr.strip()[-300:]}"
    return None
