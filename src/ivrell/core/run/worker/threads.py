"""One knob for the threads of every library. Standard library only."""

from __future__ import annotations

import sys
from typing import Any

_VARIABLES = (
    "OMP_NUM_THREADS",
    "OPENBLAS_NUM_THREADS",
    "MKL_NUM_THREADS",
    "NUMEXPR_MAX_THREADS",
    "POLARS_MAX_THREADS",
    "RAYON_NUM_THREADS",
    "ARROW_NUM_THREADS",
)


def thread_environment(threads: int | None) -> dict[str, str]:
    """Variables that libraries read when they are loaded; none where nothing is asked."""
    return dict.fromkeys(_VARIABLES, str(threads)) if threads else {}


def use_threads(threads: int | None) -> None:
    """Tell the libraries that are loaded and take it as a call."""
    if threads and (arrow := sys.modules.get("pyarrow")):
        arrow.set_cpu_count(threads)
        arrow.set_io_thread_count(max(1, threads))


def threads_told() -> dict[str, int]:
    """What the loaded libraries say of the threads that they work with."""
    found: dict[str, int] = {}
    asks: tuple[tuple[str, Any], ...] = (
        ("pyarrow", lambda module: module.cpu_count()),
        ("polars", lambda module: module.thread_pool_size()),
    )
    for name, ask in asks:
        if module := sys.modules.get(name):
            try:
                found[name] = int(ask(module))
            except Exception:
                continue
    return found
