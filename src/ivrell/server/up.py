"""``python -m ivrell.server.up``: everything that ./start starts, and its clean end.

Starts the cluster of the records, brings the records up to date, loads the demo, starts
the web server and the trial worker, prints a sign-in link, and waits.
"""

import argparse
import json
import os
import secrets
import signal
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from ivrell.core.base.errors import BadInput
from ivrell.core.base.folders import data_folder, package_folder
from ivrell.core.base.locks import FileLock
from ivrell.core.base.temp_dirs import sweep
from ivrell.core.contain.sandbox import why_not
from ivrell.core.recipe.databases.ended import end_unused
from ivrell.core.servers.postgresql import MAINTENANCE, Cluster
from ivrell.server.parts import Part, Pause

USUAL_PORT = 8420
_PORTS_TRIED = 20
_READY_S = 30.0
_STOP_S = 12.0
_LOOK_S = 0.3
_MANAGE_S = 300.0
_FOLDERS = ("made", "loaded", "own", "files", "trials", "challenges", "log")
ATTACH_S = 20.0
_OTHER_S = 180.0
_RECORDS = {"shared_buffers": "64MB", "max_connections": "60"}


class Found(NamedTuple):
    """An Ivrell that runs on a data folder: its process and port."""

    pid: int
    port: int


