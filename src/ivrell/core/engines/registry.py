"""The engines there are: Ivrell's own, and those that other packages bring."""

import logging
from importlib.metadata import entry_points

from ivrell.core.engines.base import Engine
from ivrell.core.engines.builtin import BUILTIN, GROUP

log = logging.getLogger("ivrell.engines")


def _of_others() -> dict[str, Engine]:
    """Engines of other packages by name; what cannot be loaded is logged and left out, and takes
    nothing of Ivrell's down."""
    found: dict[str, Engine] = {}
    for point in entry_points(group=GROUP):
        try:
            engine = point.load()
            if not isinstance(engine, Engine) or engine.name != point.name:
                raise TypeError(f"{point.value} is no engine called {point.name}")
        except Exception as error:
            log.warning("the engine %s of another package is left out: %s", point.name, error)
            continue
        if point.name in BUILTIN:
            log.warning("the engine %s of %s is left out: Ivrell has one", point.name, point.value)
            continue
        found[point.name] = engine
    return found


ENGINES: dict[str, Engine] = {**BUILTIN, **_of_others()}
