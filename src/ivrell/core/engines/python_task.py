"""An approach in Python made ready to run; read by other interpreters too, from Python 3.9 on."""

from __future__ import annotations

import importlib
import linecache
import sys
import traceback
import types
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ivrell.core.records.wire import Job
from ivrell.core.tasks.answers import ARROW_FIRST, how_to_force
from ivrell.core.tasks.task import ApproachFailed, Counted, Stage, Task

if TYPE_CHECKING:
    import pyarrow as pa


_SETUP_TAKES = 2
_MODULE = "approach"


class Named:
    """Values reached as attributes: ``data.passages``, ``knobs.batch``."""

    def __init__(self, what: str, values: Mapping[str, Any]) -> None:
        self.__dict__.update(values)
        self.__dict__["_what"] = what
        self.__dict__["_names"] = tuple(values)

    def __getattr__(self, name: str) -> Any:
        known = ", ".join(self.__dict__["_names"]) or "none"
        raise AttributeError(f"there is no {self.__dict__['_what']} “{name}”; there are: {known}")


def failure(error: BaseException, source: str) -> ApproachFailed:
    """An error of user code, with the deepest line of that code it passed through."""
    line = None
    if isinstance(error, SyntaxError) and error.filename == source:
        line = error.lineno
    for frame in traceback.extract_tb(error.__traceback__):
        if frame.filename == source:
            line = frame.lineno
    shown = traceback.TracebackException.from_exception(error, limit=-20)
    shown.stack = traceback.StackSummary.from_list(
        [frame for frame in shown.stack if "/ivrell/core/" not in frame.filename]
    )
    message = str(error) or "no message"
    return ApproachFailed(type(error).__name__, message, line, "".join(shown.format())[-8000:])


def _importable(folder: Path, code: str) -> types.ModuleType:
    """An empty module for the code, which the processes that it starts can import by name."""
    place = folder / ".approach"
    place.mkdir(exist_ok=True)
    (place / f"{_MODULE}.py").write_text(code, encoding="utf-8")
    sys.path.append(str(place))
    module = types.ModuleType(_MODULE)
    sys.modules[_MODULE] = module
    return module


def source_of(job: Job) -> str:
    """The file name that an approach's code is compiled under."""
    return f"<approach {job.approach['id']}>"


class PythonTask(Task):
    """Calls ``answer(data, knobs, stage)`` of the approach's code; ``more`` follow as further
    arguments, such as the session on a server."""

    def __init__(self, job: Job, *more: Any) -> None:
        code = job.approach["code"]
        self._source = source_of(job)
        linecache.cache[self._source] = (len(code), None, code.splitlines(True), self._source)
        module = _importable(job.folder, code).__dict__
        try:
            exec(compile(code, self._source, "exec"), module)  # noqa: S102 - the user's own code
        except Exception as error:
            raise failure(error, self._source) from error
        answer: Callable[..., object] | None = module.get("answer")
        if not callable(answer):
            raise ApproachFailed(
                "no answer function",
                "The code defines no function answer(data, knobs, stage). Add one.",
            )
        if any(library in sys.modules for library in ARROW_FIRST):
            # What their tables come out as is no part of what they are timed for.
            importlib.import_module("pyarrow")
        self._answer = answer
        self._setup: Any = module.get("setup")
        self.sets_up_each = self._setup is not None
        self._data = Named("table", job.tables)
        self._knobs = Named("knob", job.knobs)
        self._more = more

    def before_each(self) -> None:
        if self._setup:
            try:
                more = self._more if self._setup.__code__.co_argcount > _SETUP_TAKES else ()
                self._data.__dict__["ready"] = self._setup(self._data, self._knobs, *more)
            except Exception as error:
                raise failure(error, self._source) from error

    def lazy(self, answer: object) -> Callable[[], object] | None:
        """What computes an answer that is not there yet."""
        return how_to_force(answer)

    def run(self, stage: Stage) -> object:
        try:
            answer = self._answer(self._data, self._knobs, stage, *self._more)
            if compute := self.lazy(answer):
                with stage("compute what was lazy"):
                    answer = compute()
            return answer
        except Exception as error:
            raise failure(error, self._source) from error

    def run_many(self, stage: Stage, times: int) -> object:
        call, data, knobs, more = self._answer, self._data, self._knobs, self._more
        try:
            answer = call(data, knobs, stage, *more)
            if self.lazy(answer):
                return super().run_many(stage, times)
            for _ in range(times - 1):
                answer = call(data, knobs, stage, *more)
            return answer
        except Exception as error:
            raise failure(error, self._source) from error


class DrivingTask(PythonTask):
    """Client code that drives a server: the fourth argument is an open session. The answer is
    what it returns, or what its query or its buckets read afterwards."""

    def __init__(self, job: Job) -> None:
        # Loaded only where it is needed, for what it would weigh.
        from ivrell.core.engines.sql import queries_for_answer
        from ivrell.core.servers.dialects.session import MARK

        self._job = job
        self._connect()
        super().__init__(job, self._session.db)
        self.writes = bool(job.approach.get("writes"))
        self.renews = self.writes
        self._reads = queries_for_answer(job, mark=MARK if job.loaded.client else "")
        self.hands_over_as_is = not self._reads

    def _connect(self) -> None:
        # Loaded only where it is needed, for what it would weigh.
        from ivrell.core.engines.driver import DriverSession
        from ivrell.core.engines.postgres import PostgresSession

        self._session: DriverSession | PostgresSession
        if self._job.loaded.client:
            self._session = DriverSession(self._job)
        else:
            self._session = PostgresSession(self._job, raw=False)

    def renew(self, restore: Callable[[], None]) -> None:
        self._session.close()
        restore()
        self._connect()
        self._more = (self._session.db,)

    def before_each(self) -> None:
        super().before_each()
        self._session.begin()

    def hand_over(self, answer: object) -> pa.Table:
        from ivrell.core.engines.sql import read_together

        def read(query: Any) -> pa.Table:
            found = self._session.executed(query, self.values, fetch=True)
            return super(DrivingTask, self).hand_over(found)

        return read_together(self._reads, read) if self._reads else super().hand_over(answer)

    @property
    def values(self) -> Mapping[str, Any]:
        """Values of the knobs by name."""
        return {name: getattr(self._knobs, name) for name in self._knobs.__dict__["_names"]}

    def counted(self) -> Counted:
        return self._session.since()

    def close(self) -> None:
        self._session.close()
