"""Ivrell: compare alternative approaches to the same data task.

As a library: ``read`` a comparison or build one (``Comparison.build``), run it, look at what was
found (``Trial``). Nothing is loaded before it is used.
"""

from typing import TYPE_CHECKING

__version__ = "0.1.0"

if TYPE_CHECKING:
    from ivrell.api import Comparison as Comparison
    from ivrell.api import Trial as Trial
    from ivrell.api import history as history
    from ivrell.api import read as read
    from ivrell.approaches import Approach as Approach
    from ivrell.approaches import approach as approach
    from ivrell.core.base.errors import BadInput as BadInput
    from ivrell.core.records.plan import Plan as Plan
    from ivrell.gating import gate as gate
    from ivrell.sharing import compare as compare
    from ivrell.sharing import rerun as rerun
    from ivrell.sharing import unpack as unpack

_PLACES = {
    "Approach": "ivrell.approaches",
    "BadInput": "ivrell.core.base.errors",
    "Comparison": "ivrell.api",
    "Plan": "ivrell.core.records.plan",
    "Trial": "ivrell.api",
    "approach": "ivrell.approaches",
    "compare": "ivrell.sharing",
    "gate": "ivrell.gating",
    "history": "ivrell.api",
    "read": "ivrell.api",
    "rerun": "ivrell.sharing",
    "unpack": "ivrell.sharing",
}
__all__ = [
    "Approach", "BadInput", "Comparison", "Plan", "Trial", "approach", "compare", "gate", "history",
    "read", "rerun", "unpack",
]  # fmt: skip


def __getattr__(name: str) -> object:
    """A name of the library, loaded when it is first asked for."""
    if name not in _PLACES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    found = globals()[name] = getattr(import_module(_PLACES[name]), name)
    return found


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__})