class Up:
    """What one start has running."""

    def __init__(self, folder: Path, port: int | None, demo: bool, rebuild: bool = False) -> None:
        self.folder = folder
        self.demo = demo
        self.rebuild = rebuild
        self.wanted_port = port
        self.parts: list[Part] = []
        self.cluster = Cluster(folder / "records")
        self.state = folder / "running.json"
        self.key = secrets.token_urlsafe(32)
        self._env: dict[str, str] = {}
        self._pause = Pause()
        self._records_due = 0.0
        self._records_began = 0.0

    def prepare_folder(self) -> None:
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise BadInput(
                f"The data folder cannot be made: {error.strerror}.",
                where=str(self.folder),
                hint="Choose another one with --data-dir.",
            ) from None
        for name in _FOLDERS:
            (self.folder / name).mkdir(exist_ok=True)
            (self.folder / name).chmod(0o700)
        if os.geteuid() == 0:
            # The records' server is another user's: it passes through, and sees nothing else.
            self.folder.chmod(0o711)
            if why_not() is not None:
                (self.folder / "loaded").chmod(0o711)
        else:
            self.folder.chmod(0o700)

    def running(self) -> Found | None:
        """An Ivrell that runs on this data folder already."""
        try:
            told = json.loads(self.state.read_text())
            found = Found(int(told["pid"]), int(told["port"]))
            command = Path(f"/proc/{found.pid}/cmdline").read_bytes()
        except (OSError, ValueError, KeyError, TypeError):
            return None
        return found if b"ivrell.server.up" in command else None

    def the_other(self, alone: FileLock, asked_to_stop: Callable[[], bool]) -> Found | None:
        """An Ivrell that runs on this data folder, or is just being started there; None where this
        one is alone, which the lock is taken for. Raises BadInput where that takes too long."""
        deadline = time.monotonic() + _OTHER_S
        while not (found := self.running()) and not alone.take():
            if time.monotonic() > deadline or asked_to_stop():
                raise BadInput(
                    "Another start has been going on there for a while.",
                    where=str(self.folder),
                    hint="Wait until it has ended, or end it, and start again.",
                )
            time.sleep(_LOOK_S)
        return found

    def port(self) -> int:
        """The port asked for, or the first free one from the usual one on."""
        wanted = self.wanted_port
        tried = [wanted] if wanted else range(USUAL_PORT, USUAL_PORT + _PORTS_TRIED)
        for port in tried:
            with socket.socket() as probe:
                probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                try:
                    probe.bind((self.host, port))
                except OSError:
                    continue
                return port
        if wanted:
            raise BadInput(
                f"Port {wanted} is taken by another program.",
                where="--port",
                hint="Choose another port, or leave --port out and a free one is found.",
            )
        raise BadInput(
            f"No port from {USUAL_PORT} to {USUAL_PORT + _PORTS_TRIED - 1} is free.",
            hint="Give a free one with --port.",
        )

    @property
    def host(self) -> str:
        """The address that the web server listens at: loopback unless something before it says who
        may come."""
        return os.environ.get("IVRELL_LISTEN", "127.0.0.1")

    def address(self, port: int) -> str:
        """Where people reach it: behind a proxy by the first name that it answers to."""
        names = os.environ.get("IVRELL_HOSTS", "").split()
        if os.environ.get("IVRELL_PROXY") == "1" and names:
            return f"https://{names[0]}"
        return f"http://127.0.0.1:{port}"

    def secret(self) -> str:
        path = self.folder / "secret"
        if not path.exists():
            handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(handle, "w") as file:
                file.write(secrets.token_urlsafe(48))
        return path.read_text()

    def environment(self, port: int) -> dict[str, str]:
        return {
            **os.environ,
            **self.cluster.environment("ivrell"),
            "DJANGO_SETTINGS_MODULE": "ivrell.server.settings",
            "IVRELL_DATA": str(self.folder),
            "IVRELL_SECRET_KEY": self.secret(),
            "IVRELL_PORT": str(port),
            "IVRELL_KEY": self.key,
            # Threads would keep heaps of their own, up to eight a core.
            "MALLOC_ARENA_MAX": "2",
        }

    def manage(self, env: dict[str, str], *arguments: str) -> str:
        """Run one of Django's commands. Raises BadInput with what it said when it fails."""
        done = subprocess.run(
            [sys.executable, "-m", "ivrell.server.manage", *arguments],
            env=env,
            capture_output=True,
            text=True,
            timeout=_MANAGE_S,
        )
        if done.returncode:
            raise BadInput(f"{arguments[0]} failed: {done.stderr.strip()[-1500:]}")
        return done.stdout.strip()

    def _part(self, name: str, words: str, *arguments: str, after_death: str = "") -> Part:
        part = Part(
            name,
            words,
            list(arguments),
            lambda: self._env,
            self.folder / "log" / f"{name}.log",
            after_death=(after_death,) if after_death else (),
            say=say,
        )
        self.parts.append(part)
        return part

    def create_database(self) -> None:
        import psycopg

        with psycopg.connect(
            host="127.0.0.1",
            port=self.cluster.port,
            user=self.cluster.user,
            password=self.cluster.password,
            dbname=MAINTENANCE,
            autocommit=True,
        ) as connection:
            there = connection.execute("SELECT 1 FROM pg_database WHERE datname = 'ivrell'")
            if not there.fetchone():
                connection.execute("CREATE DATABASE ivrell")

    def start(self) -> str:
        """Start everything; returns the sign-in link."""
        port = self.port()
        say("Starting the database of records")
        self.cluster.start(_RECORDS)
        self._records_began = time.monotonic()
        self.create_database()
        env = self._env = self.environment(port)
        demo = ["--demo", str(package_folder() / "demo")] if self.demo else []
        link = self.manage(env, "prepare", *demo)
        if self.rebuild:
            say("Making the records of trials anew from their result folders")
            say(self.manage(env, "reindex"))
        say("Starting the web server and the trial worker")
        # One that was left behind tells of an end that nobody asked for.
        died = self.state.exists()
        self._part(
            "web", "The web server", "uvicorn", "ivrell.server.asgi:application",
            "--host", self.host, "--port", str(port), "--no-proxy-headers",
            "--timeout-graceful-shutdown", "2",
            "--no-access-log", "--no-server-header", "--log-level", "warning",
        ).start()  # fmt: skip
        worker = self._part(
            "worker",
            "The trial worker",
            "ivrell.server.manage",
            "work",
            after_death="--after-death",
        )
        worker.start(died=died)
        self.wait_until_ready(port)
        told = {"pid": os.getpid(), "port": port, "key": self.key}
        # Of whoever may read it: the key lets a command line in.
        with os.fdopen(os.open(self.state, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as f:
            f.write(json.dumps(told))
        self.state.chmod(0o600)
        return f"{self.address(port)}{link}"

    def another_link(self, port: int) -> str:
        """A fresh link for an Ivrell that runs already."""
        self.cluster.attach(ATTACH_S)
        return f"{self.address(port)}{self.manage(self.environment(port), 'sign_in_link')}"

    def wait_until_ready(self, port: int) -> None:
        deadline = time.monotonic() + _READY_S
        while time.monotonic() < deadline:
            if any(part.ended for part in self.parts):
                break
            try:
                with urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=2):
                    return
            except urllib.error.HTTPError:
                return
            except OSError:
                time.sleep(0.1)
        raise BadInput(
            "The web server did not start.",
            where=str(self.folder / "log"),
            hint=f"The end of its log:\n{_last_lines(self.folder / 'log' / 'web.log')}",
        )

    def look(self) -> None:
        """Start again what has ended, the records' server first."""
        worker_ended = [part.name for part in self.parts if part.name == "worker" and part.ended]
        ready = self.cluster.alive or self._records_again()
        if worker_ended:
            self.end_left()
        for part in self.parts:
            part.look(ready)

    def _records_again(self) -> bool:
        """Start the records' server again, where its pause is over; whether it runs."""
        now = time.monotonic()
        if not self._records_due:
            pause = self._pause.after(now - self._records_began)
            self._records_due = now + pause
            say(f"The database of records ended unexpectedly; it is started again in {pause:g} s.")
        if now < self._records_due:
            return False
        self._records_due = 0.0
        self._records_began = now
        try:
            self.cluster.again()
        except BadInput as error:
            say(f"The database of records does not start: {error}")
            return False
        # What the worker was told and could not keep is told again by one that reads the folder.
        for part in self.parts:
            if part.name == "worker":
                part.let_go()
        say("The database of records runs again.")
        return True

    def end_left(self) -> None:
        """End the private server of a worker that is gone."""
        end_unused(self.folder / "loaded")

    def stop(self) -> None:
        """Stop the parts, then the servers; nothing stays behind."""
        for part in reversed(self.parts):
            part.ask_to_end()
        deadline = time.monotonic() + _STOP_S
        for part in self.parts:
            part.wait(deadline)
        self.end_left()
        self.cluster.stop()
        self.state.unlink(missing_ok=True)
        sweep()


def _last_lines(path: Path, most: int = 15) -> str:
    """The end of a log, for who has to see why a part does not run."""
    try:
        lines = path.read_text(errors="replace").splitlines()[-most:]
    except OSError:
        lines = []
    return "\n".join(f"  {line}" for line in lines) or "  (nothing)"


def say(text: str) -> None:
    """Tell whoever started Ivrell, at once."""
    print(text, flush=True)


def _arguments() -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="start", description="Start Ivrell.")
    parser.add_argument("--port", type=int, help=f"port on loopback (usually {USUAL_PORT})")
    parser.add_argument("--data-dir", type=Path, help="where records, data and results are kept")
    parser.add_argument("--no-demo", action="store_true", help="do not load the demo comparison")
    parser.add_argument(
        "--rebuild-records",
        action="store_true",
        help="make the records of trials anew from their result folders",
    )
    return parser.parse_args()


