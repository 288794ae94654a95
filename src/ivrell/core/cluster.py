"""A private PostgreSQL cluster on loopback, in a folder of Ivrell's own."""

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
from contextlib import AbstractContextManager
from functools import lru_cache
from pathlib import Path

from ivrell.core.errors import BadInput
from ivrell.core.locks import FileLock, alone

_START_S = 60.0
_STOP_S = 30.0
_SYSTEM_USER = "postgres"
_PID_FILE_LINES = 5


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
        cure="Install them: apt-get install postgresql",
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


def _is_server(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/comm").read_text().strip() == "postgres"
    except OSError:
        return False


class Cluster:
    """One cluster: made when its folder is empty, started, stopped.

    Run by root, the server runs as the system's ``postgres`` user, since PostgreSQL
    refuses root; otherwise as the user. It listens on loopback only and asks for a
    password, which is kept in a file beside the folder that only its owner can read.
    ``with_socket`` it can be reached in a ``socket_folder`` too, by processes that have no
    network.

    Several processes may use one cluster: the first starts it, others attach to it, and the
    last that stops using it ends it. A lock tells who does, so one that died counts no more.
    """

    def __init__(self, folder: Path, user: str = "ivrell", *, with_socket: bool = False) -> None:
        self.folder = folder
        self.user = user
        self.socket_folder: Path | None = None
        self._with_socket = with_socket
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
        entry = pwd.getpwnam(_SYSTEM_USER)
        return {"user": entry.pw_uid, "group": entry.pw_gid, "extra_groups": []}

    def ensure(self) -> None:
        """Make the cluster unless it is there. Raises BadInput when that cannot be done."""
        if (self.folder / "PG_VERSION").exists():
            return
        self.folder.mkdir(parents=True, exist_ok=True)
        if os.geteuid() == 0:
            shutil.chown(self.folder, _SYSTEM_USER, _SYSTEM_USER)
            self._check_reachable()
        self.folder.chmod(0o700)
        with tempfile.NamedTemporaryFile("w", prefix="ivrell-", delete=False) as file:
            file.write(self.password)
        try:
            if os.geteuid() == 0:
                shutil.chown(file.name, _SYSTEM_USER)
            done = subprocess.run(
                [
                    binaries() / "initdb",
                    f"--pgdata={self.folder}",
                    f"--username={self.user}",
                    f"--pwfile={file.name}",
                    "--auth=scram-sha-256",
                    "--encoding=UTF8",
                    "--locale=C.UTF-8",
                    "--no-instructions",
                ],
                capture_output=True,
                text=True,
                cwd="/",
                **self._as_user,  # type: ignore[call-overload]
            )
        finally:
            Path(file.name).unlink()
        if done.returncode:
            raise BadInput(
                f"PostgreSQL could not make its folder: {done.stderr.strip()[-500:]}",
                where=str(self.folder),
                cure="Check that the disk has room, or choose another data folder.",
            )

    def _check_reachable(self) -> None:
        for parent in self.folder.parents:
            if not parent.stat().st_mode & 0o001:
                raise BadInput(
                    f"The user {_SYSTEM_USER} cannot pass through {parent}, and PostgreSQL does "
                    "not run as root.",
                    where=str(self.folder),
                    cure="Choose another data folder, or start Ivrell as an ordinary user.",
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
                    cure="Look at what the running Ivrell says, or stop it and start again.",
                )
            time.sleep(0.2)

    def _attach_or_begin(self, settings: dict[str, str] | None) -> None:
        self._settings = settings
        if self._running_pid():
            if not self._with_socket or (self.socket_folder and self.socket_folder.exists()):
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
                    cure="Wait until the other trial has ended, or leave the cache warm.",
                )
            self._end()
            between()
            self._begin(settings)
            self._use.take(shared=True)

    def _one_at_a_time(self) -> AbstractContextManager[None]:
        return alone(self.folder.with_name(f"{self.folder.name}.start"))

    def _begin(self, settings: dict[str, str] | None) -> None:
        if self._with_socket:
            self.socket_folder = Path(tempfile.mkdtemp(prefix="ivrell-pg-"))
            if os.geteuid() == 0:
                # The server's, which puts its socket there; others may pass through, no more.
                shutil.chown(self.socket_folder, _SYSTEM_USER, _SYSTEM_USER)
                self.socket_folder.chmod(0o711)
        # One that is started again stays where others know it to be.
        self.port = self.port if self.port and _is_free(self.port) else free_port()
        given = {
            "listen_addresses": "127.0.0.1",
            "port": str(self.port),
            "unix_socket_directories": str(self.socket_folder or ""),
            **(settings or {}),
        }
        arguments = [part for name, value in given.items() for part in ("-c", f"{name}={value}")]
        log_path = self.folder.with_name(self.folder.name + ".log")
        with log_path.open("ab") as log:
            self._process = subprocess.Popen(
                [binaries() / "postgres", "-D", self.folder, *arguments],
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                cwd="/",
                # Nothing of Ivrell's environment: what runs in the server could read it.
                env={"PATH": os.defpath, "LANG": "C.UTF-8", "TZ": "UTC"},
                # Its own session: Ctrl-C in the terminal is for Ivrell, which stops it last.
                start_new_session=True,
                **self._as_user,  # type: ignore[call-overload]
            )
        deadline = time.monotonic() + _START_S
        while not self._answers():
            if self._process.poll() is not None or time.monotonic() > deadline:
                said = log_path.read_text(errors="replace").strip().splitlines()[-5:]
                raise BadInput(
                    f"PostgreSQL did not start: {' '.join(said)}", where=str(self.folder)
                )
            time.sleep(0.05)

    def _running_pid(self) -> int | None:
        """Process id of a server that runs on this folder already; sets port and socket."""
        path = self.folder / "postmaster.pid"
        try:
            lines = path.read_text().splitlines()
            pid = int(lines[0])
            os.kill(pid, 0)
            command = Path(f"/proc/{pid}/comm").read_text().strip()
        except (OSError, ValueError, IndexError):
            return None
        if command != "postgres" or len(lines) < _PID_FILE_LINES:
            return None
        self.port = int(lines[3])
        if self._with_socket:
            self.socket_folder = Path(lines[4]) if lines[4] else None
        if not self._answers():
            return None
        self._attached = pid
        return pid

    def _answers(self) -> bool:
        return (
            subprocess.run(
                [binaries() / "pg_isready", "-q", "-h", "127.0.0.1", "-p", str(self.port)]
            ).returncode
            == 0
        )

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
        pid = self._process.pid if self._process else self._running_pid()
        if pid is not None:
            self._interrupt(pid)
        self._process = None
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
            f"host=127.0.0.1 port={self.port} dbname={database} user={self.user} "
            f"password={self.password}"
        )

    def socket_address(self, database: str, role: str) -> str:
        """The same through its socket and as a role, for processes that have no network."""
        return (
            f"host={self.socket_folder} port={self.port} dbname={database} user={role} "
            f"password={self.password_of(role)}"
        )

    @property
    def pid(self) -> int:
        """Process id of the running server. Raises BadInput when it does not run."""
        found = self._process.pid if self._process else self._running_pid()
        if found is None:
            raise BadInput("The private PostgreSQL cluster does not run.", where=str(self.folder))
        return found

    def databases(self) -> set[str]:
        """Names of its databases."""
        import psycopg

        with psycopg.connect(self.address("postgres")) as server:
            rows = server.execute("SELECT datname FROM pg_database").fetchall()
        return {str(row[0]) for row in rows}
