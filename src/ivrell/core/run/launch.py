"""Starting the runner and talking with it."""

import json
import os
import select
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any, Self

from pydantic import TypeAdapter, ValidationError

from ivrell.core.base.waits import end
from ivrell.core.records.wire import FAILED, Progress, Restore, RunEnd, RunSpec
from ivrell.core.run.runner.run_end import spoke_out_of_turn

_END_S = 10.0
_STOPS_S = 30.0
_RUNNER = Path(__file__).with_name("runner") / "main.py"


class RunnerGone(Exception):
    """The runner ended although nobody asked it to.

    Attributes:
        began: whether it had begun the run that it was asked for.
    """

    def __init__(self, words: str, *, began: bool) -> None:
        super().__init__(words)
        self.began = began


_END = TypeAdapter(RunEnd)


def _read(event: Mapping[str, Any]) -> Progress | Restore | RunEnd | None:
    kind = event["event"]
    fields = {name: value for name, value in event.items() if name not in ("event", "run")}
    if kind == "progress":
        return Progress(**fields)
    if kind == "restore":
        return Restore()
    if kind != "ended":
        return None
    try:
        return _END.validate_python(fields)
    except ValidationError:
        # What an engine is said to have told comes from the run itself, plans above all.
        failure = spoke_out_of_turn("figures that are none", "result export")
        return RunEnd(FAILED, failure=failure, output=str(fields.get("output", "")))


class Runner:
    """The runner process of one trial."""

    def __init__(self, journal: Path) -> None:
        self._began = False
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-S", str(_RUNNER), str(journal)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            env={"PATH": os.environ.get("PATH", os.defpath), "LANG": "C.UTF-8"},
            start_new_session=True,
        )

    @property
    def alive(self) -> bool:
        """Whether it runs."""
        return self._process.poll() is None

    @property
    def pid(self) -> int:
        """Process id of the runner."""
        return self._process.pid

    def events(
        self, spec: RunSpec, wanted_stop: Callable[[], bool], poll_s: float = 0.25
    ) -> Iterator[Progress | Restore | RunEnd]:
        """Do one run and give what it tells as it comes, its end last.

        ``wanted_stop`` is asked every ``poll_s`` seconds; when it says yes the run's whole
        tree is ended and the run is recorded as stopped. After Restore the run
        waits until ``restored`` is said. Raises RunnerGone.
        """
        self._began = False
        self._say(spec.as_json())
        asked: float | None = None
        pending = b""
        out = self._process.stdout
        assert out is not None
        while True:
            ready, _, _ = select.select([out], [], [], poll_s)
            if asked is None and wanted_stop():
                asked = time.monotonic()
                self._say({"word": "stop", "run": spec.run})
            if asked is not None and time.monotonic() - asked > _STOPS_S:
                # It hears nothing any more.
                end(self._process)
                raise RunnerGone("the runner did not stop", began=self._began)
            if not ready:
                continue
            data = os.read(out.fileno(), 1 << 16)
            if not data:
                end(self._process, _END_S)
                status = self._process.returncode
                raise RunnerGone(f"the runner ended with status {status}", began=self._began)
            *lines, pending = (pending + data).split(b"\n")
            for line in lines:
                self._began = True
                says = _read(json.loads(line))
                if says is not None:
                    yield says
                if isinstance(says, RunEnd):
                    return

    def restored(self, number: int) -> None:
        """Tell a run that its tables are what they were. Raises RunnerGone."""
        self._say({"word": "restored", "run": number})

    def _say(self, message: Mapping[str, Any]) -> None:
        stdin = self._process.stdin
        assert stdin is not None
        try:
            stdin.write(json.dumps(message).encode() + b"\n")
            stdin.flush()
        except BrokenPipeError:
            raise RunnerGone("the runner is gone", began=self._began) from None

    def close(self) -> None:
        """End the runner and whatever it still watches."""
        if self._process.stdin:
            # What it did not take before it ended is not sent after it.
            with suppress(BrokenPipeError):
                self._process.stdin.close()
        end(self._process, _END_S)
        if self._process.stdout:
            self._process.stdout.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
