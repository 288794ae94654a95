"""A sandboxed run: what it can see, reach and write. Standard library only.

Uses bubblewrap, which makes namespaces of the kernel's: of the file system the system's programs,
the run's inputs and its own folder alone, no network, no processes but its own, no capabilities,
no way to new privileges, and a filter of system calls. Started by root it runs as a user that owns
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

from ivrell.core.base.folders import data_folder, package_folder
from ivrell.core.contain.calls import Filter, compiled
from ivrell.core.measure import proc

_TRY_S = 10.0
_FILTER_FD = 9
FIRST_FREE_FD = _FILTER_FD + 1
"""The least number that a descriptor may have which a sandbox is to inherit."""

_NOBODY = 65534
OURS = tuple(
    str(path)
    for path in dict.fromkeys(
        (
            package_folder().parent,
            Path(sys.prefix),
            Path(sys.base_prefix),
            # Packages may lie in another environment's; the folder one works in is none of them.
            *(Path(path) for path in sys.path if path.endswith(("site-packages", "dist-packages"))),
        )
    )
    if path.exists()
)
_SYSTEM = (
    "/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/etc", "/opt", "/sys",
    "/var/lib/libreoffice", "/var/cache/fontconfig",
)  # fmt: skip
"""Where the system and its programs lie: readable by every account anyway."""


@dataclass(frozen=True)
class Sandbox:
    """What a sandboxed run sees: the system's programs, Ivrell's own, its inputs, its folder, and
    nothing else: no home, no other data.

    Attributes:
        folder: the run's own folder, the only place that it can write to.
        calls: path of a compiled filter of system calls, see calls.
        ours: folders of Ivrell and of its interpreter, which lie anywhere; as the process that
            was started with its packages sees them.
        inputs: files and folders shown read-only.
        hidden: folders shown empty where they lie in one that is shown, such as Ivrell's data.
        network: whether it may reach beyond this machine's memory and disk.
        beside: a process whose network it shares, and no other.
        writable: further places that it can write to.
        user: whose it is where root starts it, as user and group id; nobody's unless given.
        joined: whether other sandboxes are to share its network.
        lasting: whether it outlives whoever started it, as a server does.
    """

    folder: Path
    calls: str
    ours: tuple[str, ...] = ()
    inputs: tuple[str, ...] = ()
    hidden: tuple[str, ...] = ()
    network: bool = False
    beside: int | None = None
    writable: tuple[str, ...] = ()
    user: tuple[int, int] = (_NOBODY, _NOBODY)
    joined: bool = False
    lasting: bool = False

    def around(self, command: Iterable[str]) -> list[str]:
        """The command line that runs a command inside."""
        line = [
            "bwrap", *(() if self.lasting else ("--die-with-parent",)), "--new-session",
            "--unshare-pid", "--unshare-ipc", "--unshare-uts", "--unshare-cgroup-try",
            "--cap-drop", "ALL", "--seccomp", str(_FILTER_FD),
        ]  # fmt: skip
        for place in _SYSTEM:
            if not Path(place).is_symlink() and Path(place).exists():
                # Else they would be made for root alone, and with them whatever lies beside.
                for parent in reversed(Path(place).parents[:-1]):
                    line += ["--perms", "0755", "--dir", str(parent)]
            if Path(place).is_symlink():
                line += ["--symlink", str(Path(place).readlink()), place]
            elif Path(place).exists():
                line += ["--ro-bind", place, place]
        line += [*self._devices(), "--proc", "/proc"]
        # What lies there is memory: it has an end, and belongs to whoever the run is.
        for place, size in IN_MEMORY.items():
            # What a server keeps there it shares among its own processes.
            size = size if not self.lasting else max(size, _half_of_memory())
            line += ["--size", str(size), "--perms", "1777", "--tmpfs", place]
        if not self.network and self.beside is None:
            line.append("--unshare-net")
        programs = filter(None, os.environ.get("IVRELL_PROGRAMS", "").split(os.pathsep))
        shown = tuple(dict.fromkeys((*self.ours, *programs)))
        own = str(self.folder)
        for way in _ways((*shown, *self.inputs, *self.writable, own)):
            line += ["--perms", "0755", "--dir", way]
        # Ivrell and its interpreter must be seen wherever they are installed.
        for path in shown:
            if not _seen(path):
                line += ["--ro-bind", path, path]
        for place in self.hidden:
            if Path(place).exists() and any(Path(place).is_relative_to(path) for path in shown):
                line += ["--perms", "0755", "--tmpfs", place]
                for way in _ways((*self.inputs, own)):
                    if Path(way).is_relative_to(place) and way != place:
                        line += ["--perms", "0755", "--dir", way]
        for path in dict.fromkeys(self.inputs):
            line += ["--ro-bind", path, path]
        for path in (*self.writable, own):
            line += ["--bind", path, path]
        line += ["--chdir", "/" if self.lasting else own]
        if as_root():
            for capability in ("CAP_SETUID", "CAP_SETGID", "CAP_SETPCAP"):
                line += ["--cap-add", capability]
            line += ["--", *_as(*self.user)]
        else:
            line.append("--")
        # Opened by a shell, so that whoever starts the command has no descriptor to hand over.
        opening = ["sh", "-c", f'exec {_FILTER_FD}<"$0" "$@"', self.calls]
        return [*self._entering(), *opening, *line, *command]

    def _devices(self) -> list[str]:
        if not self.joined:
            return ["--dev", "/dev"]
        # Terminals would need a further user namespace, and the network would be the outer one's,
        # which nobody could enter.
        line = ["--tmpfs", "/dev"]
        for name in ("null", "zero", "full", "random", "urandom"):
            line += ["--dev-bind", f"/dev/{name}", f"/dev/{name}"]
        return [*line, "--symlink", "/proc/self/fd", "/dev/fd"]

    def _entering(self) -> list[str]:
        """What brings the sandbox into another process's network, and so out of its own."""
        if self.beside is None:
            return []
        at = f"/proc/{self.beside}/ns"
        user = [] if as_root() else ["--preserve-credentials", f"--user={at}/user"]
        return ["nsenter", *user, f"--net={at}/net", "--"]


