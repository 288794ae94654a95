"""The worker: a fresh process that makes one approach ready, runs it, and hands over.

Started by path, with the run's job file and three inherited descriptors: events to the
runner, words from it, and the shared page that shows the current stage. Only the standard
library is loaded before the clock starts, besides what the approach itself loads.
"""

from __future__ import annotations

import importlib.util
import json
import mmap
import os
import resource
import sys
import time
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pyarrow as pa

    from ivrell.core.run.worker.hot import Watch

_STARTED = time.perf_counter()
sys.path.append(str(Path(__file__).resolve().parents[4]))

from ivrell.core.engines.plain import PLAIN, Size, leave_plain, plain_columns  # noqa: E402
from ivrell.core.engines.python_task import PythonTask, source_of  # noqa: E402
from ivrell.core.records.wire import (  # noqa: E402
    EXPLAINED,
    HOT,
    LEFT,
    Calls,
    Counted,
    Export,
    Failure,
    Job,
    Order,
    Ready,
    Restore,
    SetUpUse,
    StatementPlan,
    Stopped,
    Used,
    WorkerSays,
    as_event,
)
from ivrell.core.run.stages import BOARD_BYTES, Stages  # noqa: E402
from ivrell.core.run.worker.repeats import (  # noqa: E402
    SetUps,
    calibrated,
    renewed_calls,
    timed,
)
from ivrell.core.run.worker.threads import threads_told, use_threads  # noqa: E402
from ivrell.core.tasks.afterwards import afterwards, children  # noqa: E402
from ivrell.core.tasks.task import ARROW, ApproachFailed, Stage, Task  # noqa: E402


class _Line:
    """Events to the runner as lines of JSON, and its words back."""

    def __init__(self, events: int, words: int) -> None:
        self._events = events
        self._words = os.fdopen(words, "r")

    def tell(self, says: WorkerSays) -> None:
        os.write(self._events, json.dumps(as_event(says)).encode() + b"\n")

    def wait_for(self, word: str) -> None:
        said = self._words.readline().strip()
        if said != word:
            os._exit(3)

    def restore(self) -> None:
        """Have the tables on a server put back to what they were."""
        self.tell(Restore())
        self.wait_for("restored")


def _usage() -> Used:
    own = resource.getrusage(resource.RUSAGE_SELF)
    waited = resource.getrusage(resource.RUSAGE_CHILDREN)
    return Used(
        own.ru_utime + waited.ru_utime,
        own.ru_stime + waited.ru_stime,
        own.ru_minflt + own.ru_majflt + waited.ru_minflt + waited.ru_majflt,
        # Any process takes some: so it is known whether there were children.
        waited.ru_minflt + waited.ru_majflt,
    )


def _between(before: Used, after: Used) -> Used:
    return Used(
        after.user - before.user,
        after.system - before.system,
        after.faults - before.faults,
        after.faults_of_children - before.faults_of_children,
    )


def _failed(line: _Line, error: ApproachFailed, part: str) -> None:
    line.tell(Failure(error.kind, error.message[:4000], error.line, error.trace, part))


class _Parts:
    """The timed parts of one process: one as a rule; more when it is kept for several runs,
    and a second of many repeats when one call is too short to be measured. Calls that need
    their tables anew are a part each."""

    def __init__(
        self, line: _Line, task: Task, board: mmap.mmap, calls: Calls, watch: Watch | None = None
    ):
        self._line = line
        self._watch = watch
        self._task = task
        self._board = board
        self._calls = calls.per_process
        self._min_sample_s = calls.min_sample_s
        # Found by the lane's first run at a point; the same for all that follow it.
        self._repeats = calls.repeats
        self.answer: object = None
        self.repeats = 1

    def run(self) -> None:
        """Run all parts. Raises ApproachFailed of the first that fails."""
        elapsed = self._part(1, more=lambda took: self._calls > 1 or self._again(took))
        if self._task.renews:
            self._run_renewed(elapsed)
            return
        repeats = self._repeats or 1
        if self._repeats is None and self._again(elapsed):
            repeats = calibrated(self._task, elapsed, self._min_sample_s)
        left = max(self._calls - 1, 1 if repeats > 1 else 0)
        for number in range(left, 0, -1):
            self._part(repeats, more=lambda took, number=number: number > 1)

    def _run_renewed(self, first_s: float) -> None:
        """The calls after the first, each on tables and in a session as the first found them."""
        joined = self._calls == 1
        left = self._calls - 1
        if joined and self._again(first_s):
            left = int(self._repeats or renewed_calls(first_s, self._min_sample_s))
        for number in range(left, 0, -1):
            self._task.renew(self._line.restore)
            self._part(1, more=lambda took, number=number: number > 1, joined=joined)
        if joined:
            self.repeats = left or 1

    def _again(self, first_s: float) -> bool:
        """Whether one call is too short, as the first run said or as this one finds."""
        if self._repeats is not None:
            return int(self._repeats) > 1
        return bool(first_s < self._min_sample_s)

    def _part(self, repeats: int, more: Any, joined: bool = False) -> float:
        """One timed part; ``joined`` ones stand for repeats of one call together."""
        stages = Stages(self._board, self._task.living_cpu)
        failure: ApproachFailed | None = None
        self.repeats = repeats
        if repeats == 1 or not self._task.sets_up_each:
            # Before the runner looks: what it uses and holds is no part of the call.
            self._task.before_each()
        set_ups = SetUps()
        sys.stdout.flush()
        known = set(children())
        self._line.tell(Ready(time.perf_counter() - _STARTED, self._task.engine_process()))
        self._line.wait_for("go")
        before = _usage()
        stages.began = time.perf_counter()
        try:
            with self._watch.part(repeats) if self._watch else nullcontext():
                elapsed, self.answer = timed(self._task, stages, repeats, set_ups)
        except ApproachFailed as error:
            failure = error
            elapsed = time.perf_counter() - stages.began
        after = _usage()
        goes_on = failure is None and more(elapsed)
        self._line.tell(
            Stopped(
                elapsed,
                repeats,
                _between(before, after),
                SetUpUse(set_ups.user, set_ups.system),
                stages.records(),
                stages.spans,
                more=goes_on,
                joined=joined,
            )
        )
        self._line.wait_for("on" if goes_on else "hand over")
        if failure:
            raise failure
        late = {} if self._task.works_on else afterwards(known)
        self._count(repeats, late)
        return elapsed

    def _count(self, repeats: int, late: dict[str, float]) -> None:
        """Tell what the engine counted of the part, before anything else makes it work on, and what
        still worked when the answer was there."""
        counted = self._task.counted()
        over = 1 if self._task.sets_up_each else repeats
        counters = {name: value / over for name, value in counted.counters.items()} | late
        self._line.tell(Counted(counters, dict(counted.unknown), counted.remote))


