"""A run shut in: what it can see, reach and write. Standard library only.

Uses bubblewrap, which makes namespaces of the kernel's: the file system read-only but for the
run's own folder, Ivrell's data hidden but for the run's inputs, no network, no processes but
its own. Where it is not installed or may not work, runs go on without, and their records say
so.
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
            "--ro-bind", "/", "/", "--dev", "/dev", "--proc", "/proc",
            "--tmpfs", "/tmp", "--tmpfs", "/run",
        ]  # fmt: skip
        if not self.network:
            line.append("--unshare-net")
        for place in self.hidden:
            if Path(place).exists():
                line += ["--tmpfs", place]
        # Ivrell and its interpreter must be seen wherever they are installed.
        for path in dict.fromkeys((*self.ours, *self.inputs)):
            line += ["--ro-bind", path, path]
        line += ["--bind", str(self.folder), str(self.folder), "--chdir", str(self.folder)]
        return [*line, "--", *command]


@lru_cache(maxsize=1)
def why_not() -> str | None:
    """Why runs cannot be sandboxed here, or None when they can: found by starting in one just
    what runs start."""
    import tempfile  # what the runner does not need would weigh on its size

    if shutil.which("bwrap") is None:
        return "bubblewrap is not installed (apt-get install bubblewrap)"
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
