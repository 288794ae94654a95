"""A MariaDB server that is Ivrell's own, for lanes, in a folder of its own."""

import pwd
import shutil
import subprocess
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path

from sqlalchemy.engine import URL

from ivrell.core.base.errors import BadInput
from ivrell.core.records.wire import Client
from ivrell.core.servers.dialects.address import Address
from ivrell.core.servers.dialects.base import Ask
from ivrell.core.servers.dialects.session import ask_of, opened
from ivrell.core.servers.private import PrivateServer, system_user
from ivrell.core.servers.run_users import RunUser, forsaken

SETTINGS = {
    "innodb-buffer-pool-size": "512M",
    "innodb-buffer-pool-load-at-startup": "0",
    "innodb-buffer-pool-dump-at-shutdown": "0",
    "innodb-log-file-size": "1G",
    "innodb-stats-auto-recalc": "0",
    "tmp-table-size": "64M",
    "max-heap-table-size": "64M",
    "sort-buffer-size": "64M",
    "max-connections": "40",
    "event-scheduler": "DISABLED",
    "performance-schema": "0",
    "skip-log-bin": "",
    "character-set-server": "utf8mb4",
    "collation-server": "utf8mb4_nopad_bin",
}
"""Settings of the private server that approaches are measured on, as near to those of PostgreSQL's
as there are such. Nothing in it works unasked."""

INSTALL = "apt-get install mariadb-server-core mariadb-client-core"
_SYSTEM_USER = "ivrell-mariadb"
_OTHERWISE = "nobody"
_USERS = "ivrell-users.sql"
_SOCKET = "socket"
_FILL_ROWS = 480
_FILL = (
    "CREATE TEMPORARY TABLE ivrell_fill (filling LONGBLOB) ENGINE=InnoDB",
    f"INSERT INTO ivrell_fill SELECT repeat('x', 1048000) FROM seq_1_to_{_FILL_ROWS}",
    "DROP TEMPORARY TABLE ivrell_fill",
)
"""Touches the whole buffer pool once: else what a run reads first would be taken for memory that
the run needs, since the server takes the pool's memory from the system as it fills."""


def programs() -> tuple[str, str]:
    """The server, and what makes its folder. Raises BadInput where they are not installed."""
    folders = "/usr/sbin:/usr/bin:/usr/local/sbin:/usr/local/bin:/usr/libexec"
    server = shutil.which("mariadbd", path=folders)
    maker = shutil.which("mariadb-install-db", path=folders)
    if not server or not maker or not shutil.which("my_print_defaults", path=folders):
        raise BadInput(
            "MariaDB's server programs are not installed.",
            hint=f"Install them: {INSTALL}",
        )
    return server, maker


@lru_cache(maxsize=1)
def server_version() -> str | None:
    """Version of the installed server, or None when there is none."""
    try:
        told = subprocess.run(
            [programs()[0], "--version"], capture_output=True, text=True, check=True, timeout=30
        ).stdout
    except (BadInput, OSError, subprocess.SubprocessError):
        return None
    return told.split("Ver", 1)[-1].split()[0].split("-")[0]


