"""Ending private servers that outlived whoever used them."""

from pathlib import Path

from ivrell.core.servers.mariadb import MariaServer
from ivrell.core.servers.postgresql import Cluster


def private_servers(root: Path) -> list[Cluster | MariaServer]:
    """The private servers that have a folder in one of loaded tables."""
    servers: tuple[Cluster | MariaServer, ...] = (
        Cluster(root / "cluster", private=True),
        MariaServer(root / "mariadb"),
    )
    return [server for server in servers if server.folder.exists()]


def end_unused(root: Path) -> None:
    """End the private servers of a folder of loaded tables, unless a process uses them."""
    for server in private_servers(root):
        if server.left_running:
            server.stop()
