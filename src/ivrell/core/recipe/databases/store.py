"""Loaded databases, kept so that tables are loaded once and not before every run."""

import hashlib
import json
import os
import shutil
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

import pyarrow as pa

from ivrell.core.base.errors import BadInput, Stopped
from ivrell.core.base.locks import alone, not_in_use
from ivrell.core.base.waits import WantedStop, done_aside, never
from ivrell.core.recipe.databases import DATABASES, Loader, roles
from ivrell.core.recipe.databases.base import Columns, columns_of
from ivrell.core.recipe.databases.ended import private_servers
from ivrell.core.recipe.databases.homes import FileHome, Home, ServerHome
from ivrell.core.recipe.databases.server_home import UrlHome
from ivrell.core.recipe.flat import flat, flat_schema
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.keeping import Entry, Keeping
from ivrell.core.recipe.making import Progress
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe
from ivrell.core.records.data import MadeTable
from ivrell.core.records.wire import DatabasePlace
from ivrell.core.servers.dialects.session import ask_of, opened
from ivrell.core.servers.mariadb import SETTINGS, MariaServer
from ivrell.core.servers.own import OwnServer, UrlServer
from ivrell.core.servers.postgresql import Cluster

_ENDS_S = 2.0
CLUSTER_SETTINGS = {
    "shared_buffers": "512MB",
    "work_mem": "64MB",
    "maintenance_work_mem": "256MB",
    "autovacuum": "off",
    "wal_level": "minimal",
    "max_wal_senders": "0",
    "max_wal_size": "8GB",
    "checkpoint_timeout": "1h",
    "max_connections": "40",
    "max_prepared_transactions": "0",
}
"""Settings of the private cluster that approaches are measured on. Nothing in it works unasked:
no autovacuum, and no checkpoint but where so much was written that one is due."""


@dataclass(frozen=True)
class LoadedTable:
    """One table in a database: rows, bytes with its indexes (None where the engine does not
    tell), seconds that loading took without indexes, the engine's type of each column."""

    table: str
    rows: int
    size_bytes: int | None
    seconds: float
    types: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Loaded:
    """The tables of a recipe in an engine's database.

    ``place`` is a file, or the database's name on the private cluster; ``index_seconds`` what
    keys, indexes and statistics took.
    """

    engine: str
    place: str
    fingerprint: str
    keys: list[str]
    indexes: list[str]
    tables: list[LoadedTable]
    size_bytes: int
    index_seconds: float

    def records(self) -> list[MadeTable]:
        """The tables as made data is told."""
        return [
            MadeTable(
                **asdict(table),
                form=self.engine,
                paths=[self.place],
                fingerprint=self.fingerprint,
                index_seconds=self.index_seconds,
                keys=self.keys,
                indexes=self.indexes,
            )
            for table in self.tables
        ]


def _start_postgres(root: Path) -> Cluster:
    cluster = Cluster(root / "cluster", private=True)
    cluster.start(CLUSTER_SETTINGS)
    return cluster


def _start_mariadb(root: Path) -> MariaServer:
    server = MariaServer(root / "mariadb")
    server.start(SETTINGS)
    return server


def _make_ready(server: Cluster | MariaServer) -> None:
    """Make what lanes on a server that was started need, and drop what runs left there that
    nobody ended."""
    if isinstance(server, Cluster):
        roles.ensure(server.address)
        return
    session = opened(server.address.client("mysql"))
    try:
        server.sweep(ask_of(session))
    finally:
        session.close()


_STARTED: dict[str, Callable[[Path], Cluster | MariaServer]] = {
    "postgres": _start_postgres,
    "mariadb": _start_mariadb,
}
"""How the private server of an engine is started in a folder."""