IN_MEMORY = {"/tmp": 64 << 20, "/run": 1 << 20, "/dev/shm": 256 << 20}
"""Places of a run that are kept in memory, with the most bytes that each can hold. A run's own
temporary files lie in its folder, which is watched."""


def held_in_memory(pid: int) -> int:
    """Bytes that files hold in the places of a sandboxed process that are memory; 0 where that
    cannot be seen."""
    held = 0
    for place in IN_MEMORY:
        try:
            state = os.statvfs(f"/proc/{pid}/root{place}")
        except OSError:
            continue
        held += (state.f_blocks - state.f_bfree) * state.f_frsize
    return held


def _as(user: int, group: int) -> tuple[str, ...]:
    return (
        "setpriv", f"--reuid={user}", f"--regid={group}", "--clear-groups",
        "--inh-caps=-all", "--bounding-set=-all", "--no-new-privs", "--",
    )  # fmt: skip


def _half_of_memory() -> int:
    return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 2


def first_of_sandbox(pid: int) -> int | None:
    """The first process of the sandbox that a process is the main one of, or None: what is left
    in the sandbox ends with it."""
    parent = parent_of(pid)
    return parent if proc.read(f"/proc/{parent}/comm").strip() == "bwrap" else None


def parent_of(pid: int) -> int:
    """The process that a process is a child of; 0 where it is gone."""
    fields = proc.read(f"/proc/{pid}/stat").rpartition(")")[2].split()
    return int(fields[1]) if len(fields) > 1 else 0


def innermost(pid: int) -> int:
    """The process that a sandbox was made for, of one that was started with it."""
    while proc.read(f"/proc/{pid}/comm").strip() in ("bwrap", "setpriv") and (
        below := proc.children(pid)
    ):
        pid = below[0]
    return pid


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


def let_pass(folder: Path) -> None:
    """Let the user that runs are started as, and no other account, pass through a folder that is
    its owner's alone; it still cannot list what is in it."""
    if as_root() and folder.is_dir():
        os.chown(folder, -1, _NOBODY)
        folder.chmod(folder.stat().st_mode | 0o010)


def _seen(path: str) -> bool:
    """Whether a place lies in the system's, which are shown."""
    return any(Path(path).is_relative_to(place) for place in _SYSTEM)


def _ways(places: Iterable[str]) -> list[str]:
    """Folders that lead to these places, which others must be able to pass through; the outer
    ones first."""
    found = [
        str(parent)
        for place in places
        for parent in reversed(Path(place).parents)
        if str(parent) not in ("/", *IN_MEMORY) and not _seen(str(parent))
    ]
    return list(dict.fromkeys(found))


def refuse_stranger() -> None:
    """Raise BadInput where runs cannot be sandboxed: a stranger's code is not run without."""
    # What the runner does not need would weigh on its size.
    from ivrell.core.base.errors import BadInput

    if reason := why_not():
        raise BadInput(
            f"Runs cannot be sandboxed here, and a stranger's code is not run without: {reason}.",
            hint="See docs/security.md for what the sandbox needs.",
        )


@lru_cache(maxsize=1)
def why_not() -> str | None:
    """Why runs cannot be sandboxed here, or None when they can: found by starting in one just
    what runs start."""
    # What the runner does not need would weigh on its size.
    from ivrell.core.base.temp_dirs import own_folder

    if shutil.which("bwrap") is None:
        return "bubblewrap is not installed (apt-get install bubblewrap)"
    if as_root() and shutil.which("setpriv") is None:
        return "setpriv is not installed, which runs give root's rights up with (util-linux)"
    with own_folder() as folder:
        look = [sys.executable, "-c", "import ivrell.core.run.worker.main"]
        try:
            calls = compiled(Filter.RUN)
        except (ImportError, OSError, RuntimeError) as error:
            return f"system calls cannot be filtered ({error}; apt-get install libseccomp2)"
        trial = Sandbox(folder, calls, ours=OURS, hidden=(str(data_folder()),)).around(look)
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
