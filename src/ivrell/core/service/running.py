"""Starting the stand-in beside a run: never among the run's own processes."""

import json
import select
import subprocess
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from ivrell.core.engines.task import ApproachFailed
from ivrell.core.trial.launch import scrubbed_environment
from ivrell.core.trial.sandbox import OURS, Sandbox, give

_STAND_IN = Path(__file__).with_name("stand_in.py")
_START_S = 15.0
_END_S = 5.0


@contextmanager
def stand_in(
    settings: Mapping[str, Any], folder: Path, *, hidden: tuple[str, ...] | None
) -> Iterator[str]:
    """The address of a service with these settings, which ends with the block.

    Its rule is the user's code: it is shut in as a run is, with ``hidden`` folders, unless that
    is None. Raises ApproachFailed where the rule cannot be read.
    """
    (folder / "tmp").mkdir(parents=True, exist_ok=True)
    given = folder / "settings.json"
    given.write_text(json.dumps(dict(settings)))
    command = [sys.executable, "-I", str(_STAND_IN), str(given)]
    if hidden is not None:
        give(folder)
        command = Sandbox(folder, ours=OURS, hidden=hidden, network=True).around(command)
    with subprocess.Popen(
        command,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env=scrubbed_environment(folder),
        text=True,
    ) as process:
        assert process.stdin and process.stdout and process.stderr
        try:
            ready, _, _ = select.select([process.stdout], [], [], _START_S)
            if not ready:
                raise ApproachFailed(
                    "the service does not start",
                    f"Its rule was not read within {_START_S:.0f} seconds: what stands outside "
                    "rule(row) runs first.",
                )
            port = process.stdout.readline().strip()
            if not port:
                said = process.stderr.read().strip().splitlines() or ["no message"]
                raise ApproachFailed("the service's rule cannot be read", said[-1])
            yield f"http://127.0.0.1:{port}"
        finally:
            process.stdin.close()
            try:
                process.wait(_END_S)
            except subprocess.TimeoutExpired:
                process.kill()