class DatabaseStore(Keeping):
    """A folder of loaded databases; those of servers stand on private ones in it, or on a server
    that is ``given``."""

    def __init__(self, root: Path, given: OwnServer | UrlServer | None = None) -> None:
        super().__init__(root)
        self.given = given
        self._private: dict[str, Cluster | MariaServer] = {}
        self._ready: set[str] = set()
        self._homes: dict[str, Home] = {}

    def _home(self, engine: str) -> Home:
        """Where databases of an engine live. Raises BadInput for one that has none."""
        if engine not in DATABASES:
            raise BadInput(
                f'There is no database of an engine "{engine}".',
                hint=f"Engines that tables can be loaded into: {', '.join(DATABASES)}.",
            )
        if not DATABASES[engine].on_server:
            return FileHome(engine, self.root)
        if engine not in self._homes:
            server = self.server(engine)
            self._homes[engine] = (
                UrlHome(server)
                if isinstance(server, MariaServer | UrlServer)
                else ServerHome(server, self.root / "cluster", CLUSTER_SETTINGS)
            )
        return self._homes[engine]

    def given_or_refused(self, engine: str) -> None:
        """Raise BadInput where an engine has no server of its own, and none was given."""
        if not self.given and engine not in _STARTED:
            raise BadInput(
                f"A lane of {engine} names no server.",
                where="at",
                hint='Register one on the machine page, and name it: at = "its name".',
            )

    def server(self, engine: str) -> Cluster | MariaServer | OwnServer | UrlServer:
        """The server that was given, or the private one of an engine, started when first asked
        for. Raises BadInput where the engine has none of its own."""
        self.root.mkdir(parents=True, exist_ok=True)
        if self.given:
            return self.given
        self.given_or_refused(engine)
        if engine not in self._private:
            self._private[engine] = _STARTED[engine](self.root)
        if engine not in self._ready:
            # It may end meanwhile, and be started again.
            _make_ready(self._private[engine])
            self._ready.add(engine)
        return self._private[engine]

    @property
    def cluster(self) -> Cluster:
        """The private PostgreSQL cluster, started when first asked for."""
        found = self.server("postgres")
        assert isinstance(found, Cluster)
        return found

    def revive(self) -> bool:
        """Start private servers again that ended unasked; whether one had. Raises BadInput."""
        deadline = time.monotonic() + _ENDS_S
        # Its sandbox ends a moment after the server in it.
        while not (ended := [server for server in self._private.values() if not server.alive]):
            if time.monotonic() > deadline:
                break
            time.sleep(0.05)
        for server in ended:
            server.again()
        return bool(ended)

    def stop(self) -> None:
        """Use the private servers no more, if this store did; the last to use one ends it."""
        for home in self._homes.values():
            home.close()
        for server in self._private.values():
            server.stop()
        self._private.clear()
        self._ready.clear()
        self._homes.clear()

    def ensure(
        self,
        recipe: Recipe,
        engine: str,
        *,
        keys: Sequence[str] = (),
        indexes: Sequence[str] = (),
        progress: Progress | None = None,
        stopped: Callable[[], bool] | None = None,
    ) -> Loaded:
        """The tables of a resolved recipe in a database of an engine, loaded unless they are.

        ``keys`` and ``indexes`` name columns as in ``passages(lock)``; each table can have
        one key. Raises BadInput where they name nothing, or a key's values repeat; Stopped
        when ``stopped`` says so, leaving nothing that looks finished.
        """
        generator = Generator(recipe)
        schemas = {table: generator.schema(table) for table in recipe.tables}
        declared_keys = [columns_of(key, schemas, "keys") for key in keys]
        declared = [columns_of(index, schemas, "indexes") for index in indexes]
        fingerprint = _fingerprint(recipe, engine, keys, indexes)
        record = self.root / f"{engine}-{fingerprint[:24]}.json"
        if loaded := self._known(record):
            os.utime(record)
            return loaded
        self.root.mkdir(parents=True, exist_ok=True)
        with alone(record.with_suffix(".lock"), stopped):
            if loaded := self._known(record):
                return loaded
            return self._make(
                recipe, engine, keys, indexes, declared_keys, declared, generator, record,
                fingerprint, progress, stopped,
            )  # fmt: skip

    def _make(
        self,
        recipe: Recipe,
        engine: str,
        keys: Sequence[str],
        indexes: Sequence[str],
        declared_keys: Sequence[Columns],
        declared: Sequence[Columns],
        generator: Generator,
        record: Path,
        fingerprint: str,
        progress: Progress | None,
        stopped: Callable[[], bool] | None,
    ) -> Loaded:
        schemas = {table: flat_schema(generator.schema(table)) for table in recipe.tables}
        home = self._home(engine)
        place = home.place(fingerprint)
        loader = home.loader(place)
        try:
            seconds = {
                table: self._load(loader, generator, table, schemas[table], progress, stopped)
                for table in recipe.tables
            }
            began = time.monotonic()
            steps: list[Callable[[], None]] = [
                partial(self._add_key, loader, key) for key in declared_keys
            ]
            steps += [partial(loader.add_index, one, n) for n, one in enumerate(declared, 1)]
            for step in [*steps, loader.analyse]:
                done_aside(step, f"tables into {engine}", stopped or never, loader.interrupt)
            loader.hand_over(list(recipe.tables))
            index_seconds = time.monotonic() - began
            sizes = loader.sizes(list(recipe.tables))
            total = loader.total()
            loader.finish(Path(place))
        except BaseException:
            loader.discard()
            raise
        loaded = Loaded(
            engine,
            place,
            fingerprint,
            list(keys),
            list(indexes),
            [
                LoadedTable(
                    table,
                    recipe.rows_of(table),
                    sizes[table],
                    seconds[table],
                    loader.typed[table],
                )
                for table in recipe.tables
            ],
            total,
            index_seconds,
        )
        temporary = record.with_suffix(".tmp")
        temporary.write_text(json.dumps(asdict(loaded)))
        temporary.replace(record)
        return loaded

    def _load(
        self,
        loader: Loader,
        generator: Generator,
        table: str,
        schema: pa.Schema,
        progress: Progress | None,
        stopped: Callable[[], bool] | None,
    ) -> float:
        began = time.monotonic()
        rows = generator.recipe.rows_of(table)
        tell = partial(progress, table, loader.engine) if progress else None

        def blocks() -> Iterator[pa.RecordBatch]:
            for index, block in enumerate(generator.read(table)):
                if stopped and stopped():
                    raise Stopped(f"{table} into {loader.engine}")
                if block.num_rows:
                    yield flat(block)
                if tell:
                    tell(min((index + 1) * BLOCK_ROWS, rows), rows)

        loader.create(table, schema)
        loader.load(table, schema, blocks())
        return time.monotonic() - began

    def _add_key(self, loader: Loader, key: Any) -> None:
        try:
            loader.add_key(key)
        except Exception as error:
            said = str(error).strip().splitlines()[0]
            raise BadInput(
                f"{key.table}({', '.join(key.names)}) cannot be a key: {said}.",
                where="keys",
                hint="Take columns whose values are unique, and never null.",
            ) from error

    def _known(self, record: Path) -> Loaded | None:
        """What a record tells of, when the database is still there."""
        try:
            loaded = _loaded(json.loads(record.read_text()))
        except (OSError, ValueError, TypeError, KeyError):
            return None
        return loaded if self._home(loaded.engine).holds(loaded.place) else None

    def for_run(
        self,
        loaded: Loaded,
        number: int,
        folder: Path,
        writes: bool,
        cache: str,
        wanted_stop: WantedStop = never,
    ) -> DatabasePlace:
        """Where one run finds the tables: the loaded ones, or a copy of its own where it
        writes. They are brought into the asked state of the cache. Raises Stopped when
        ``wanted_stop`` says so meanwhile."""
        return self._home(loaded.engine).for_run(
            loaded.place, number, folder, writes=writes, cache=cache, wanted_stop=wanted_stop
        )

    def restore(
        self, loaded: Loaded, database: DatabasePlace, wanted_stop: WantedStop = never
    ) -> None:
        """Put a run's own tables on a server back to what they were, and into its buffers. Raises
        Stopped when ``wanted_stop`` says so meanwhile."""
        self._home(loaded.engine).restore(loaded.place, database, wanted_stop)

    def after_run(
        self, loaded: Loaded, database: DatabasePlace, writes: bool, sessions: Sequence[int] = ()
    ) -> None:
        """Remove the copy and the user that a run on a server had, and end its sessions."""
        try:
            self._home(loaded.engine).after_run(database, writes=writes, sessions=sessions)
        except Exception:
            server = self._private.get(loaded.engine)
            if server is None or server.alive:
                raise
            # It ended with the run; what the run had there is dropped at a later start.

    def sessions(self, loaded: Loaded, database: DatabasePlace) -> int:
        """Sessions on a run's database."""
        return self._home(loaded.engine).sessions(database)

    def _records(self) -> Iterator[tuple[Path, Loaded]]:
        for record in sorted(self.root.glob("*-*.json")):
            yield record, _loaded(json.loads(record.read_text()))

    def kept(self) -> list[Loaded]:
        """Everything loaded that a record tells of."""
        return [loaded for _, loaded in self._records()]

    def entries(self) -> list[Entry]:
        return [
            Entry(loaded.size_bytes, record.stat().st_mtime, partial(self._remove, record, loaded))
            for record, loaded in self._records()
        ]

    def _remove(self, record: Path, loaded: Loaded) -> None:
        self._home(loaded.engine).remove(loaded.place)
        record.unlink()

    def clear(self) -> int:
        """Remove all loaded databases, and the cluster with them. Returns the bytes freed. Raises
        BadInput where something uses them."""
        with not_in_use(self.root):
            freed = sum(loaded.size_bytes for loaded in self.kept())
            self.stop()
            if not self.given:
                # One that outlived its process is ended too.
                for server in private_servers(self.root):
                    server.stop()
            shutil.rmtree(self.root, ignore_errors=True)
        return freed


def _loaded(told: Mapping[str, Any]) -> Loaded:
    return Loaded(**{**told, "tables": [LoadedTable(**table) for table in told["tables"]]})


def _fingerprint(recipe: Recipe, engine: str, keys: Sequence[str], indexes: Sequence[str]) -> str:
    told: dict[str, Any] = {
        "engine": engine,
        "tables": {table: recipe.fingerprint(table) for table in recipe.tables},
        "keys": list(keys),
        "indexes": list(indexes),
    }
    if engine in DATABASES and DATABASES[engine].on_server:
        told["roles"] = ServerHome.shape
    return hashlib.sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()
