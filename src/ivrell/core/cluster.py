"""A private PostgreSQL cluster on loopback, in a folder of Ivrell's own."""

import json
import os
import pwd
import secrets
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Callable
from contextlib import AbstractContextManager, suppress
from functools import lru_cache
from pathlib import Path

from ivrell.core.contain.sandbox import Sandbox, first_of_sandbox, innermost, why_not
from ivrell.core.errors import BadInput
from ivrell.core.locks import FileLock, alone

_START_S = 60.0
_STOP_S = 30.0
_SYSTEM_USER = "postgres"
MAINTENANCE = "postgres"
"""The database that every PostgreSQL server has."""

_RECORDS_USER = "ivrell-records"
_LONGEST_SOCKET = 80
"""Characters of a folder's path that leave room for the socket's name: the system takes 107."""

_ENVIRONMENT = {"PATH": os.defpath, "LANG": "C.UTF-8", "TZ": "UTC"}


def binaries() -> Path:
    """Folder of the newest installed server binaries. Raises BadInput when there are none."""
    found = sorted(
        Path("/usr/lib/postgresql").glob("*/bin/initdb"),
        key=lambda path: int(path.parts[-3]) if path.parts[-3].isdigit() else 0,
    )
    if found:
        return found[-1].parent
    if on_path := shutil.which("initdb"):
        return Path(on_path).resolve().parent
    raise BadInput(
        "PostgreSQL's server programs are not installed.",
        hint="Install them: apt-get install postgresql",
    )


@lru_cache(maxsize=1)
def server_version() -> str | None:
    """Version of the installed server, or None when there is none."""
    try:
        command = [str(binaries() / "postgres"), "--version"]
        told = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    except (BadInput, OSError, subprocess.CalledProcessError):
        return None
    return str(told.split()[2])


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


def _quoted(value: str) -> str:
    """A value of a connection string, whatever characters it holds."""
    return "'" + value.replace("\\", "\\\\").replace("'", "\\'") + "'"


