"""Where loaded tables live: in a file, or on a server; what a run finds of them there."""

import shutil
from abc import ABC, abstractmethod
from collections.abc import Sequence
from functools import partial
from pathlib import Path

import psycopg

from ivrell.core.base.errors import BadInput
from ivrell.core.base.waits import WantedStop, done_aside, never
from ivrell.core.measure.cache import evict, warm
from ivrell.core.recipe.databases import DATABASES, roles
from ivrell.core.recipe.databases.base import Loader
from ivrell.core.recipe.databases.postgres import PostgresLoader
from ivrell.core.records.wire import DatabasePlace
from ivrell.core.servers.own import OwnServer
from ivrell.core.servers.postgresql import Cluster
from ivrell.core.servers.run_users import new_user

Server = Cluster | OwnServer
_CANCEL_S = 5


def cold_refused() -> BadInput:
    """What is said where the buffers of a server of the user's own would have to be emptied."""
    return BadInput(
        "The buffers of a server of your own are not emptied: that would restart it.",
        where="cache",
        hint="Leave the cache warm, or let the lane use the private server.",
    )


class Home(ABC):
    """Where the databases of one engine live."""

    @abstractmethod
    def place(self, fingerprint: str) -> str:
        """Where the database of a fingerprint is to be."""

    @abstractmethod
    def loader(self, place: str) -> Loader:
        """What makes a database there, beside its final place at first."""

    @abstractmethod
    def holds(self, place: str) -> bool:
        """Whether a database is there."""

    @abstractmethod
    def remove(self, place: str) -> None:
        """Remove the database there."""

    @abstractmethod
    def for_run(
        self,
        place: str,
        number: int,
        folder: Path,
        *,
        writes: bool,
        cache: str,
        wanted_stop: WantedStop = never,
    ) -> DatabasePlace:
        """Where the run of that number finds the tables: the loaded ones, or a copy of its own
        where it writes, brought into the asked state of the cache. Raises Stopped when
        ``wanted_stop`` says so meanwhile."""

    @abstractmethod
    def restore(self, place: str, database: DatabasePlace, wanted_stop: WantedStop = never) -> None:
        """Put a run's own tables back to what they were. Raises Stopped."""

    @abstractmethod
    def after_run(
        self, database: DatabasePlace, *, writes: bool, sessions: Sequence[int] = ()
    ) -> None:
        """Remove the copy that a run had, and end its sessions where it left them behind: a
        server goes on with a statement whose client is gone."""

    def sessions(self, database: DatabasePlace) -> int:
        """Sessions on a run's database."""
        return 0

    def close(self) -> None:
        """Let go of the server."""
        return


class FileHome(Home):
    """Databases that are files, which go with the folder that they lie in."""

    def __init__(self, engine: str, folder: Path) -> None:
        self._engine = engine
        self._folder = folder

    def place(self, fingerprint: str) -> str:
        return str(self._folder / f"{fingerprint[:24]}.{self._engine}")

    def loader(self, place: str) -> Loader:
        half = Path(f"{place}_half")
        half.unlink(missing_ok=True)
        return DATABASES[self._engine](half)

    def holds(self, place: str) -> bool:
        return Path(place).exists()

    def remove(self, place: str) -> None:
        Path(place).unlink(missing_ok=True)

    def for_run(
        self,
        place: str,
        number: int,
        folder: Path,
        *,
        writes: bool,
        cache: str,
        wanted_stop: WantedStop = never,
    ) -> DatabasePlace:
        database = DatabasePlace(file=place)
        if writes:
            copy = folder / f".job-{Path(place).name}"
            shutil.copyfile(place, copy)
            database = DatabasePlace(file=str(copy), pristine=place)
        (evict if cache == "cold" else warm)(Path(database.file))
        return database

    def restore(self, place: str, database: DatabasePlace, wanted_stop: WantedStop = never) -> None:
        """A run puts its file back itself."""

    def after_run(
        self, database: DatabasePlace, *, writes: bool, sessions: Sequence[int] = ()
    ) -> None:
        """The copy goes with the run's folder."""


