"""Database servers that are Ivrell's own, in a folder each, whatever the product."""

import json
import logging
import math
import os
import pwd
import secrets
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, suppress
from pathlib import Path
from typing import ClassVar

from ivrell.core.base.errors import BadInput
from ivrell.core.base.locks import FileLock, alone, holders, is_held
from ivrell.core.contain.calls import Filter, compiled
from ivrell.core.contain.sandbox import (
    FIRST_FREE_FD,
    Sandbox,
    first_of_sandbox,
    innermost,
    parent_of,
    why_not,
)  # fmt: skip

log = logging.getLogger("ivrell.servers")
_START_S = 60.0
_STOP_S = 30.0
_MAKE_S = 300.0
_OTHERS_START_S = 300.0
_LOOK_AGAIN_S = 0.05
_ASK_AGAIN_S = 1.0
_FORGOTTEN_S = 8.0
_LONGEST_SOCKET = 80
"""Characters of a folder's path that leave room for the socket's name: the system takes 107."""

ENVIRONMENT = {"PATH": os.defpath, "LANG": "C.UTF-8", "TZ": "UTC"}


def free_port() -> int:
    """A port on loopback that nothing listens on now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _is_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
        return True


def system_user(name: str, otherwise: str) -> pwd.struct_passwd:
    """A system user, made where it is missing; where it cannot be made, another one."""
    try:
        return pwd.getpwnam(name)
    except KeyError:
        make = ["useradd", "--system", "--no-create-home", "--home-dir", "/nonexistent",
                "--shell", "/usr/sbin/nologin", "--user-group", name]  # fmt: skip
        path = f"{os.defpath}:/usr/sbin:/sbin"
        with suppress(OSError, subprocess.TimeoutExpired):
            subprocess.run(make, env={"PATH": path}, capture_output=True, timeout=_START_S)
    try:
        return pwd.getpwnam(name)
    except KeyError:
        return pwd.getpwnam(otherwise)


class PrivateServer(ABC):
    """One server on a folder: made when that is empty, started, stopped; subclasses know the
    programs.

    Run by root, the server runs as a system user, otherwise as the user. It asks for a password,
    which is kept in a file beside the folder that only its owner can read.

    A ``private`` one, to which strangers' code speaks, can be reached in its ``socket_folder``
    alone, by processes that have no network; where sandboxes work it is in one that shows it the
    system's programs, its own folder and nothing else. Any other listens on loopback.

    Several processes may use one server: the first starts it, others attach to it, and the
    last that stops using it ends it. A lock tells who does, so one that died counts no more.
    Another lock is the server's own: its processes inherit it, so that it lasts as long as any of
    them, and one that nobody knows of is found by it and ended before another starts.
    """

    product: ClassVar[str]
    """Its name, for people."""
    program: ClassVar[str]
    """What the system calls its first process."""
    made_sign: ClassVar[str]
    """A file or folder that a made folder holds."""
    variables: ClassVar[Mapping[str, str]] = {}
    """What of its environment is its own."""
    stop_signal: ClassVar[int] = signal.SIGTERM
    """Tells it to end in order, cutting connections."""

    def __init__(self, folder: Path, user: str = "ivrell", *, private: bool = False) -> None:
        self.folder = folder
        self.user = user
        self.socket_folder: Path | None = None
        self._private = private
        self._state = folder.with_name(f"{folder.name}.running")
        self._process: subprocess.Popen[bytes] | None = None
        self._attached: int | None = None
        self._settings: Mapping[str, str] | None = None
        self._use = FileLock(folder.with_name(f"{folder.name}.use"))
        self._held = folder.with_name(f"{folder.name}.held")
        self.port = 0

    @abstractmethod
    def _owner(self) -> pwd.struct_passwd:
        """The system user that the server runs as where root starts it."""

    @abstractmethod
    def _initialise(self, folder: Path, secret: Path) -> None:
        """Make an empty folder the server's; the password of its own user is in a file."""

    @abstractmethod
    def _command(self, settings: Mapping[str, str]) -> list[str]:
        """The command line that starts it."""

    @abstractmethod
    def _answers(self) -> bool:
        """Whether it takes connections."""

    def _begun(self) -> None:
        """What is to be done once it was started."""
        return

    @property
    def password(self) -> str:
        """The password of the server's own user."""
        return self.password_of("")

    def password_of(self, role: str) -> str:
        """The password of a role, kept in a file beside the folder; "" is the server's own
        user."""
        owner = "" if role == self.user else role
        names = filter(None, [self.folder.name, owner, "password"])
        path = self.folder.with_name(".".join(names))
        if not path.exists():
            handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(handle, "w") as file:
                file.write(secrets.token_urlsafe(24))
        return path.read_text()

    @property
    def _as_user(self) -> dict[str, object]:
        """How to start its programs as the user that they run as."""
        if os.geteuid() != 0:
            return {}
        entry = self._owner()
        return {"user": entry.pw_uid, "group": entry.pw_gid, "extra_groups": []}

    def _own(self, folder: Path) -> None:
        """Let the server's user own its folder, which an earlier version gave to another."""
        if folder.stat().st_uid == self._owner().pw_uid:
            return
        for path in (folder, *folder.rglob("*")):
            self.give(path)

    def give(self, path: Path) -> None:
        """Let the server's user own a file, where it is not Ivrell's."""
        if os.geteuid() == 0:
            entry = self._owner()
            os.chown(path, entry.pw_uid, entry.pw_gid, follow_symlinks=False)

    def ensure(self) -> None:
        """Make its folder unless it is there. Raises BadInput when that cannot be done."""
        root = os.geteuid() == 0
        if (self.folder / self.made_sign).exists():
            if root and not self._running_pid():
                self._own(self.folder)
            return
        # Whole or not at all: what was cut off half made could never be started.
        making = self.folder.with_name(f"{self.folder.name}.new")
        shutil.rmtree(making, ignore_errors=True)
        making.mkdir(parents=True)
        making.chmod(0o700)
        secret = self.folder.with_name(f"{self.folder.name}.new-password")
        secret.unlink(missing_ok=True)
        with os.fdopen(os.open(secret, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as file:
            file.write(self.password)
        try:
            if root:
                self._own(making)
                os.chown(secret, self._owner().pw_uid, self._owner().pw_gid)
                if not self._walled:
                    self._check_reachable()
            self._initialise(making, secret)
            if self.folder.exists():
                self.folder.rmdir()
            making.rename(self.folder)
        finally:
            secret.unlink()
            shutil.rmtree(making, ignore_errors=True)

    def _initialised(self, command: list[str], folder: Path, secret: Path) -> None:
        """Run the program that makes a folder. Raises BadInput with what it said."""
        command, as_user = self._walls(command, folder, inputs=(str(secret),))
        done = subprocess.run(
            command,
            capture_output=True,
            text=True,
            cwd="/",
            timeout=_MAKE_S,
            env=ENVIRONMENT,
            **as_user,  # type: ignore[call-overload]
        )
        if done.returncode:
            raise BadInput(
                f"{self.product} could not make its folder: {done.stderr.strip()[-500:]}",
                where=str(self.folder),
                hint="Check that the disk has room, or choose another data folder.",
            )

    def _check_reachable(self) -> None:
        for parent in self.folder.parents:
            if not parent.stat().st_mode & 0o001:
                raise BadInput(
                    f"The user {self._owner().pw_name} cannot pass through {parent}, and "
                    f"{self.product} does not run as root.",
                    where=str(self.folder),
                    hint="Choose another data folder, or start Ivrell as an ordinary user.",
                )

    def start(self, settings: Mapping[str, str] | None = None) -> None:
        """Start the server and wait until it takes connections, or attach to one that runs.

        Args:
            settings: server settings beside port and address, where it is started.

        Raises:
            BadInput: it did not start; the message has the end of its log.
        """
        self.folder.parent.mkdir(parents=True, exist_ok=True)
        try:
            with self._one_at_a_time():
                self.ensure()
                self._use.take(shared=True, wait_s=_START_S)
                self._attach_or_begin(settings)
        except BaseException:
            self._use.release()
            raise

    @property
    def alive(self) -> bool:
        """Whether the server that was started or attached to lives; asks the system, not it."""
        if self._process:
            return self._process.poll() is None
        return self._attached is not None and self._is_server(self._attached)

    def again(self) -> None:
        """Start the server again after it ended unasked, where it was, as it was. Raises
        BadInput."""
        with self._one_at_a_time():
            self._process = self._attached = None
            self._attach_or_begin(self._settings)

    def attach(self, wait_s: float) -> None:
        """Use a server that runs, and is perhaps just being started again; never start one.
        Raises BadInput where none does in time."""
        self._use.take(shared=True, wait_s=wait_s)
        deadline = time.monotonic() + wait_s
        while not self._running_pid():
            if time.monotonic() > deadline:
                self._use.release()
                raise BadInput(
                    "The database of records does not answer.",
                    where=str(self.folder),
                    hint="Look at what the running Ivrell says, or stop it and start again.",
                )
            time.sleep(0.2)

    def _attach_or_begin(self, settings: Mapping[str, str] | None) -> None:
        self._settings = settings
        if self._running_pid():
            if not self._private or (self.socket_folder and self.socket_folder.exists()):
                return
            # Its socket is gone, with whoever made it: nobody can be using it.
            self._end()
        self._begin(settings)

    @property
    def left_running(self) -> bool:
        """Whether a server may be running on the folder, noted or not."""
        return self._state.exists() or is_held(self._held)

    def _end_forgotten(self) -> None:
        """End servers on the folder whose starter died before it could note them, or that do not
        answer any more."""
        asked: dict[int, float] = {}
        # Asked too early MariaDB neither goes on nor ends; what is loaded outlives a kill.
        deadline = time.monotonic() + _FORGOTTEN_S
        while is_held(self._held) and time.monotonic() < deadline + _STOP_S:
            for pid in holders(self._held):
                # What is no server yet has nothing to end in order; one that starts may not hear.
                how = self.stop_signal if self._is_server(pid) else signal.SIGKILL
                if time.monotonic() > deadline:
                    how = signal.SIGKILL
                elif self._is_server(parent_of(pid)) or (
                    time.monotonic() - asked.get(pid, -math.inf) < _ASK_AGAIN_S
                ):
                    continue
                asked[pid] = time.monotonic()
                with suppress(ProcessLookupError):
                    os.kill(pid, how)
            time.sleep(_LOOK_AGAIN_S)

    def restart(
        self, between: Callable[[], None], settings: Mapping[str, str] | None = None
    ) -> None:
        """Stop the server, do something, and start it again. Raises BadInput where another
        process uses it."""
        with self._one_at_a_time():
            if not self._use.take():
                self._use.take(shared=True)
                raise BadInput(
                    f"Another Ivrell process uses the private {self.product} server, which has "
                    "to be restarted for a cold cache.",
                    where="cache",
                    hint="Wait until the other trial has ended, or leave the cache warm.",
                )
            self._end()
            between()
            self._begin(settings)
            self._use.take(shared=True)

    def _one_at_a_time(self) -> AbstractContextManager[None]:
        return alone(self.folder.with_name(f"{self.folder.name}.start"), wait_s=_OTHERS_START_S)

    def _begin(self, settings: Mapping[str, str] | None, *, again: bool = True) -> None:
        held, deadline = FileLock(self._held), time.monotonic() + 2 * _STOP_S
        while not (taken := held.take()) and time.monotonic() < deadline:
            log.warning("%s that nobody noted runs on %s: it is ended", self.product, self.folder)
            self._end_forgotten()
            time.sleep(_LOOK_AGAIN_S)
        if not taken:
            held.release()
            raise BadInput(
                f"Another {self.product} runs on this folder and does not end.",
                where=str(self.folder),
                hint="End it, or choose another data folder.",
            )
        try:
            with held.inherited(FIRST_FREE_FD) as fd:
                self._launch(settings, fd)
        finally:
            # The server's processes hold it on.
            held.release()
        try:
            self._wait_until_it_answers()
        except BaseException as error:
            killed = isinstance(error, Exception) and self._killed
            self._end()
            if not (killed and again):
                raise
            self._begin(settings, again=False)

    def _launch(self, settings: Mapping[str, str] | None, held: int) -> None:
        if self._private:
            self.socket_folder = self._new_socket_folder()
        # One that is started again stays where others know it to be.
        self.port = self.port if self.port and _is_free(self.port) else free_port()
        command, as_user = self._walls(self._command(settings or {}), self.folder)
        with self._log_path.open("ab") as said:
            self._process = subprocess.Popen(
                command,
                stdin=subprocess.DEVNULL,
                stdout=said,
                stderr=said,
                cwd="/",
                pass_fds=(held,),
                # Nothing of Ivrell's environment: what runs in the server could read it.
                env={**ENVIRONMENT, **self.variables},
                # Its own session: Ctrl-C in the terminal is for Ivrell, which stops it last.
                start_new_session=True,
                **as_user,  # type: ignore[call-overload]
            )

    @property
    def _killed(self) -> bool:
        """Whether somebody ended it as it started; its sandbox ends a moment after it."""
        if self._process is None:
            return False
        with suppress(subprocess.TimeoutExpired):
            # A shell's way of telling of a signal, which its sandbox has too.
            return self._process.wait(1.0) in (-signal.SIGKILL, 128 + signal.SIGKILL)
        return False

    @property
    def _log_path(self) -> Path:
        return self.folder.with_name(f"{self.folder.name}.log")

    def _wait_until_it_answers(self) -> None:
        assert self._process
        deadline = time.monotonic() + _START_S
        while not self._answers():
            if self._process.poll() is not None or time.monotonic() > deadline:
                said = self._log_path.read_text(errors="replace").strip().splitlines()[-5:]
                raise BadInput(
                    f"{self.product} did not start: {' '.join(said)}", where=str(self.folder)
                )
            time.sleep(0.05)
        self._begun()
        told = {"pid": innermost(self._process.pid), "port": self.port}
        self._state.write_text(json.dumps({**told, "socket": str(self.socket_folder or "")}))

    def _new_socket_folder(self) -> Path:
        """A folder that the server puts its socket into; others may pass through, no more."""
        folder = self.folder.with_name(f"{self.folder.name}.socket")
        if len(str(folder)) > _LONGEST_SOCKET:
            folder = Path(tempfile.mkdtemp(prefix="ivrell-socket-"))
        folder.mkdir(exist_ok=True)
        folder.chmod(0o711)
        if os.geteuid() == 0:
            entry = self._owner()
            os.chown(folder, entry.pw_uid, entry.pw_gid)
        return folder

    @property
    def _walled(self) -> bool:
        """Whether its programs run in a sandbox."""
        return self._private and why_not() is None

    def _walls(
        self, command: list[str], folder: Path, inputs: tuple[str, ...] = ()
    ) -> tuple[list[str], dict[str, object]]:
        """The command line of one of its programs, and how it is started: in a sandbox that shows
        it the folder and the inputs, or else as the user that it runs as."""
        if not self._walled:
            return command, self._as_user
        entry = self._owner() if os.geteuid() == 0 else pwd.getpwuid(os.geteuid())
        sandbox = Sandbox(
            folder,
            compiled(Filter.SERVER),
            inputs=inputs,
            writable=(str(self.socket_folder),) if self.socket_folder else (),
            user=(entry.pw_uid, entry.pw_gid),
            lasting=True,
        )
        return sandbox.around(command), {}

    def _running_pid(self) -> int | None:
        """Process id of a server that runs on this folder already; sets port and socket."""
        try:
            told = json.loads(self._state.read_text())
            pid, port, place = int(told["pid"]), int(told["port"]), str(told["socket"])
        except (OSError, ValueError, KeyError, TypeError):
            return None
        if not self._is_server(pid):
            return None
        self.port = port
        self.socket_folder = Path(place) if place else None
        if not self._answers():
            return None
        self._attached = pid
        return pid

    def stop(self) -> None:
        """Use it no more; the last to do so ends the server, in order, cutting connections."""
        if not self.folder.exists():
            self._use.release()
            return
        with self._one_at_a_time():
            alone_with_it = self._use.take()
            try:
                if alone_with_it:
                    self._end()
            finally:
                self._use.release()

    def _end(self) -> None:
        pid = innermost(self._process.pid) if self._process else self._running_pid()
        if pid is not None:
            first = first_of_sandbox(pid)
            self._interrupt(pid)
            if first is not None:
                # What the server's programs left goes with the first of their processes.
                with suppress(ProcessLookupError):
                    os.kill(first, signal.SIGKILL)
        self._process = None
        self._end_forgotten()
        self._state.unlink(missing_ok=True)
        if self.socket_folder:
            shutil.rmtree(self.socket_folder, ignore_errors=True)
            self.socket_folder = None

    def _interrupt(self, pid: int) -> None:
        try:
            os.kill(pid, self.stop_signal)
        except ProcessLookupError:
            return
        deadline = time.monotonic() + _STOP_S
        while time.monotonic() < deadline:
            if self._process and self._process.poll() is not None:
                return
            if not self._process and not Path(f"/proc/{pid}").exists():
                return
            time.sleep(0.02)

    @property
    def pid(self) -> int:
        """Process id of the running server. Raises BadInput when it does not run."""
        found = innermost(self._process.pid) if self._process else self._running_pid()
        if found is None:
            raise BadInput(
                f"The private {self.product} server does not run.", where=str(self.folder)
            )
        return found

    def _is_server(self, pid: int) -> bool:
        try:
            return Path(f"/proc/{pid}/comm").read_text().strip() == self.program
        except OSError:
            return False