def main(job_path: str, events: int, words: int, board_fd: int) -> int:
    """Run the job; returns the process's exit status."""
    line = _Line(events, words)
    order = Order.from_json(json.loads(Path(job_path).read_text()))
    # It may hold the password of a server of the user's own.
    Path(job_path).unlink()
    job = order.job
    part = "preparing"
    try:
        task = _prepared(job)
        if order.mode in (EXPLAINED, LEFT):
            task = Explained(task) if order.mode == EXPLAINED else Left(task)
        use_threads(job.threads)
        part = "running"
        watch = _watch(job) if order.mode == HOT else None
        parts = _Parts(line, task, mmap.mmap(board_fd, BOARD_BYTES), order.calls, watch)
        parts.run()
        part = "result export"
        threads = {**threads_told(), **task.threads()}
        size = _hand_over(task, parts.answer, job.folder)
        plans = task.plans if isinstance(task, Explained) else []
        hot = watch.profile if watch else None
        line.tell(Export(size.rows, size.columns, size.bytes, threads, plans, hot))
        task.close()
    except ApproachFailed as error:
        _failed(line, error, part)
        return 1
    sys.stdout.flush()
    return 0


class Explained(Task):
    """A task that is run once more to tell how, and gives no answer."""

    def __init__(self, task: Task) -> None:
        self._task = task
        self.plans: list[StatementPlan] = []

    def before_each(self) -> None:
        self._task.before_each()

    def run(self, stage: Stage) -> object:
        with stage("explained"):
            self.plans = self._task.explained()
        return [{"statements": len(self.plans)}]

    def close(self) -> None:
        self._task.close()


class Left(Task):
    """A task that is not run: only what an earlier one left is read."""

    def __init__(self, task: Task) -> None:
        self._task = task

    def run(self, stage: Stage) -> object:
        return None

    def hand_over(self, answer: object) -> pa.Table:
        return self._task.hand_over(answer)

    def close(self) -> None:
        self._task.close()


def _prepared(job: Job) -> Task:
    """The engine's task; plain Python needs no engine, and may run in an interpreter that could
    not read them all."""
    if job.approach["engine"] == "python" and not job.database:
        return PythonTask(job)
    from ivrell.core.engines.builtin import engine_called

    return engine_called(job.approach["engine"]).prepare(job)


def _watch(job: Job) -> Watch:
    # Loaded only where it is asked for, for what it would weigh.
    from ivrell.core.run.worker.hot import Watch

    return Watch(job.approach["code"], source_of(job), job.folder)


def _hand_over(task: Task, answer: object, folder: Path) -> Size:
    if importlib.util.find_spec("pyarrow") is None:
        return leave_plain(answer, folder / PLAIN)
    as_is = task.hands_over_as_is and "pyarrow" not in sys.modules
    # Loading it takes longer than most such runs; whoever reads the answer has it already.
    if as_is and (columns := plain_columns(answer)) is not None:
        return leave_plain(columns, folder / PLAIN)
    table = task.hand_over(answer)
    import pyarrow as pa

    path = str(folder / ARROW)
    with pa.OSFile(path, "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table)
    return Size(table.num_rows, table.num_columns, table.nbytes)


if __name__ == "__main__":
    status = main(sys.argv[1], *map(int, sys.argv[2:5]))
    sys.stdout.flush()
    sys.stderr.flush()
    # Without the interpreter's own clean-up: it can take long and nobody waits for it.
    os._exit(status)
