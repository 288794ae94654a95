"""PostgreSQL servers of the user's own, which lanes may ask for by name."""

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg
from psycopg.conninfo import conninfo_to_dict, make_conninfo

from ivrell.core.cluster import MAINTENANCE
from ivrell.core.errors import BadInput
from ivrell.core.folders import data_folder
from ivrell.core.registered import Registered

_CONNECT_S = 5
_HERE = ("", "localhost", "127.0.0.1", "::1")
ELSEWHERE = "the server's share cannot be seen from here: it runs elsewhere, or as another user"


@dataclass(frozen=True)
class Server:
    """A server as it was found when last looked at; its address without a password.

    ``main_process`` is its first process where it runs on this machine and can be seen;
    ``problem`` says why it cannot be used, "" when it can.
    """

    name: str
    address: str
    version: str = ""
    main_process: int | None = None
    problem: str = ""


class OwnServer:
    """A running server that Ivrell neither starts nor stops; see Cluster for what it stands for."""

    socket_folder = None

    def __init__(self, conninfo: str, main_process: int | None) -> None:
        self._conninfo = conninfo
        self.pid = main_process

    def address(self, database: str) -> str:
        """Connection string of one of its databases."""
        return make_conninfo(self._conninfo, dbname=database)

    @property
    def maintenance(self) -> str:
        """Connection string of the database that every server has."""
        return self.address(MAINTENANCE)

    def socket_address(self, database: str, role: str) -> str:
        """The same for a lane: on a server of the user's own it is who the address says."""
        return self.address(database)

    def databases(self) -> set[str]:
        """Names of its databases."""
        with psycopg.connect(self.maintenance) as server:
            rows = server.execute("SELECT datname FROM pg_database").fetchall()
        return {str(row[0]) for row in rows}


def look_at(name: str, conninfo: str) -> Server:
    """What a server says of itself."""
    try:
        told = {key: value for key, value in conninfo_to_dict(conninfo).items() if value}
    except psycopg.ProgrammingError as error:
        return Server(name, "", problem=f"that is no connection string: {error}")
    shown = " ".join(f"{key}={value}" for key, value in told.items() if key != "password")
    try:
        with psycopg.connect(conninfo, connect_timeout=_CONNECT_S, dbname=MAINTENANCE) as server:
            version = server.execute("SHOW server_version").fetchone()
            may = server.execute(
                "SELECT rolcreatedb OR rolsuper FROM pg_roles WHERE rolname = current_user"
            ).fetchone()
            process = _main_process(server) if str(told.get("host", "")) in _HERE else None
            if str(told.get("host", "")).startswith("/"):
                process = _main_process(server)
    except psycopg.Error as error:
        return Server(name, shown, problem=str(error).strip().splitlines()[0])
    if not may or not may[0]:
        return Server(name, shown, problem="its user may not create databases")
    return Server(name, shown, str(version[0]) if version else "", process)


def _main_process(server: "psycopg.Connection[Any]") -> int | None:
    """Pid of the server's first process, where its folder can be read."""
    try:
        row = server.execute("SHOW data_directory").fetchone()
        pid = int((Path(str(row[0] if row else "")) / "postmaster.pid").read_text().split()[0])
    except (psycopg.Error, OSError, ValueError, IndexError):
        return None
    return pid if Path(f"/proc/{pid}").exists() else None


class Servers:
    """The servers registered on this machine, kept in Ivrell's data folder for its user alone."""

    def __init__(self, folder: Path | None = None) -> None:
        self._kept = Registered(
            (folder or data_folder()) / "servers.json",
            what="server",
            asked_as="at",
            put_as="./ivrell servers --add NAME ADDRESS",
        )

    def all(self) -> list[Server]:
        """Every one, looked at now."""
        return [look_at(name, conninfo) for name, conninfo in self._kept.all().items()]

    def add(self, name: str, conninfo: str) -> Server:
        """Register a server. Raises BadInput when it cannot be used."""
        self._kept.check_name(name)
        found = look_at(name, conninfo)
        if found.problem:
            raise BadInput(
                f"The server cannot be used: {found.problem}.",
                where="address",
                hint="Give a connection string of a user that may create databases, such as "
                "host=db.example port=5432 user=ivrell password=...",
            )
        self._kept.put(name, conninfo)
        return found

    def remove(self, name: str) -> None:
        """Forget one. Raises BadInput when there is none of that name."""
        self._kept.remove(name)

    def get(self, name: str) -> OwnServer:
        """The one of that name. Raises BadInput where there is none, or it cannot be used."""
        conninfo = self._kept.get(name)
        found = look_at(name, conninfo)
        if found.problem:
            raise BadInput(f"The server {name} cannot be used: {found.problem}.", where="at")
        return OwnServer(conninfo, found.main_process)