class MariaServer(PrivateServer):
    """A private MariaDB server; its users are the server's own and one for each run, and nobody
    without a password."""

    product = "MariaDB"
    program = "mariadbd"
    made_sign = "data/mysql"
    # Memory of a statement goes back to the system with it: kept for the next one, it would be
    # seen in the first run that needs it, and in no other.
    variables = {"MALLOC_MMAP_THRESHOLD_": "131072", "MALLOC_TRIM_THRESHOLD_": "131072"}

    def __init__(self, folder: Path) -> None:
        super().__init__(folder, private=True)

    def _owner(self) -> pwd.struct_passwd:
        return system_user(_SYSTEM_USER, _OTHERWISE)

    def _initialise(self, folder: Path, secret: Path) -> None:
        command = [
            programs()[1],
            "--no-defaults",
            f"--datadir={folder / 'data'}",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
            "--skip-name-resolve",
        ]
        self._initialised(command, folder, secret)

    def _command(self, settings: Mapping[str, str]) -> list[str]:
        self._write_users()
        return [
            programs()[0],
            "--no-defaults",
            f"--datadir={self.folder / 'data'}",
            f"--tmpdir={self._temporary()}",
            f"--socket={self._socket}",
            f"--pid-file={self.folder / 'ivrell.pid'}",
            f"--init-file={self.folder / _USERS}",
            "--skip-networking",
            "--local-infile=1",
            *(f"--{name}={value}" if value else f"--{name}" for name, value in settings.items()),
        ]

    @property
    def _socket(self) -> str:
        return str((self.socket_folder or self.folder) / _SOCKET)

    def _temporary(self) -> Path:
        """Where it keeps temporary tables: the system's place for them is small in a sandbox, and
        kept in memory."""
        place = self.folder / "tmp"
        place.mkdir(exist_ok=True)
        self.give(place)
        return place

    def _write_users(self) -> None:
        """Leave what lets nobody in but its users, which the server reads before anybody can
        reach it."""
        host = "'localhost'"
        known = ", ".join(f"'{user}'" for user in (self.user, "mariadb.sys"))
        lines = [
            f"DELETE FROM mysql.global_priv WHERE User NOT IN ({known});",
            # Nobody's any more, and whoever has the name next would have them.
            f"DELETE FROM mysql.db WHERE User <> '{self.user}';",
            "FLUSH PRIVILEGES;",
            f"CREATE USER IF NOT EXISTS '{self.user}'@{host};",
            f"ALTER USER '{self.user}'@{host} IDENTIFIED BY '{self.password}';",
            f"GRANT ALL PRIVILEGES ON *.* TO '{self.user}'@{host} WITH GRANT OPTION;",
        ]
        path = self.folder / _USERS
        path.unlink(missing_ok=True)
        path.touch(0o600)
        path.write_text("\n".join(lines) + "\n")
        self.give(path)

    def _answers(self) -> bool:
        if not Path(self._socket).exists():
            return False
        try:
            opened(self.address.client("")).close()
        except Exception:
            # Whatever the driver calls it: there is nobody yet.
            return False
        return True

    def _begun(self) -> None:
        session = opened(self.address.client("mysql"))
        try:
            for statement in _FILL:
                ask_of(session)(statement)
        finally:
            session.close()

    def _at(self, user: str, password: str) -> Address:
        return Address(
            URL.create(
                "mariadb+mariadbconnector",
                username=user,
                password=password,
                query={"unix_socket": self._socket},
            )
        )

    @property
    def address(self) -> Address:
        """Its address as its own user's."""
        return self._at(self.user, self.password)

    def client(self, database: str, user: RunUser) -> Client:
        """How a run's user opens a session on a database."""
        return self._at(user.name, user.password).client(database)

    def make(self, ask: Ask, user: RunUser) -> None:
        """Make a run's user."""
        ask(f"CREATE USER '{user.name}'@'localhost' IDENTIFIED BY '{user.password}'")

    def admit(self, ask: Ask, database: str, user: str, *, owns: bool) -> None:
        """Let a run's user into a database: to read it, or to do with it what it likes."""
        rights = "ALL PRIVILEGES" if owns else "SELECT, CREATE TEMPORARY TABLES"
        name = "`" + database.replace("_", "\\_") + "`"
        ask(f"GRANT {rights} ON {name}.* TO '{user}'@'localhost'")

    def drop(self, ask: Ask, user: str) -> None:
        """End the sessions of a run's user, and drop it with its rights; nothing where it is
        gone."""
        # Locked first: nobody comes in meanwhile.
        ask(f"ALTER USER IF EXISTS '{user}'@'localhost' ACCOUNT LOCK")
        ask(f"KILL USER '{user}'@'localhost'")
        ask(f"DROP USER IF EXISTS '{user}'@'localhost'")

    def sweep(self, ask: Ask) -> None:
        """Drop users and copies of runs that nobody ended."""
        for (name,) in ask("SHOW DATABASES"):
            if forsaken([name]):
                ask(f"DROP DATABASE `{name}`")
        for user in forsaken(row[0] for row in ask("SELECT User FROM mysql.global_priv")):
            self.drop(ask, user)