def _wait(up: Up, asked: Callable[[], bool]) -> int:
    while not asked():
        up.look()
        time.sleep(_LOOK_S)
    return 0


def main() -> int:
    """Start, wait for Ctrl-C, stop."""
    args = _arguments()
    folder = (args.data_dir or data_folder()).resolve()
    up = Up(folder, args.port, not args.no_demo, args.rebuild_records)
    stopping: list[int] = []
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda got, frame: stopping.append(got))
    alone = FileLock(folder / "start.lock")
    try:
        up.prepare_folder()
        if found := up.the_other(alone, lambda: bool(stopping)):
            link = up.another_link(found.port)
            say(f"Ivrell is running already. A fresh sign-in link:\n\n  {link}\n")
            return 0
    except BadInput as error:
        say(f"Ivrell cannot start. {error}")
        return 1
    status = 1
    try:
        link = up.start()
        say(f"\nIvrell is running. Open this link (it signs you in once):\n\n  {link}\n")
        say("Ctrl-C stops it; nothing is lost.")
        status = _wait(up, lambda: bool(stopping))
    except BadInput as error:
        say(f"Ivrell cannot start. {error}")
    finally:
        say("Stopping")
        up.stop()
        alone.release()
    return status


if __name__ == "__main__":
    sys.exit(main())
