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
from dataclasses import asdict
from pathlib import Path
from typing import Any

sys.path.append(str(Path(__file__).resolve().parents[4]))

from ivrell.core.measure.group import sweep
from ivrell.core.records.wire import Progress, Restore, RunSpec
from ivrell.core.run.runner.background import QUIET, Background
from ivrell.core.run.runner.run import Run
from ivrell.core.run.runner.run_end import without_its_load
from ivrell.core.run.runner.spawn import prctl
from ivrell.core.run.runner.words import Words

_PR_SET_CHILD_SUBREAPER = 36
_LOAD_SETTLES_S = 0.2


def main(journal_path: str) -> None:
    """Serve runs until standard input closes."""
    prctl(_PR_SET_CHILD_SUBREAPER, 1)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    sweep()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    journal = Path(journal_path).open("a", encoding="utf-8")  # noqa: SIM115 - open for life

    def tell(event: str, run: int, **fields: Any) -> None:
        line = json.dumps({"event": event, "run": run, **fields}, ensure_ascii=False)
        if event != "progress":
            journal.write(line + "\n")
            journal.flush()
            os.fsync(journal.fileno())
        sys.stdout.write(line + "\n")
        sys.stdout.flush()

    words = Words(sys.stdin.fileno())
    while line := words.next():
        given = json.loads(line)
        if "order" not in given:
            # A word for a run that has ended meanwhile.
            continue
        spec = RunSpec.from_json(given)
        tell("started", spec.run, approach=spec.order.job.approach["id"])
        with Background(spec.background, spec.order.job.folder.parent) as background:
            if spec.background != QUIET:
                time.sleep(_LOAD_SETTLES_S)

            def tell_of(says: Progress | Restore, number: int = spec.run) -> None:
                tell(type(says).__name__.lower(), number, **vars(says))

            run = Run(spec, tell_of, background.pids)
            run.start()
            run.watch(words)
            end = run.end() if background.complete else without_its_load(run.end())
        tell("ended", spec.run, **asdict(end))


if __name__ == "__main__":
    main(sys.argv[1])
