"""A whole Ivrell, started as a newcomer starts it, on a throwaway folder and port."""

import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from ivrell.core.servers.postgresql import free_port
from tests.support.waiting import PATIENCE_S

_STOP_S = 120.0


class Running:
    """Ivrell started by ``ivrell.server.up``; its data folder outlives a stop."""

    def __init__(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="ivrell-whole-"))
        # PostgreSQL runs as another user when this runs as root, and has to get through here.
        self.folder.chmod(0o755)
        self.data = self.folder / "data"
        self.port = free_port()
        self._process: subprocess.Popen[str] | None = None
        self.said = ""

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def command(self, *arguments: str) -> list[str]:
        where = ["--data-dir", str(self.data), "--port", str(self.port)]
        return [sys.executable, "-m", "ivrell.server.up", *where, *arguments]

    def start(self, *arguments: str) -> str:
        """Start and wait; returns the sign-in link."""
        log = self.folder / "said"
        with log.open("w") as file:
            self._process = subprocess.Popen(self.command(*arguments), stdout=file, stderr=file)
        deadline = time.monotonic() + PATIENCE_S
        while True:
            self.said = log.read_text()
            if found := re.search(r"http\S+/enter/\S+", self.said):
                return found[0]
            if self._process.poll() is not None or time.monotonic() > deadline:
                raise AssertionError(f"Ivrell did not start: {self.said}{self.logs()}")
            time.sleep(0.1)

    def link(self) -> str:
        """A fresh link, as a second start prints it while the first one runs."""
        done = subprocess.run(self.command(), capture_output=True, text=True, check=True)
        return re.search(r"http\S+/enter/\S+", done.stdout)[0]

    def words(self) -> str:
        """What it has told whoever started it."""
        return (self.folder / "said").read_text()

    def logs(self) -> str:
        """The ends of the logs, for messages of failed tests."""
        return "".join(
            f"\n--- {path.name}\n{path.read_text()[-3000:]}"
            for path in (self.data / "log").glob("*")
        )

    def interrupt(self) -> int:
        """Ctrl-C; returns the exit status."""
        assert self._process
        self._process.send_signal(signal.SIGINT)
        return self._process.wait(_STOP_S)

    def close(self) -> None:
        """Stop if it runs, and remove all it left."""
        if self._process and self._process.poll() is None:
            self.interrupt()
        shutil.rmtree(self.folder, ignore_errors=True)
