"""Fails when the page asks browsers for too much before it shows anything.

python -m tests.support.first_load
"""

import gzip
import json
import sys
from pathlib import Path

from ivrell.core.base.folders import package_folder

DIST = package_folder() / "web"
MOST_BYTES = 260_000


def first_load(dist: Path = DIST) -> int:
    """Bytes, packed, of what the entry needs: its script, what that imports, and its styles."""
    manifest = json.loads((dist / ".vite" / "manifest.json").read_text())
    waiting = [name for name, chunk in manifest.items() if chunk.get("isEntry")]
    files: set[str] = set()
    seen: set[str] = set()
    while waiting:
        name = waiting.pop()
        if name not in seen:
            seen.add(name)
            chunk = manifest[name]
            files |= {chunk["file"], *chunk.get("css", [])}
            waiting += chunk.get("imports", [])
    return sum(len(gzip.compress((dist / file).read_bytes(), 6)) for file in files)


if __name__ == "__main__":
    size = first_load()
    print(f"{size:,} bytes packed on first load, at most {MOST_BYTES:,}")
    sys.exit(size > MOST_BYTES)
