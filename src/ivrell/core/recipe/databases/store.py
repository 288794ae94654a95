"""Loaded databases, kept so that tables are loaded once and not before every run."""

import hashlib
import json
import os
import shutil
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from functools import partial
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa

from ivrell.core.cluster import Cluster
from ivrell.core.errors import BadInput, Stopped
from ivrell.core.locks import alone, not_in_use
from ivrell.core.measure.cache import evict, warm
from ivrell.core.recipe.databases import DATABASES, Loader, roles
from ivrell.core.recipe.databases.base import Columns, columns_of
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.making import Progress
from ivrell.core.recipe.model import BLOCK_ROWS, Recipe
from ivrell.core.servers import OwnServer

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
}
"""Settings of the private cluster that approaches are measured on. Nothing in it works unasked:
no autovacuum, and no checkpoint but where so much was written that one is due."""


@dataclass(frozen=True)
class LoadedTable:
    """One table in a database: rows, bytes with its indexes (None where the engine does not
    tell), seconds that loading took without indexes."""

    table: str
    rows: int
    size_bytes: int | None
    seconds: float


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

    def as_made(self) -> list[dict[str, Any]]:
        """The tables as made data is told: one dict a table."""
        return [
            {
                "form": self.engine,
                "paths": [self.place],
                "fingerprint": self.fingerprint,
                "bytes_hash": "",
                "index_seconds": self.index_seconds,
                "keys": self.keys,
                "indexes": self.indexes,
                **asdict(table),
            }
            for table in self.tables
        ]


