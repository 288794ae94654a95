"""PostgreSQL servers that are Ivrell's own: the records', and a private one for lanes."""

import pwd
import shutil
import signal
import subprocess
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.servers.private import PrivateServer, free_port, system_user
from ivrell.core.servers.run_users import RunUser

__all__ = ["MAINTENANCE", "Cluster", "binaries", "free_port", "server_version"]

_ASKED_S = 30
_SYSTEM_USER = "postgres"
_RECORDS_USER = "ivrell-records"
MAINTENANCE = "postgres"
"""The database that every PostgreSQL server has."""


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
        told = subprocess.run(
            command, capture_output=True, text=True, check=True, timeout=_ASKED_S
        ).stdout
    except (BadInput, OSError, subprocess.SubprocessError):
        return None
    return str(told.split()[2])


def _quoted(value: str) -> str:
    """A value of a connection string, whatever characters it holds."""
    return "'" + value.replace("\\", "\\\\").replace("'", "\\'") + "'"


class Cluster(PrivateServer):
    """A PostgreSQL cluster. Where root starts it, the records' runs as a system user of its own,
    a private one as ``postgres``, since PostgreSQL refuses root."""

    product = "PostgreSQL"
    program = "postgres"
    made_sign = "PG_VERSION"
    stop_signal = signal.SIGINT

    def _owner(self) -> pwd.struct_passwd:
        if self._private:
            return pwd.getpwnam(_SYSTEM_USER)
        return system_user(_RECORDS_USER, _SYSTEM_USER)

    def _initialise(self, folder: Path, secret: Path) -> None:
        self._initialised(
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
            secret,
        )

    def _command(self, settings: Mapping[str, str]) -> list[str]:
        given = {
            "listen_addresses": "" if self._private else "127.0.0.1",
            "port": str(self.port),
            "unix_socket_directories": str(self.socket_folder or ""),
            **settings,
        }
        arguments = [part for name, value in given.items() for part in ("-c", f"{name}={value}")]
        return [str(binaries() / "postgres"), "-D", str(self.folder), *arguments]

    def _answers(self) -> bool:
        asked = [
            str(binaries() / "pg_isready"),
            "-q",
            "-h",
            self._host,
            "-p",
            str(self.port),
            "-t",
            "3",
        ]
        return subprocess.run(asked, timeout=_ASKED_S).returncode == 0

    @property
    def _host(self) -> str:
        return str(self.socket_folder) if self.socket_folder else "127.0.0.1"

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

    def address_of(self, database: str, user: RunUser) -> str:
        """The same as a run's user, for processes that have no network."""
        return (
            f"host={_quoted(self._host)} port={self.port} dbname={database} user={user.name} "
            f"password={user.password}"
        )

    def databases(self) -> set[str]:
        """Names of its databases."""
        import psycopg

        with psycopg.connect(self.maintenance) as server:
            rows = server.execute("SELECT datname FROM pg_database").fetchall()
        return {str(row[0]) for row in rows}
