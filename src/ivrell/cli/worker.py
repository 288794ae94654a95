"""``ivrell worker``: this machine joins an Ivrell elsewhere and runs the trials that it is given.

It asks and tells over HTTPS and opens no port. Text and code come from the application and are a
stranger's, so they run in this machine's own sandbox; data is made here, and has to be what was
made elsewhere.
"""

import argparse
import hashlib
import ipaddress
import logging
import os
import secrets
import signal
import ssl
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Literal, TypeVar

from pydantic import BaseModel, ValidationError

from ivrell.cli.console import OUT
from ivrell.core.base.errors import BadInput
from ivrell.core.base.folders import data_folder
from ivrell.core.machine import snapshot
from ivrell.core.recipe.store import DataStore
from ivrell.core.records.agreement import Agreement
from ivrell.core.records.events import (
    DataMade,
    LiveEvent,
    RunEnded,
    RunProgress,
    SessionSeen,
    TrialEnded,
    TrialEvent,
)
from ivrell.core.records.joined import (
    MOST_RUNS,
    WORKER_SCHEME,
    Asking,
    Brought,
    Given,
    JoinedTask,
    Told,
    Wanted,
)
from ivrell.core.records.run import RunRecord
from ivrell.core.records.trouble import Trouble
from ivrell.core.results.folder import AGREEMENT, DATA, ResultFolder
from ivrell.core.trial.conduct import Trial
from ivrell.core.trial.control import NoControl

log = logging.getLogger("ivrell.worker")

_ASK_EVERY_S = 3.0
_TELL_EVERY_S = 2.0
_ANSWER_S = 60.0
_GONE = (401, 403)

Ended = Literal["done", "stopped", "failed", "paused"]
Shape = TypeVar("Shape", bound=BaseModel)


class Unreachable(Exception):
    """The application does not answer now; it may again."""


class Application:
    """The Ivrell that this machine has joined.

    Args:
        address: of the application, ``https://...``; without TLS on loopback alone.
        token: that was made for this machine.
        authority: file of the certificates that are trusted besides the system's.
    """

    def __init__(self, address: str, token: str, authority: Path | None = None) -> None:
        parts = urllib.parse.urlsplit(address)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise BadInput(
                f"{address} is no address of an Ivrell.",
                where="--join",
                hint="Write it as https://ivrell.example:8420.",
            )
        if parts.scheme == "http" and not _is_loopback(parts.hostname):
            raise BadInput(
                f"{address} would send token and code for everybody to read.",
                where="--join",
                hint="Use https; without it only an Ivrell on this machine can be joined.",
            )
        self.address = f"{parts.scheme}://{parts.netloc}"
        self._token = token
        self.worker = secrets.token_urlsafe(16)
        handlers: list[urllib.request.BaseHandler] = []
        if parts.scheme == "https":
            context = ssl.create_default_context(cafile=authority and str(authority))
            handlers.append(urllib.request.HTTPSHandler(context=context))
        else:
            handlers.append(urllib.request.ProxyHandler({}))
        self._open = urllib.request.build_opener(*handlers)

    def ask(self, path: str, body: BaseModel, shape: type[Shape] | None) -> Shape | None:
        """What it answers. Raises Unreachable where it does not, BadInput where it refuses."""
        asked = urllib.request.Request(
            f"{self.address}/api/worker/{path}", method="POST",
            data=body.model_dump_json().encode(),
            headers={"Authorization": f"{WORKER_SCHEME} {self._token}",
                     "Content-Type": "application/json"},
        )  # fmt: skip
        try:
            with self._open.open(asked, timeout=_ANSWER_S) as answer:
                given = answer.read()
        except urllib.error.HTTPError as error:
            if error.code in _GONE:
                raise BadInput(
                    "This Ivrell does not know the token of this machine.",
                    where=self.address,
                    hint="Add it on the page of the machine there, and give the token told then.",
                ) from None
            if error.code >= 500:
                raise Unreachable(f"it answered {error.code}") from None
            told = error.read(10_000).decode(errors="replace")
            raise BadInput(f"This Ivrell refused: {told}", where=self.address) from None
        except OSError as error:
            if isinstance(getattr(error, "reason", None), ssl.SSLCertVerificationError):
                raise BadInput(
                    "The certificate of this Ivrell is not trusted here.",
                    where=self.address,
                    hint="Name the file of its authority with --authority.",
                ) from None
            raise Unreachable(str(error)) from None
        if shape is None:
            return None
        try:
            return shape.model_validate_json(given)
        except ValidationError as error:
            raise BadInput(
                f"This Ivrell says what is not understood here: {error.errors()[0]['msg']}.",
                where=self.address,
                hint="Is it of the same version?",
            ) from None


