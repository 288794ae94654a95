"""Looking at recipes in processes of their own, which are ended when they take too long.

What a recipe asks for may be endless: a file of the user's own, a table that others refer to. So
the web server draws nothing itself.
"""

import multiprocessing
import resource
import threading
from collections.abc import Callable
from concurrent.futures import TimeoutError
from typing import ParamSpec, TypeVar

from pebble import ProcessExpired, ProcessPool

from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import format_bytes
from ivrell.core.base.temp_dirs import keep_pools_in_sight

LONGEST_S = 10.0
MOST_BYTES = 2 << 30
_IDLE_S = 60.0
_PROCESSES = 2

Given = ParamSpec("Given")
Found = TypeVar("Found")


def _within_limits() -> None:
    resource.setrlimit(resource.RLIMIT_DATA, (MOST_BYTES, MOST_BYTES))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


class PreviewPool:
    """A few processes that start when they are asked, and end when nobody asks any more."""

    def __init__(self, longest_s: float = LONGEST_S) -> None:
        self.longest_s = longest_s
        self._lock = threading.Lock()
        self._pool: ProcessPool | None = None
        self._asking = 0
        self._idle: threading.Timer | None = None

    def ask(self, what: Callable[Given, Found], *given: Given.args, **named: Given.kwargs) -> Found:
        """What a function of the core gives, worked out elsewhere. Raises BadInput: its own, or
        one that says that it took too long or too much memory."""
        with self._lock:
            self._asking += 1
            if self._idle:
                self._idle.cancel()
            pool = self._pool = self._pool or self._new_pool()
        try:
            waited = pool.schedule(what, args=given, kwargs=named, timeout=self.longest_s)
            return waited.result()
        except TimeoutError:
            raise BadInput(
                f"Looking at this took longer than {self.longest_s:.0f} seconds.",
                where="data",
                hint="Take fewer rows or columns for the look, or make the data: that shows how "
                "far it is.",
            ) from None
        except (ProcessExpired, MemoryError):
            raise BadInput(
                "Looking at this was ended by the system: it may hold "
                f"{format_bytes(MOST_BYTES)} of memory at the most.",
                where="data",
                hint="Let tables that others refer to have fewer rows.",
            ) from None
        finally:
            with self._lock:
                self._asking -= 1
                if not self._asking:
                    self._idle = threading.Timer(_IDLE_S, self.end)
                    self._idle.daemon = True
                    self._idle.start()

    def end(self) -> None:
        """End the processes, unless somebody asks; the next to ask starts them again."""
        with self._lock:
            if self._asking or not self._pool:
                return
            pool, self._pool = self._pool, None
        pool.stop()  # type: ignore[no-untyped-call]
        pool.join()

    def _new_pool(self) -> ProcessPool:
        keep_pools_in_sight()
        context = multiprocessing.get_context("forkserver")
        context.set_forkserver_preload(["ivrell.core.comparison.looking"])
        return ProcessPool(_PROCESSES, initializer=_within_limits, context=context)


PREVIEWS = PreviewPool()
SAMPLES = PreviewPool(120.0)
"""For samples that were sent, which are read and measured in full."""
