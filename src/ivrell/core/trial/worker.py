"""The worker: a fresh process that makes one approach ready, runs it once, and hands over.

Started by path, with the run's job file and three inherited descriptors: events to the
runner, words from it, and the shared page that shows the current stage. Only the standard
library is loaded before the clock starts, besides what the approach itself loads.
"""

import json
import mmap
import os
import resource
import sys
import time
from pathlib import Path
from typing import Any

_STARTED = time.perf_counter()
sys.path.append(str(Path(__file__).resolve().parents[3]))

from ivrell.core.engines import ENGINES  # noqa: E402
from ivrell.core.engines.base import ApproachFailed, Job  # noqa: E402
from ivrell.core.trial.stages import BOARD_BYTES, Stages  # noqa: E402


class _Line:
    """Events to the runner as lines of JSON, and its words back."""

    def __init__(self, events: int, words: int) -> None:
        self._events = events
        self._words = os.fdopen(words, "r")

    def tell(self, event: str, **fields: Any) -> None:
        line = json.dumps({"event": event, **fields}) + "\n"
        os.write(self._events, line.encode())

    def wait_for(self, word: str) -> None:
        said = self._words.readline().strip()
        if said != word:
            os._exit(3)


def _usage() -> dict[str, float]:
    own = resource.getrusage(resource.RUSAGE_SELF)
    waited = resource.getrusage(resource.RUSAGE_CHILDREN)
    return {
        "user": own.ru_utime + waited.ru_utime,
        "system": own.ru_stime + waited.ru_stime,
        "faults": own.ru_minflt + own.ru_majflt + waited.ru_minflt + waited.ru_majflt,
    }


def _failed(line: _Line, error: ApproachFailed, part: str) -> None:
    line.tell(
        "failed",
        kind=error.kind,
        message=error.message[:4000],
        line=error.line,
        trace=error.trace,
        part=part,
    )


def main(job_path: str, events: int, words: int, board_fd: int) -> int:
    """Run the job; returns the process's exit status."""
    line = _Line(events, words)
    given = json.loads(Path(job_path).read_text())
    job = Job(
        given["approach"], given["tables"], given["form"], given["knobs"], Path(given["folder"])
    )
    stages = Stages(mmap.mmap(board_fd, BOARD_BYTES))
    try:
        task = ENGINES[job.approach["engine"]].prepare(job)
    except ApproachFailed as error:
        _failed(line, error, "preparing")
        return 1
    sys.stdout.flush()
    line.tell("ready", start_s=time.perf_counter() - _STARTED)
    line.wait_for("go")
    failure: ApproachFailed | None = None
    answer: object = None
    before = _usage()
    stages.began = start = time.perf_counter()
    try:
        answer = task.run(stages)
    except ApproachFailed as error:
        failure = error
    elapsed = time.perf_counter() - start
    after = _usage()
    line.tell(
        "stopped",
        elapsed_s=elapsed,
        used={key: after[key] - before[key] for key in after},
        stages=stages.records(),
        spans=stages.spans,
    )
    line.wait_for("hand over")
    if failure is not None:
        _failed(line, failure, "running")
        return 1
    try:
        line.tell("handed", **_hand_over(task, answer, job.folder), counters=task.counters())
        task.close()
    except ApproachFailed as error:
        _failed(line, error, "handing over")
        return 1
    sys.stdout.flush()
    return 0


def _hand_over(task: Any, answer: object, folder: Path) -> dict[str, int]:
    table = task.hand_over(answer)
    import pyarrow as pa

    path = str(folder / ".answer.arrow")
    with pa.OSFile(path, "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table)
    return {"rows": table.num_rows, "columns": table.num_columns, "bytes": table.nbytes}


if __name__ == "__main__":
    status = main(sys.argv[1], *map(int, sys.argv[2:5]))
    sys.stdout.flush()
    sys.stderr.flush()
    # Without the interpreter's own clean-up: it can take long and nobody waits for it.
    os._exit(status)