def _is_server(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/comm").read_text().strip() == "postgres"
    except OSError:
        return False


def _records_user() -> pwd.struct_passwd:
    """The system user of the records' server, made where it is missing; where it cannot be made,
    the one that PostgreSQL brings."""
    try:
        return pwd.getpwnam(_RECORDS_USER)
    except KeyError:
        make = ["useradd", "--system", "--no-create-home", "--home-dir", "/nonexistent",
                "--shell", "/usr/sbin/nologin", "--user-group", _RECORDS_USER]  # fmt: skip
        path = f"{os.defpath}:/usr/sbin:/sbin"
        with suppress(OSError):
            subprocess.run(make, env={"PATH": path}, capture_output=True)
    try:
        return pwd.getpwnam(_RECORDS_USER)
    except KeyError:
        return pwd.getpwnam(_SYSTEM_USER)


class Cluster:
    """One cluster: made when its folder is empty, started, stopped.

    Run by root, the server runs as a system user, since PostgreSQL refuses root: the records'
    as one of its own, a ``private`` one as ``postgres``; otherwise as the user. It asks for a
    password, which is kept in a file beside the folder that only its owner can read.

    One for records listens on loopback. A ``private`` one, to which strangers' code speaks, can
    be reached in its ``socket_folder`` alone, by processes that have no network; where sandboxes
    work it is in one that shows it the system's programs, its own folder and nothing else.

    Several processes may use one cluster: the first starts it, others attach to it, and the
    last that stops using it ends it. A lock tells who does, so one that died counts no more.
    """

    def __init__(self, folder: Path, user: str = "ivrell", *, private: bool = False) -> None:
        self.folder = folder
        self.user = user
        self.socket_folder: Path | None = None
        self._private = private
        self._state = folder.with_name(f"{folder.name}.running")
        self._process: subprocess.Popen[bytes] | None = None
        self._attached: int | None = None
        self._settings: dict[str, str] | None = None
        self._use = FileLock(folder.with_name(f"{folder.name}.use"))
        self.port = 0

    @property
    def password(self) -> str:
        """The password of the cluster's own user."""
        return self.password_of("")

    def password_of(self, role: str) -> str:
        """The password of a role, kept in a file beside the folder; "" is the cluster's own
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
        """How to start its programs as a user that PostgreSQL accepts."""
        if os.geteuid() != 0:
            return {}
        entry = self._owner()
        return {"user": entry.pw_uid, "group": entry.pw_gid, "extra_groups": []}

    def _owner(self) -> pwd.struct_passwd:
        """The system user that the server runs as where root starts it."""
        return pwd.getpwnam(_SYSTEM_USER) if self._private else _records_user()

    def _own(self, folder: Path) -> None:
        """Let the server's user own its folder, which an earlier version gave to another."""
        entry = self._owner()
        if folder.stat().st_uid == entry.pw_uid:
            return
        for path in (folder, *folder.rglob("*")):
            os.chown(path, entry.pw_uid, entry.pw_gid, follow_symlinks=False)

    def ensure(self) -> None:
        """Make the cluster unless it is there. Raises BadInput when that cannot be done."""
        root = os.geteuid() == 0
        if (self.folder / "PG_VERSION").exists():
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

    def _initialise(self, folder: Path, secret: Path) -> None:
        command, as_user = self._walls(
            [
                str(binaries() / "initdb"),
                f"--pgdata={folder}",
                f"--username={self.user}",
                f"--pwfile={secret}",
                "--auth=scram-sha-256",
                "--encoding=UTF8",
                "--locale=C.UTF-8",
                "--no-instructions",
            ],
            folder,
            inputs=(str(secret),),
        )
        done = subprocess.run(
            command,
            capture_output=True,
            text=True,
            cwd="/",
            env=_ENVIRONMENT,
            **as_user,  # type: ignore[call-overload]
        )
        if done.returncode:
            raise BadInput(
                f"PostgreSQL could not make its folder: {done.stderr.strip()[-500:]}",
                where=str(self.folder),
                hint="Check that the disk has room, or choose another data folder.",
            )

    def _check_reachable(self) -> None:
        for parent in self.folder.parents:
            if not parent.stat().st_mode & 0o001:
                raise BadInput(
                    f"The user {self._owner().pw_name} cannot pass through {parent}, and "
                    "PostgreSQL does not run as root.",
                    where=str(self.folder),
                    hint="Choose another data folder, or start Ivrell as an ordinary user.",
                )

    def start(self, settings: dict[str, str] | None = None) -> None:
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
        return self._attached is not None and _is_server(self._attached)

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

    def _attach_or_begin(self, settings: dict[str, str] | None) -> None:
        self._settings = settings
        if self._running_pid():
            if not self._private or (self.socket_folder and self.socket_folder.exists()):
                return
            # Its socket is gone, with whoever made it: nobody can be using it.
            self._end()
        self._begin(settings)

    def restart(self, between: Callable[[], None], settings: dict[str, str] | None = None) -> None:
        """Stop the server, do something, and start it again. Raises BadInput where another
        process uses it."""
        with self._one_at_a_time():
            if not self._use.take():
                self._use.take(shared=True)
                raise BadInput(
                    "Another Ivrell process uses the private PostgreSQL server, which has to be "
                    "restarted for a cold cache.",
                    where="cache",
                    hint="Wait until the other trial has ended, or leave the cache warm.",
                )
            self._end()
            between()
            self._begin(settings)
            self._use.take(shared=True)

    def _one_at_a_time(self) -> AbstractContextManager[None]:
        return alone(self.folder.with_name(f"{self.folder.name}.start"))

    def _begin(self, settings: dict[str, str] | None) -> None:
        if self._private:
            self.socket_folder = self._new_socket_folder()
        # One that is started again stays where others know it to be.
        self.port = self.port if self.port and _is_free(self.port) else free_port()
        given = {
            "listen_addresses": "" if self._private else "127.0.0.1",
            "port": str(self.port),
            "unix_socket_directories": str(self.socket_folder or ""),
            **(settings or {}),
        }
        arguments = [part for name, value in given.items() for part in ("-c", f"{name}={value}")]
        log_path = self.folder.with_name(self.folder.name + ".log")
        command = [str(binaries() / "postgres"), "-D", str(self.folder), *arguments]
        command, as_user = self._walls(command, self.folder)
        with log_path.open("ab") as log:
            self._process = subprocess.Popen(
                command,
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                cwd="/",
                # Nothing of Ivrell's environment: what runs in the server could read it.
                env=_ENVIRONMENT,
                # Its own session: Ctrl-C in the terminal is for Ivrell, which stops it last.
                start_new_session=True,
                **as_user,  # type: ignore[call-overload]
            )
        deadline = time.monotonic() + _START_S
        while not self._answers():
            if self._process.poll() is not None or time.monotonic() > deadline:
                said = log_path.read_text(errors="replace").strip().splitlines()[-5:]
                raise BadInput(
                    f"PostgreSQL did not start: {' '.join(said)}", where=str(self.folder)
                )
            time.sleep(0.05)
        told = {"pid": innermost(self._process.pid), "port": self.port}
        self._state.write_text(json.dumps({**told, "socket": str(self.socket_folder or "")}))

    def _new_socket_folder(self) -> Path:
        """A folder that the server puts its socket into; others may pass through, no more."""
        folder = self.folder.with_name(f"{self.folder.name}.socket")
        if len(str(folder)) > _LONGEST_SOCKET:
            folder = Path(tempfile.mkdtemp(prefix="ivrell-pg-"))
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
        it the folder and the inputs, or else as the user that PostgreSQL accepts."""
        if not self._walled:
            return command, self._as_user
        entry = self._owner() if os.geteuid() == 0 else pwd.getpwuid(os.geteuid())
        sandbox = Sandbox(
            folder,
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
        if not _is_server(pid):
            return None
        self.port = port
        self.socket_folder = Path(place) if place else None
        if not self._answers():
            return None
        self._attached = pid
        return pid

    def _answers(self) -> bool:
        asked = [str(binaries() / "pg_isready"), "-q", "-h", self._host, "-p", str(self.port)]
        return subprocess.run(asked).returncode == 0

    @property
    def _host(self) -> str:
        return str(self.socket_folder) if self.socket_folder else "127.0.0.1"

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
        self._state.unlink(missing_ok=True)
        if self.socket_folder:
            shutil.rmtree(self.socket_folder, ignore_errors=True)
            self.socket_folder = None

    def _interrupt(self, pid: int) -> None:
        try:
            os.kill(pid, signal.SIGINT)
        except ProcessLookupError:
            return
        deadline = time.monotonic() + _STOP_S
        while time.monotonic() < deadline:
            if self._process and self._process.poll() is not None:
                return
            if not self._process and not Path(f"/proc/{pid}").exists():
                return
            time.sleep(0.02)

    def environment(self, database: str) -> dict[str, str]:
        """The variables that tell Ivrell's server where its records are."""
        return {
            "IVRELL_DB_HOST": "127.0.0.1",
            "IVRELL_DB_PORT": str(self.port),
            "IVRELL_DB_NAME": database,
            "IVRELL_DB_USER": self.user,
            "IVRELL_DB_PASSWORD": self.password,
        }

    def address(self, database: str) -> str:
        """Connection string of one of its databases, password and all."""
        return (
            f"host={_quoted(self._host)} port={self.port} dbname={database} user={self.user} "
            f"password={self.password}"
        )

    @property
    def maintenance(self) -> str:
        """Connection string of the database that every server has."""
        return self.address(MAINTENANCE)

    def socket_address(self, database: str, role: str) -> str:
        """The same through its socket and as a role, for processes that have no network."""
        return (
            f"host={_quoted(self._host)} port={self.port} dbname={database} user={role} "
            f"password={self.password_of(role)}"
        )

    @property
    def pid(self) -> int:
        """Process id of the running server. Raises BadInput when it does not run."""
        found = innermost(self._process.pid) if self._process else self._running_pid()
        if found is None:
            raise BadInput("The private PostgreSQL cluster does not run.", where=str(self.folder))
        return found

    def databases(self) -> set[str]:
        """Names of its databases."""
        import psycopg

        with psycopg.connect(self.maintenance) as server:
            rows = server.execute("SELECT datname FROM pg_database").fetchall()
        return {str(row[0]) for row in rows}