class ServerHome(Home):
    """Databases on a PostgreSQL server: the private cluster, or one of the user's own."""

    # Raised where databases that were loaded before are of no use any more: their tables would be
    # nobody's to read.
    shape = 2

    def __init__(self, server: Server, folder: Path, settings: dict[str, str]) -> None:
        self._server = server
        self._folder = folder
        self._settings = settings
        self._kept: roles.Session | None = None

    @property
    def _session(self) -> roles.Session:
        """A session on the server's maintenance database, kept from run to run: opening one takes
        longer than what is asked in it."""
        if self._kept is not None:
            try:
                self._kept.execute("SELECT 1")
            except psycopg.OperationalError:
                # The server was started again meanwhile.
                self.close()
        if self._kept is None:
            self._kept = roles.opened(self._server.maintenance)
        return self._kept

    def close(self) -> None:
        if self._kept is not None:
            self._kept.close()
            self._kept = None

    @property
    def _own(self) -> bool:
        return isinstance(self._server, OwnServer)

    def place(self, fingerprint: str) -> str:
        return f"ivrell_{fingerprint[:24]}"

    def loader(self, place: str) -> Loader:
        half, address = Path(f"{place}_half"), self._server.maintenance
        return PostgresLoader(half, address, with_roles=not self._own)

    def holds(self, place: str) -> bool:
        return place in self._server.databases()

    def remove(self, place: str) -> None:
        self._serve(f'DROP DATABASE IF EXISTS "{place}" WITH (FORCE)')

    def for_run(
        self,
        place: str,
        number: int,
        folder: Path,
        *,
        writes: bool,
        cache: str,
        wanted_stop: WantedStop = never,
    ) -> DatabasePlace:
        user = new_user()
        name = user.name if writes else place
        if writes:
            self._copy(place, name, wanted_stop)
        self._set_cache(name, cache)
        # Asked last: a server that was restarted listens elsewhere.
        address = self._server.address(name)
        if isinstance(self._server, OwnServer):
            return DatabasePlace(name=name, address=address, shared=True)
        roles.make(self._session, user)
        self._admit(name, user.name, owns=writes)
        return DatabasePlace(name=name, address=self._server.address_of(name, user), user=user.name)

    def restore(self, place: str, database: DatabasePlace, wanted_stop: WantedStop = never) -> None:
        self.remove(database.name)
        self._copy(place, database.name, wanted_stop)
        if database.user:
            self._admit(database.name, database.user, owns=True)
        self._set_cache(database.name, "warm")

    def after_run(
        self, database: DatabasePlace, *, writes: bool, sessions: Sequence[int] = ()
    ) -> None:
        for number in sessions if self._own else ():
            self._serve(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
                f"WHERE pid = {number} AND datname = '{database.name}'"
            )
        if writes:
            self.remove(database.name)
        if database.user:
            roles.drop(self._session, database.user, self._server.address)

    def _copy(self, place: str, name: str, wanted_stop: WantedStop) -> None:
        session = self._session
        making = partial(session.execute, f'CREATE DATABASE "{name}" TEMPLATE "{place}"')
        interrupt = partial(session.cancel_safe, timeout=_CANCEL_S)
        done_aside(making, "a copy of the tables", wanted_stop, interrupt)

    def _admit(self, database: str, role: str, *, owns: bool) -> None:
        roles.admit(self._session, database, role, owns=owns)
        if owns:
            with roles.opened(self._server.address(database)) as db:
                roles.hand_on(db, role)

    def sessions(self, database: DatabasePlace) -> int:
        asked = "SELECT count(*) FROM pg_stat_activity WHERE datname = %s"
        found = self._session.execute(asked, [database.name]).fetchone()
        return int(found[0]) if found else 0

    def _set_cache(self, name: str, state: str) -> None:
        """Bring tables into the server's buffers, or out of them, for which it is restarted."""
        if state == "cold":
            if not isinstance(self._server, Cluster):
                raise cold_refused()
            self.close()
            self._server.restart(self._evict, self._settings)
            return
        with psycopg.connect(self._server.address(name), autocommit=True) as db:
            try:
                db.execute("CREATE EXTENSION IF NOT EXISTS pg_prewarm")
            except psycopg.Error:
                # A server of the user's own need not have it; a warm-up round does as much.
                return
            db.execute(
                "SELECT pg_prewarm(c.oid) FROM pg_class c JOIN pg_namespace n "
                "ON n.oid = c.relnamespace WHERE n.nspname = 'public' AND c.relkind IN ('r', 'i')"
            )

    def _evict(self) -> None:
        for path in (self._folder / "base").rglob("*"):
            if path.is_file():
                evict(path)

    def _serve(self, sql: str) -> None:
        self._session.execute(sql)
