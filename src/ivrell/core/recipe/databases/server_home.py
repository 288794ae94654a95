"""Databases on a server that is reached by its driver alone: the private MariaDB, or one that is
registered by its URL."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from ivrell.core.base.errors import BadInput
from ivrell.core.base.waits import WantedStop, done_aside, never
from ivrell.core.recipe.databases.base import Loader
from ivrell.core.recipe.databases.homes import Home, cold_refused
from ivrell.core.recipe.databases.sql import MariaDbLoader, SqlLoader
from ivrell.core.records.wire import DatabasePlace
from ivrell.core.servers.dialects.base import Ask
from ivrell.core.servers.dialects.session import ask_of, opened
from ivrell.core.servers.mariadb import SETTINGS, MariaServer
from ivrell.core.servers.own import UrlServer
from ivrell.core.servers.run_users import new_user


class UrlHome(Home):
    """One database for each fingerprint; lanes that write have a copy."""

    def __init__(self, server: MariaServer | UrlServer) -> None:
        self._server = server
        self._dialect = server.address.dialect
        self._warmed: dict[str, tuple[float, ...]] = {}

    @property
    def _own(self) -> bool:
        return isinstance(self._server, UrlServer)

    def place(self, fingerprint: str) -> str:
        return f"ivrell_{fingerprint[:24]}"

    def loader(self, place: str) -> Loader:
        made_by = SqlLoader if self._own else MariaDbLoader
        return made_by(Path(place), self._server.address)

    def holds(self, place: str) -> bool:
        with self._asking() as ask:
            return place in {str(row[0]) for row in ask(self._dialect.databases)}

    def remove(self, place: str) -> None:
        with self._asking() as ask:
            self._dialect.drop(ask, place)

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
        if writes and not self._dialect.copies:
            raise BadInput(
                f"Ivrell does not know how a database of {self._dialect.product} is copied.",
                where="writes",
                hint="Let the lane read only, or write in temporary tables.",
            )
        user = new_user()
        name = user.name if writes else place
        if writes:
            self._copy(place, name, wanted_stop)
        self._set_cache(name, cache)
        if isinstance(self._server, UrlServer):
            return DatabasePlace(name=name, shared=True, client=self._server.client(name))
        with self._asking() as ask:
            self._server.make(ask, user)
            self._server.admit(ask, name, user.name, owns=writes)
        return DatabasePlace(name=name, user=user.name, client=self._server.client(name, user))

    def restore(self, place: str, database: DatabasePlace, wanted_stop: WantedStop = never) -> None:
        # Rights to a database stay when it is dropped.
        self._copy(place, database.name, wanted_stop)
        self._set_cache(database.name, "warm")

    def after_run(
        self, database: DatabasePlace, *, writes: bool, sessions: Sequence[int] = ()
    ) -> None:
        with self._asking() as ask:
            if isinstance(self._server, MariaServer):
                self._server.drop(ask, database.user)
            else:
                for number in sessions:
                    self._dialect.end_session(ask, number, database.name)
            if writes:
                self._dialect.drop(ask, database.name)

    def sessions(self, database: DatabasePlace) -> int:
        with self._asking() as ask:
            return self._dialect.sessions(ask, database.name)

    def _copy(self, place: str, name: str, wanted_stop: WantedStop) -> None:
        with self._asking() as ask:
            number = int(ask(asked)[0][0]) if (asked := self._dialect.session()) else None

            def making() -> None:
                self._dialect.drop(ask, name)
                self._dialect.copy(ask, place, name, self._tables(ask, place))

            def interrupt() -> None:
                if number is not None and isinstance(self._server, MariaServer):
                    with self._asking() as other:
                        other(f"KILL QUERY {number}")

            done_aside(making, "a copy of the tables", wanted_stop, interrupt)

    def _tables(self, ask: Ask, place: str) -> list[str]:
        rows = ask(
            "SELECT table_name FROM information_schema.tables "
            f"WHERE table_schema = '{place}' ORDER BY table_name"
        )
        return [str(row[0]) for row in rows]

    def _set_cache(self, name: str, state: str) -> None:
        if state == "cold":
            if not isinstance(self._server, MariaServer):
                raise cold_refused()
            self._warmed.clear()
            # Its files go round the system's own cache.
            self._server.restart(lambda: None, SETTINGS)
            return
        with self._asking() as ask:
            # What is in the server's memory stays there until something else comes in.
            if self._warmed.get(name) != self._dialect.came_in(ask):
                self._dialect.warm(ask, name, self._tables(ask, name))
                self._warmed[name] = self._dialect.came_in(ask)

    @contextmanager
    def _asking(self) -> Iterator[Ask]:
        session = opened(self._server.address.client(self._dialect.maintenance))
        try:
            yield ask_of(session)
        finally:
            session.close()
