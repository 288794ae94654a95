"""Starting the stand-in beside a run: never among the run's own processes."""

import json
import resource
import subprocess
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from ivrell.core.base.folders import data_folder
from ivrell.core.base.waits import WantedStop, end, first_line, how_it_ended, never, what_is_there
from ivrell.core.contain.calls import Filter, compiled
from ivrell.core.contain.environment import scrubbed_environment
from ivrell.core.contain.sandbox import OURS, Sandbox, give, innermost
from ivrell.core.tasks.task import ApproachFailed

_STAND_IN = Path(__file__).with_name("stand_in.py")
_START_S = 15.0
_SAYS_WHY_S = 2.0
SERVICE_CPU = "service: CPU seconds"
"""The counter that tells what the service used."""

_END_S = 5.0


@dataclass(frozen=True)
class StandIn:
    """A service that runs: its address in the network of its process."""

    address: str
    pid: int
    process: "subprocess.Popen[bytes]"
    sandboxed: bool

    def why_ended(self) -> str | None:
        """How it ended before it was asked to, and its last words; None while it runs."""
        status = self.process.poll()
        if status is None:
            return None
        assert self.process.stderr
        said = what_is_there(self.process.stderr).decode(errors="replace").strip().splitlines()
        how = how_it_ended(status, sandboxed=self.sandboxed)
        return f"{how}; it said {said[-1] if said else 'nothing'}"


def _within(memory_bytes: int) -> None:
    resource.setrlimit(resource.RLIMIT_DATA, (memory_bytes, memory_bytes))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


@contextmanager
def stand_in(
    settings: Mapping[str, Any],
    folder: Path,
    *,
    sandboxed: bool,
    memory_bytes: int,
    wanted_stop: WantedStop = never,
) -> Iterator[StandIn]:
    """A service with these settings, which ends with the block.

    Its rule is the user's code: it is sandboxed as a run is, with a network of its own that only
    the run is let into, and holds so much memory at the most. Raises ApproachFailed where the
    rule cannot be read, Stopped when ``wanted_stop`` says so before it is.
    """
    (folder / "tmp").mkdir(parents=True, exist_ok=True)
    given = folder / "settings.json"
    given.write_text(json.dumps(dict(settings)))
    command = [sys.executable, "-I", str(_STAND_IN), str(given)]
    if sandboxed:
        give(folder)
        sandbox = Sandbox(
            folder, compiled(Filter.RUN), ours=OURS, hidden=(str(data_folder()),), joined=True
        )
        command = sandbox.around(command)
    with subprocess.Popen(
        command,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env=scrubbed_environment(folder),
        preexec_fn=partial(_within, memory_bytes),
    ) as process:
        assert process.stdin and process.stdout and process.stderr
        try:
            line = first_line(process.stdout, _START_S, "a remote service", wanted_stop)
            if line is None:
                raise ApproachFailed(
                    "the service does not start",
                    f"Its rule was not read within {_START_S:.0f} seconds: what stands outside "
                    "rule(row) runs first.",
                )
            port = line.decode(errors="replace").strip()
            if not port.isdigit():
                end(process, _SAYS_WHY_S)
                told = what_is_there(process.stderr).decode(errors="replace")
                said = told.strip().splitlines() or ["no message"]
                raise ApproachFailed("the service's rule cannot be read", said[-1])
            yield StandIn(f"http://127.0.0.1:{port}", innermost(process.pid), process, sandboxed)
        finally:
            process.stdin.close()
            end(process, _END_S)