def _is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


class _Paused(Exception):
    """The application asked the trial to wait."""


class _Leaving(Exception):
    """This worker is to end; the trial goes on here another time."""


class Running(NoControl):
    """One trial of the application while it is run here: what is to be told, what is wanted."""

    def __init__(
        self, application: Application, task: JoinedTask, leaving: threading.Event
    ) -> None:
        self.application = application
        self.task = task
        self.leaving = leaving
        # Whatever the application calls itself, and though its records were begun anew.
        key = hashlib.sha256(task.key.encode()).hexdigest()[:16]
        self.folder = data_folder() / "joined" / f"{task.trial}-{key}"
        self.results = ResultFolder(self.folder)
        self._wanted = Wanted(stop=False, pause=False, stop_run=None, dropped=[])
        self._lock = threading.Lock()
        self._events: list[LiveEvent] = []
        self._runs: list[RunRecord] = []
        self._over = threading.Event()

    def listen(self, event: TrialEvent) -> None:
        if isinstance(event, DataMade):
            self._check_data(event)
        with self._lock:
            if isinstance(event, RunEnded):
                self._runs.append(event.record)
                self._events.append(event.short)
            elif isinstance(event, RunProgress):
                # The newest alone: nobody looks at each.
                self._events = [e for e in self._events if not isinstance(e, RunProgress)]
                self._events.append(event)
            elif not isinstance(event, SessionSeen | TrialEnded):
                self._events.append(event)

    def _check_data(self, event: DataMade) -> None:
        expected = {(one.fingerprint, one.form): one.bytes_hash for one in self.task.expected}
        for table in event.tables:
            wanted = expected.get(table.told_bytes or ("", ""))
            if wanted and wanted != table.bytes_hash:
                raise BadInput(
                    f"The table {table.table} of {table.rows:,} rows that is made here is not what "
                    "was made elsewhere of the same recipe.",
                    where=table.table,
                    hint="Are both of the same version of Ivrell and of its libraries?",
                )

    def stop_all(self) -> bool:
        return self._wanted.stop or self.leaving.is_set()

    def stop_run(self, number: int) -> bool:
        return self._wanted.stop_run == number

    def dropped(self) -> set[str]:
        return set(self._wanted.dropped)

    def between_runs(self) -> None:
        if self.leaving.is_set():
            raise _Leaving
        if self._wanted.pause:
            raise _Paused

    @contextmanager
    def telling(self) -> Iterator[None]:
        """Tell what happens every few seconds meanwhile."""
        teller = threading.Thread(target=self._tell_on, name="teller", daemon=True)
        teller.start()
        try:
            yield
        finally:
            self._over.set()
            teller.join(_ANSWER_S)

    def _tell_on(self) -> None:
        while not self._over.wait(_TELL_EVERY_S):
            try:
                self.tell()
            except (Unreachable, BadInput) as error:
                # What was to be told stays, and runs go on.
                log.warning("%s: %s", self.application.address, error)

    def tell(self) -> None:
        """Tell what there is to tell; hear what is wanted. Raises Unreachable, BadInput."""
        while True:
            with self._lock:
                runs, events = self._runs[:MOST_RUNS], self._events[:500]
            told = Told(
                worker=self.application.worker,
                runs=runs,
                events=events,
                curves={run.run: self.results.curve(run.run) for run in runs},
            )
            wanted = self.application.ask(f"trials/{self.task.trial}/told/", told, Wanted)
            assert wanted
            with self._lock:
                self._wanted = wanted
                self._runs = self._runs[len(runs) :]
                # One that was replaced meanwhile is gone already.
                known = {id(event) for event in events}
                self._events = [event for event in self._events if id(event) not in known]
                if not self._runs and not self._events:
                    return

    def run(self) -> Brought:
        """Run it, or go on with it; how it ended. Raises _Leaving where it goes on another time."""
        task = self.task
        own = data_folder() / "files"
        own.mkdir(parents=True, exist_ok=True)
        try:
            with self._lock:
                self._runs += self.results.runs() if self.results.is_one else []
            trial = Trial(
                task.text,
                task.plan.model_copy(update={"own_files": str(own), "sandbox": "auto"}),
                self.folder,
                DataStore(data_folder() / "made"),
                listen=self.listen,
                control=self,
                other_versions=task.other_versions,
                stretch=task.stretch,
            )
            found = trial.conduct()
        except _Paused:
            return self._brought("paused")
        except BadInput as error:
            return self._brought("failed", Trouble.of(error))
        if self.leaving.is_set() and not self._wanted.stop:
            raise _Leaving
        return self._brought(found.ended)

    def _brought(self, ended: Ended, trouble: Trouble | None = None) -> Brought:
        results = self.results
        agreement: dict[str, dict[str, Agreement | None]] = {}
        if results.has(AGREEMENT):
            agreement = {point: {**lanes} for point, lanes in results.read(AGREEMENT).items()}
        return Brought(
            worker=self.application.worker,
            ended=ended,
            sessions=results.sessions() if results.is_one else [],
            data=results.read(DATA) if results.has(DATA) else [],
            agreement=agreement,
            trouble=trouble,
        )

    def bring(self, brought: Brought) -> None:
        """Tell the rest, and how it ended; again and again until it is heard."""
        while True:
            try:
                self.tell()
                self.application.ask(f"trials/{self.task.trial}/brought/", brought, None)
                return
            except Unreachable as error:
                if self.leaving.wait(_ASK_EVERY_S):
                    raise _Leaving from error


