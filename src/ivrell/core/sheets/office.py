"""The spreadsheet engine as a process of its own, reached through its public interface.

The engine is LibreOffice Calc, headless, with a profile of its own in the run's folder. Its
interface module is Debian's python3-uno, brought into this interpreter by links to its two
files alone, so that no other of Debian's packages comes before ours.
"""

import os
import shutil
import subprocess
import sys
import time
from functools import lru_cache
from pathlib import Path
from typing import Any

from ivrell.core.base.waits import end
from ivrell.core.tasks.task import ApproachFailed

PROGRAM = Path("/usr/lib/libreoffice/program/soffice.bin")
NAME = "soffice.bin"
INSTALL = "apt-get install libreoffice-calc-nogui python3-uno"
_MODULES = tuple(Path("/usr/lib/python3/dist-packages") / n for n in ("uno.py", "unohelper.py"))
_FIRST_START = 81
_CONNECT_S = 60.0
_LOOK_AGAIN_S = 0.02
_END_S = 3.0


def version() -> str | None:
    """The engine's version, or None where it is not installed or this interpreter cannot reach
    it."""
    if not PROGRAM.exists() or not all(path.exists() for path in _MODULES):
        return None
    if sys.version_info[:2] != _made_for():
        return None
    return _asked_version()


@lru_cache(maxsize=1)
def _asked_version() -> str:
    from ivrell.core.base.temp_dirs import own_folder  # not in a run's own process

    with own_folder() as folder:
        done = subprocess.run(
            [str(PROGRAM), f"-env:UserInstallation=file://{folder}", "--version"],
            capture_output=True, text=True, timeout=_CONNECT_S,
            env=_environment(folder, None),
        )  # fmt: skip
    words = done.stdout.split()
    return words[1] if len(words) > 1 else "of unknown version"


def _made_for() -> tuple[int, int] | None:
    """The version of Python that the interface module is linked with."""
    for path in PROGRAM.parent.glob("libpyuno.so"):
        text = path.read_bytes()
        at = text.find(b"libpython3.")
        if at >= 0:
            minor = text[at + 11 : at + 13]
            return 3, int(bytes(c for c in minor if 48 <= c < 58))
    return None


def _environment(folder: Path, threads: int | None) -> dict[str, str]:
    found = {
        "PATH": os.environ.get("PATH", os.defpath),
        "LANG": "C.UTF-8",
        "TZ": "UTC",
        "HOME": str(folder),
        "TMPDIR": str(folder),
    }
    return found | ({"MAX_CONCURRENCY": str(threads)} if threads else {})


def uno_module(folder: Path) -> Any:
    """Debian's interface module, and nothing else of where it lies."""
    links = folder / ".uno"
    links.mkdir(exist_ok=True)
    for path in _MODULES:
        link = links / path.name
        if not link.is_symlink():
            link.symlink_to(path)
    if str(links) not in sys.path:
        sys.path.append(str(links))
    import uno

    return uno


class Office:
    """One engine process and a connection to it.

    Args:
        folder: where its profile and whatever it writes beside is kept.
        threads: how many it may calculate with; None leaves it the choice.
    """

    def __init__(self, folder: Path, threads: int | None = None) -> None:
        self._folder = folder / ".office"
        self._folder.mkdir(parents=True, exist_ok=True)
        self._uno = uno_module(folder)
        self._pipe = f"ivrell{os.getpid()}x{time.monotonic_ns()}"
        self._threads = threads
        self._process = self._start()
        self.context = self._connected()
        manager = self.context.ServiceManager
        self.desktop = manager.createInstanceWithContext("com.sun.star.frame.Desktop", self.context)

    def _start(self) -> "subprocess.Popen[bytes]":
        profile = (self._folder / "profile").as_uri()
        return subprocess.Popen(
            [
                str(PROGRAM), f"-env:UserInstallation={profile}", "--headless", "--norestore",
                "--nologo", "--nodefault", "--nolockcheck", f"--accept=pipe,name={self._pipe};urp;",
            ],
            env=_environment(self._folder, self._threads),
            stdin=subprocess.DEVNULL,
        )  # fmt: skip

    def _connected(self) -> Any:
        local = self._uno.getComponentContext()
        resolver = local.ServiceManager.createInstanceWithContext(
            "com.sun.star.bridge.UnoUrlResolver", local
        )
        address = f"uno:pipe,name={self._pipe};urp;StarOffice.ComponentContext"
        deadline = time.monotonic() + _CONNECT_S
        while time.monotonic() < deadline:
            # With a new profile it leaves once, and is to be started again.
            if self._process.poll() is not None:
                if self._process.returncode != _FIRST_START:
                    raise ApproachFailed(
                        "the spreadsheet engine left",
                        f"It ended with status {self._process.returncode} before it could be "
                        "reached.",
                    )
                self._process = self._start()
            try:
                return resolver.resolve(address)
            except Exception as error:
                if "NoConnect" not in type(error).__name__:
                    raise
                time.sleep(_LOOK_AGAIN_S)
        raise ApproachFailed(
            "the spreadsheet engine does not answer", f"Not within {_CONNECT_S:.0f} seconds."
        )

    @property
    def pid(self) -> int:
        """Process id of the engine."""
        return self._process.pid

    def property(self, name: str, value: Any) -> Any:
        """A named value as the interface takes them."""
        found = self._uno.createUnoStruct("com.sun.star.beans.PropertyValue")
        found.Name, found.Value = name, value
        return found

    def enumerated(self, kind: str, name: str) -> Any:
        """A value of one of the interface's enumerations."""
        return self._uno.Enum(kind, name)

    def book(self) -> Any:
        """A new spreadsheet document, hidden."""
        hidden = (self.property("Hidden", True),)
        return self.desktop.loadComponentFromURL("private:factory/scalc", "_blank", 0, hidden)

    def close(self) -> None:
        """End the process, also in the middle of a calculation."""
        try:
            self.desktop.terminate()
        except Exception:
            # Its own way out needs the connection, which may be gone.
            pass
        end(self._process, _END_S)
        shutil.rmtree(self._folder, ignore_errors=True)