class DatabaseStore:
    """A folder of loaded databases; PostgreSQL's stand in a private cluster in it, or on a server
    that is ``given``."""

    def __init__(self, root: Path, given: OwnServer | None = None) -> None:
        self.root = root
        self.given = given
        self._cluster: Cluster | None = None

    @property
    def cluster(self) -> Cluster | OwnServer:
        """The server that was given, or the private cluster, started when first asked for."""
        if self.given:
            self.root.mkdir(parents=True, exist_ok=True)
            return self.given
        if self._cluster is None:
            self.root.mkdir(parents=True, exist_ok=True)
            self._cluster = self._started()
        return self._cluster

    def _started(self) -> Cluster:
        cluster = Cluster(self.root / "cluster", private=True)
        cluster.start(CLUSTER_SETTINGS)
        passwords = {role: cluster.password_of(role) for role in (roles.READER, roles.WRITER)}
        roles.ensure(cluster.address("postgres"), passwords)
        return cluster

    def revive(self) -> bool:
        """Start the private cluster again where it ended unasked; whether it had. Raises
        BadInput."""
        if self._cluster is None or self._cluster.alive:
            return False
        self._cluster.again()
        return True

    def stop(self) -> None:
        """Use the private cluster no more, if this store did; the last to use it ends it."""
        if self._cluster:
            self._cluster.stop()
            self._cluster = None

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
        schemas = {table: generator.schema(table) for table in recipe.tables}
        final = self._place(engine, fingerprint)
        loader = self._loader(engine, final.with_name(f"{final.name}_half"))
        try:
            seconds = {
                table: self._load(loader, generator, table, schemas[table], progress, stopped)
                for table in recipe.tables
            }
            began = time.monotonic()
            for key in declared_keys:
                self._add_key(loader, key)
            for number, index in enumerate(declared, 1):
                loader.add_index(index, number)
            loader.analyse()
            loader.hand_over(list(recipe.tables))
            index_seconds = time.monotonic() - began
            sizes = loader.sizes(list(recipe.tables))
            total = loader.total()
            loader.finish(final)
        except BaseException:
            loader.discard()
            raise
        loaded = Loaded(
            engine,
            str(final) if engine != "postgres" else final.name,
            fingerprint,
            list(keys),
            list(indexes),
            [
                LoadedTable(table, recipe.rows_of(table), sizes[table], seconds[table])
                for table in recipe.tables
            ],
            total,
            index_seconds,
        )
        temporary = record.with_suffix(".tmp")
        temporary.write_text(json.dumps(asdict(loaded)))
        temporary.replace(record)
        return loaded

    def _place(self, engine: str, fingerprint: str) -> Path:
        if engine == "postgres":
            return Path(f"ivrell_{fingerprint[:24]}")
        return self.root / f"{fingerprint[:24]}.{engine}"

    def _loader(self, engine: str, place: Path) -> Loader:
        if engine not in DATABASES:
            raise BadInput(
                f'There is no database of an engine "{engine}".',
                cure=f"Engines that tables can be loaded into: {', '.join(DATABASES)}.",
            )
        if engine != "postgres":
            place.unlink(missing_ok=True)
            return DATABASES[engine](place)
        make: Any = DATABASES[engine]
        loader: Loader = make(place, self.cluster.address("postgres"), with_roles=not self.given)
        return loader

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
                    yield block
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
                cure="Take columns whose values are unique, and never null.",
            ) from error

    def _known(self, record: Path) -> Loaded | None:
        """What a record tells of, when the database is still there."""
        try:
            told = json.loads(record.read_text())
            loaded = Loaded(**{**told, "tables": [LoadedTable(**t) for t in told["tables"]]})
        except (OSError, ValueError, TypeError, KeyError):
            return None
        if loaded.engine != "postgres":
            whole = Path(loaded.place).exists()
        else:
            whole = loaded.place in self.cluster.databases()
        return loaded if whole else None

    def for_run(
        self, loaded: Loaded, number: int, folder: Path, writes: bool, cache: str
    ) -> dict[str, str]:
        """Where one run finds the tables: the loaded ones, or a copy of its own where it
        writes; see Job.database. They are brought into the asked state of the cache.

        ``name`` stands beside the address of a server's database.
        """
        database = self._for_run(loaded, number, folder, writes)
        self._set_cache(database, loaded, cache)
        if "name" in database:
            # Asked last: a server that was restarted listens elsewhere.
            role = roles.WRITER if writes else roles.READER
            database["address"] = self.cluster.socket_address(database["name"], role)
        return database

    def restore(self, loaded: Loaded, database: Mapping[str, str]) -> None:
        """Put a run's own tables on a server back to what they were, and into its buffers."""
        self._copy(loaded, database["name"])
        self._set_cache(database, loaded, "warm")

    def _copy(self, loaded: Loaded, name: str) -> None:
        self._serve(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')
        self._serve(f'CREATE DATABASE "{name}" TEMPLATE "{loaded.place}"')
        if not self.given:
            roles.admit(self.cluster.address("postgres"), name, roles.WRITER)

    def _for_run(self, loaded: Loaded, number: int, folder: Path, writes: bool) -> dict[str, str]:
        if loaded.engine == "postgres":
            name = loaded.place
            if writes:
                name = f"{loaded.place[:40]}_run{number}"
                self._copy(loaded, name)
            return {"name": name, **({"shared": "yes"} if self.given else {})}
        if not writes:
            return {"place": loaded.place}
        copy = folder / f".job-{Path(loaded.place).name}"
        shutil.copyfile(loaded.place, copy)
        return {"place": str(copy), "pristine": loaded.place}

    def after_run(self, database: Mapping[str, str], writes: bool) -> None:
        """Remove the copy that a run on the server had."""
        if writes and "name" in database:
            self._serve(f'DROP DATABASE IF EXISTS "{database["name"]}" WITH (FORCE)')

    def _set_cache(self, database: Mapping[str, str], loaded: Loaded, state: str) -> None:
        """Bring a run's tables into the engine's buffers and the page cache, or out of both.

        A server is restarted to empty its buffers.
        """
        if loaded.engine != "postgres":
            (evict if state == "cold" else warm)(Path(database["place"]))
            return
        if state == "cold":
            if self.given:
                raise BadInput(
                    "The buffers of a server of your own are not emptied: that would restart it.",
                    where="cache",
                    cure="Leave the cache warm, or let the lane use the private server.",
                )
            assert self._cluster
            self._cluster.restart(self._evict, CLUSTER_SETTINGS)
            return
        with psycopg.connect(self.cluster.address(database["name"]), autocommit=True) as db:
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
        for path in (self.root / "cluster" / "base").rglob("*"):
            if path.is_file():
                evict(path)

    def _serve(self, sql: str) -> None:
        with psycopg.connect(self.cluster.address("postgres"), autocommit=True) as server:
            server.execute(sql)

    def kept(self) -> list[Loaded]:
        """Everything loaded that a record tells of."""
        found = []
        for record in sorted(self.root.glob("*-*.json")):
            told = json.loads(record.read_text())
            tables = [LoadedTable(**table) for table in told["tables"]]
            found.append(Loaded(**{**told, "tables": tables}))
        return found

    def trim(self, limit_bytes: int) -> int:
        """Remove what was loaded longest ago until no more than the limit is left.

        Returns the bytes removed. Raises BadInput where something uses them.
        """
        with not_in_use(self.root):
            return self._trim(limit_bytes)

    def _trim(self, limit_bytes: int) -> int:
        records = sorted(self.root.glob("*-*.json"), key=lambda path: path.stat().st_mtime)
        sizes = {path: int(json.loads(path.read_text())["size_bytes"]) for path in records}
        left, removed = sum(sizes.values()), 0
        for record in records:
            if left - removed <= limit_bytes:
                break
            told = json.loads(record.read_text())
            if told["engine"] == "postgres":
                self._serve(f'DROP DATABASE IF EXISTS "{told["place"]}" WITH (FORCE)')
            else:
                Path(told["place"]).unlink(missing_ok=True)
            record.unlink()
            removed += sizes[record]
        return removed

    def clear(self) -> int:
        """Remove all loaded databases, and the cluster with them. Returns the bytes freed. Raises
        BadInput where something uses them."""
        with not_in_use(self.root):
            freed = sum(loaded.size_bytes for loaded in self.kept())
            if (self.root / "cluster").exists() and not self.given:
                # One that outlived its process is ended too.
                self._cluster = self._cluster or Cluster(self.root / "cluster", private=True)
            self.stop()
            shutil.rmtree(self.root, ignore_errors=True)
        return freed


def _fingerprint(recipe: Recipe, engine: str, keys: Sequence[str], indexes: Sequence[str]) -> str:
    told: dict[str, Any] = {
        "engine": engine,
        "tables": {table: recipe.fingerprint(table) for table in recipe.tables},
        "keys": list(keys),
        "indexes": list(indexes),
    }
    if engine == "postgres":
        # Loaded before there were roles, tables would be nobody's to read.
        told["roles"] = 1
    return hashlib.sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()