def worker(args: argparse.Namespace) -> int:
    """Join an Ivrell, and run what it gives until this is stopped."""
    application = Application(args.join, _token(args.token_from), args.authority)
    leaving = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: leaving.set())
    asking = Asking(machine=snapshot(data_folder()), worker=application.worker)
    OUT.print(f"This machine has joined {application.address}. It waits for trials.")
    said = ""
    while not leaving.is_set():
        try:
            given = application.ask("next/", asking, Given)
            why_not = given.why_not if given else ""
        except Unreachable as error:
            given, why_not = None, f"{application.address} does not answer ({error})"
        if why_not and why_not != said:
            OUT.print(f"No trial for now: {why_not}. Asked again.")
        said = why_not
        if given and given.task:
            _do(application, given.task, leaving)
        else:
            leaving.wait(_ASK_EVERY_S)
    OUT.print("This machine has left; a trial that was cut off goes on when it joins again.")
    return 0


def _do(application: Application, task: JoinedTask, leaving: threading.Event) -> None:
    began = time.monotonic()
    OUT.print(f"Trial {task.trial} begins.")
    running = Running(application, task, leaving)
    try:
        with running.telling():
            brought = running.run()
        running.bring(brought)
    except _Leaving:
        return
    except BadInput as error:
        # It is refused there: nobody would be helped by bringing it again and again.
        brought = Brought(worker=application.worker, ended="failed", trouble=Trouble.of(error))
        application.ask(f"trials/{task.trial}/brought/", brought, None)
    OUT.print(f"Trial {task.trial}: {brought.ended} after {time.monotonic() - began:.0f} s.")


def _token(place: str) -> str:
    """The token from ``env:NAME`` or ``file:PATH``. Raises BadInput."""
    kind, _, name = place.partition(":")
    if kind == "env" and name in os.environ:
        return os.environ[name].strip()
    if kind == "file":
        try:
            return Path(name).read_text().strip()
        except OSError as error:
            raise BadInput(f"The token cannot be read: {error.strerror}.", where=name) from None
    raise BadInput(
        "The token of this machine is missing.",
        where="--token-from",
        hint="Name the place where it stands: env:NAME or file:PATH.",
    )
