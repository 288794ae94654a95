"""Database servers of the user's own, which lanes may ask for by name."""

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg
from psycopg.conninfo import conninfo_to_dict, make_conninfo

from ivrell.core.base.errors import BadInput
from ivrell.core.base.folders import data_folder
from ivrell.core.base.name_registry import Registered
from ivrell.core.records.wire import Client
from ivrell.core.servers.dialects import address as addresses
from ivrell.core.servers.dialects.address import Address
from ivrell.core.servers.dialects.mariadb import MariaDb, MySql
from ivrell.core.servers.dialects.session import ask_of, opened
from ivrell.core.servers.postgresql import MAINTENANCE

_CONNECT_S = 5
_HERE = ("", "localhost", "127.0.0.1", "::1")
_LIBPQ = ("postgresql://", "postgres://")
"""URLs that PostgreSQL's own client reads too."""

_PASSWORD_FROM = "\npassword-from="
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

    def databases(self) -> set[str]:
        """Names of its databases."""
        with psycopg.connect(self.maintenance) as server:
            rows = server.execute("SELECT datname FROM pg_database").fetchall()
        return {str(row[0]) for row in rows}


class UrlServer:
    """A running server that is reached by its URL."""

    socket_folder = None

    def __init__(self, address: Address, main_process: int | None) -> None:
        self.address = address
        self.pid = main_process

    def client(self, database: str) -> Client:
        """How a lane opens a session on a database: as whoever the address says."""
        return self.address.client(database)


def look_at(name: str, kept: str) -> Server:
    """What a server says of itself, by what is kept of it."""
    text, password_from = _parted(kept)
    if addresses.is_url(text) and not text.startswith(_LIBPQ):
        return _look_by_url(name, text, password_from)
    try:
        return _look_by_libpq(name, _with_password(text, password_from))
    except BadInput as error:
        return Server(name, text, problem=error.what.rstrip("."))


def _look_by_url(name: str, text: str, password_from: str) -> Server:
    try:
        address = addresses.read(text, password_from)
        session = opened(address.client(address.dialect.maintenance))
    except BadInput as error:
        return Server(name, addresses.shown(text), problem=error.what.rstrip("."))
    except Exception as error:
        # Each driver has errors of its own.
        said = str(error).strip().splitlines() or [type(error).__name__]
        return Server(name, addresses.shown(text), problem=said[0])
    ask = ask_of(session)
    here = (address.url.host or "") in _HERE
    try:
        version = address.dialect.version(ask)
        process = _process_in(address.dialect.process_file(ask)) if here else None
    except Exception as error:
        return Server(name, address.shown, problem=str(error).strip().splitlines()[0])
    finally:
        session.close()
    product = address.dialect.product or address.url.get_backend_name()
    return Server(name, address.shown, f"{product} {version}", process)


def _process_in(path: str) -> int | None:
    """The process whose number stands first in a file, where that can be read."""
    try:
        pid = int(Path(path).read_text().split()[0])
    except (OSError, ValueError, IndexError):
        return None
    return pid if Path(f"/proc/{pid}").exists() else None


def _parted(kept: str) -> tuple[str, str]:
    """An address, and the reference to its password."""
    text, _, reference = kept.partition(_PASSWORD_FROM)
    return text, reference


def _with_password(conninfo: str, password_from: str) -> str:
    if not password_from:
        return conninfo
    try:
        return make_conninfo(conninfo, password=addresses.secret(password_from))
    except psycopg.ProgrammingError:
        return conninfo


def _look_by_libpq(name: str, conninfo: str) -> Server:
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
    return Server(name, shown, f"PostgreSQL {version[0]}" if version else "", process)


def _main_process(server: "psycopg.Connection[Any]") -> int | None:
    """Pid of the server's first process, where its folder can be read."""
    try:
        row = server.execute("SHOW data_directory").fetchone()
    except psycopg.Error:
        return None
    return _process_in(f"{row[0] if row else ''}/postmaster.pid")


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
        return [look_at(name, kept) for name, kept in self._kept.all().items()]

    def add(self, name: str, address: str, password_from: str = "") -> Server:
        """Register a server by its connection string or URL; ``password_from`` tells where its
        password stands, see addresses.secret. Raises BadInput when it cannot be used."""
        self._kept.check_name(name)
        addresses.without_password(address)
        kept = f"{address}{_PASSWORD_FROM}{password_from}" if password_from else address
        found = look_at(name, kept)
        if MariaDb.product in found.version and address.startswith(MySql.name):
            # Reached as the one that it is like: it has other variables and plans.
            kept = MariaDb.name + kept.removeprefix(MySql.name)
            found = look_at(name, kept)
        if found.problem:
            raise BadInput(
                f"The server cannot be used: {found.problem}.",
                where="address",
                hint="Give the address of a user that may create databases, such as "
                "mariadb://ivrell@db.example:3306 or postgresql://ivrell@db.example:5432, and "
                "where its password stands.",
            )
        self._kept.put(name, kept)
        return found

    def remove(self, name: str) -> None:
        """Forget one. Raises BadInput when there is none of that name."""
        self._kept.remove(name)

    def postgres(self, name: str) -> OwnServer:
        """The PostgreSQL server of that name. Raises BadInput where there is none, it cannot be
        used, or is registered by a URL that PostgreSQL's own client does not read."""
        kept, found = self._usable(name)
        text, password_from = _parted(kept)
        if addresses.is_url(text) and not text.startswith(_LIBPQ):
            raise BadInput(
                f"The server {name} is no PostgreSQL server, or asks for another driver.",
                where="at",
                hint='Write the lane for the engine "sql", which takes any server.',
            )
        return OwnServer(_with_password(text, password_from), found.main_process)

    def by_url(self, name: str, engine: str) -> UrlServer:
        """The server of that name that is registered by its URL, for lanes of an engine. Raises
        BadInput where there is none, it cannot be used, or is another than the engine's."""
        kept, found = self._usable(name)
        text, password_from = _parted(kept)
        if not addresses.is_url(text):
            raise BadInput(
                f"The server {name} is registered by a connection string of PostgreSQL.",
                where="at",
                hint='Write the lane for the engine "postgres", or register the server by its URL.',
            )
        address = addresses.read(text, password_from)
        if engine != "sql" and not isinstance(address.dialect, MariaDb):
            raise BadInput(
                f"The server {name} is no MariaDB server.",
                where="at",
                hint='Write the lane for the engine "sql", in the dialect of that server.',
            )
        return UrlServer(address, found.main_process)

    def _usable(self, name: str) -> tuple[str, Server]:
        kept = self._kept.get(name)
        found = look_at(name, kept)
        if found.problem:
            raise BadInput(f"The server {name} cannot be used: {found.problem}.", where="at")
        return kept, found
