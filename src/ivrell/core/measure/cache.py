"""The state of the kernel's page cache for files: bring them in, evict them, and look."""

import ctypes
import mmap
import os
from pathlib import Path

import numpy as np

_PAGE = os.sysconf("SC_PAGE_SIZE")
_READ = 1 << 22


def warm(path: Path) -> None:
    """Read a file once, so that a run finds it in memory."""
    with path.open("rb", buffering=0) as file:
        while file.read(_READ):
            pass


def evict(path: Path) -> None:
    """Ask the kernel to forget a file's pages; they must be on the disk first.

    Pages that another process has mapped stay: look with ``cached_share`` afterwards.
    """
    with path.open("rb") as file:
        os.fsync(file.fileno())
        os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)


def cached_share(paths: list[Path]) -> float | None:
    """Share of the files' pages that are in memory now, 0 to 1, by mincore(2); None where the
    system does not tell or the files are empty."""
    held = total = 0
    libc = ctypes.CDLL(None, use_errno=True)
    for path in paths:
        size = path.stat().st_size
        if not size:
            continue
        with (
            path.open("rb") as file,
            mmap.mmap(
                file.fileno(), size, flags=mmap.MAP_PRIVATE, prot=mmap.PROT_READ | mmap.PROT_WRITE
            ) as mapped,
        ):
            pages = -(-size // _PAGE)
            told = (ctypes.c_ubyte * pages)()
            anchor = ctypes.c_char.from_buffer(mapped)
            try:
                address = ctypes.c_void_p(ctypes.addressof(anchor))
                if libc.mincore(address, ctypes.c_size_t(size), told):
                    return None
            finally:
                del anchor
            held += int((np.frombuffer(bytes(told), dtype=np.uint8) & 1).sum())
            total += pages
    return held / total if total else None
