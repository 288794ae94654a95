"""Which store a lane's tables are loaded in: the private one, or one on a server of the user's."""

from pathlib import Path

from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.servers import OwnServer, Servers


class Databases:
    """The stores of a trial, opened when first asked for.

    Args:
        root: folder of the private store; records of what is loaded elsewhere lie beside it.
        registry: folder in which servers are registered; Ivrell's own unless given.
    """

    def __init__(self, root: Path, registry: Path | None = None) -> None:
        self.root = root
        self._registry = registry
        self._stores: dict[str, DatabaseStore] = {}

    def at(self, name: str) -> DatabaseStore:
        """The store on the registered server of that name, "" standing for the private one. Raises
        BadInput for a server that is not registered or cannot be reached."""
        if name not in self._stores:
            if name:
                server = Servers(self._registry).get(name)
                folder = self.root.with_name(f"{self.root.name}-at-{name}")
                self._stores[name] = DatabaseStore(folder, server)
            else:
                self._stores[name] = DatabaseStore(self.root)
        return self._stores[name]

    def trim(self, limit_bytes: int) -> None:
        """Keep each store within a limit; what was used longest ago goes first."""
        for store in self._stores.values():
            store.trim(limit_bytes)

    def revive(self) -> bool:
        """Start the private cluster again where it ended unasked; whether it had. Raises
        BadInput."""
        revived = [store.revive() for store in self._stores.values()]
        return any(revived)

    def stop(self) -> None:
        """Stop the private cluster if it was started."""
        for store in self._stores.values():
            store.stop()


def seen(store: DatabaseStore) -> bool:
    """Whether what the store's server uses can be seen from here."""
    return not isinstance(store.given, OwnServer) or store.given.pid is not None
