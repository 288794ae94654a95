"""Ending a private server that outlived whoever used it."""

from pathlib import Path

from ivrell.core.cluster import Cluster


def end_unused(root: Path) -> None:
    """End the private server of a folder of loaded tables, unless a process uses it."""
    folder = root / "cluster"
    if folder.with_name("cluster.running").exists():
        Cluster(folder, private=True).stop()
