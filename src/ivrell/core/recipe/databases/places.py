"""Which store a lane's tables are loaded in: the private one, or one on a server of the user's."""

from pathlib import Path

from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.servers.own import Servers


class Databases:
    """The stores of a trial, opened when first asked for.

    Args:
        root: folder of the private store; records of what is loaded elsewhere lie beside it.
        registry: folder in which servers are registered; Ivrell's own unless given.
    """

    def __init__(self, root: Path, registry: Path | None = None) -> None:
        self.root = root
        self._registry = registry
        self._stores: dict[tuple[str, str], DatabaseStore] = {}

    def at(self, name: str, engine: str) -> DatabaseStore:
        """The store for an engine on the registered server of that name, "" standing for the
        private ones. Raises BadInput for a server that is not registered, is of another kind, or
        cannot be reached."""
        way = (name, engine) if name else ("", "")
        if way not in self._stores:
            if name:
                known = Servers(self._registry)
                server = (
                    known.postgres(name) if engine == "postgres" else known.by_url(name, engine)
                )
                folder = self.root.with_name(f"{self.root.name}-at-{name}")
                self._stores[way] = DatabaseStore(folder, server)
            else:
                self._stores[way] = DatabaseStore(self.root)
        return self._stores[way]

    def trim(self, limit_bytes: int) -> None:
        """Keep each store within a limit; what was used longest ago goes first."""
        for store in self._stores.values():
            store.trim(limit_bytes)

    def revive(self) -> bool:
        """Start private servers again that ended unasked; whether one had. Raises
        BadInput."""
        revived = [store.revive() for store in self._stores.values()]
        return any(revived)

    def stop(self) -> None:
        """Stop the private servers that were started."""
        for store in self._stores.values():
            store.stop()


def seen(store: DatabaseStore) -> bool:
    """Whether what the store's server uses can be seen from here."""
    return store.given is None or store.given.pid is not None
