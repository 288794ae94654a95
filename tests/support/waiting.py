"""Waiting for what happens in its own time."""

import os
import time
from collections.abc import Callable
from typing import Any

PATIENCE_S = float(os.environ.get("IVRELL_TEST_PATIENCE_S", "300"))
"""Seconds waited for anything at most: what is waited for may take long on a busy machine, and a
wait is a limit against waiting for ever, not a measure."""


def wait_until(
    condition: Callable[[], Any], told: Callable[[], object] = str, every_s: float = 0.05
) -> Any:
    """What a condition gives as soon as that is true; `told` gives words when it never is."""
    deadline = time.monotonic() + PATIENCE_S
    while not (found := condition()):
        if time.monotonic() > deadline:
            raise AssertionError(f"Waited {PATIENCE_S:.0f} s in vain. {told()}")
        time.sleep(every_s)
    return found
