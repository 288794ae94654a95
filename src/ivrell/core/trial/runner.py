"""The runner: a small process that starts one worker after another and measures each.

It stays small (standard library only) because a process's recorded peak includes what its
launcher held when it was started. It takes runs as lines of JSON on standard input and
tells events as lines of JSON on standard output; every event that matters is in the
journal, on disk, before it is told.

It is the subreaper of all that a run starts: orphans and daemons become its children, are
reaped here, and their CPU time is counted.
"""

import json
import os
import resource
import signal
import sys
import time
from pathlib import Path
from typing import Any

sys.path.append(str(Path(__file__).resolve().parents[3]))

from ivrell.core.measure.group import sweep
from ivrell.core.trial.background import QUIET, Background
from ivrell.core.trial.run import Run, prctl
from ivrell.core.trial.words import Words

_PR_SET_CHILD_SUBREAPER = 36
_LOAD_SETTLES_S = 0.2


def main(journal_path: str) -> None:
    """Serve runs until standard input closes."""
    prctl(_PR_SET_CHILD_SUBREAPER, 1)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    sweep()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    journal = Path(journal_path).open("a", encoding="utf-8")  # noqa: SIM115 - open for life

    def tell(event: str, **fields: Any) -> None:
        line = json.dumps({"event": event, **fields}, ensure_ascii=False)
        if event != "progress":
            journal.write(line + "\n")
            journal.flush()
            os.fsync(journal.fileno())
        sys.stdout.write(line + "\n")
        sys.stdout.flush()

    words = Words(sys.stdin.fileno())
    while line := words.next():
        spec = json.loads(line)
        if "job" not in spec:
            # A word for a run that has ended meanwhile.
            continue
        number = spec["run"]
        tell("started", run=number, approach=spec["job"]["approach"]["id"])
        load = spec.get("background") or QUIET
        with Background(load, Path(spec["job"]["folder"]).parent) as background:
            if load != QUIET:
                time.sleep(_LOAD_SETTLES_S)
            run = Run(
                spec,
                lambda event, n=number, **fields: tell(event, run=n, **fields),
                background.pids,
            )
            run.start()
            run.watch(words)
        tell("ended", run=number, **run.result())


if __name__ == "__main__":
    main(sys.argv[1])
