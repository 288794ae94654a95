"""The engines there are: Ivrell's own, and those that other packages bring."""

import logging
from importlib.metadata import entry_points
from typing import Any

from ivrell.core.engines.base import Engine, EngineState, state_of
from ivrell.core.engines.builtin import BUILTIN, GROUP

log = logging.getLogger("ivrell.engines")


def _of_others() -> tuple[dict[str, Engine[Any]], dict[str, str]]:
    """Engines of other packages by name, and what is wrong with those that cannot be used; they
    take nothing of Ivrell's down."""
    found: dict[str, Engine[Any]] = {}
    broken: dict[str, str] = {}
    for point in entry_points(group=GROUP):
        try:
            engine = point.load()
            if not isinstance(engine, Engine) or engine.name != point.name:
                raise TypeError(f"{point.value} is no engine called {point.name}")
            if point.name in BUILTIN:
                raise ValueError("Ivrell has one of that name")
            found[point.name] = engine
        except Exception as error:
            package = point.dist.name if point.dist else point.value
            why = f"{type(error).__name__}: {error}"
            told = f"cannot be used as the package {package} brings it: {why}"
            broken[point.name] = told
            log.warning("the engine %s %s", point.name, told)
    return found, broken


_found, BROKEN = _of_others()
ENGINES: dict[str, Engine[Any]] = {**BUILTIN, **_found}


def states() -> list[EngineState]:
    """Each engine with whether it can be used here, those that cannot be loaded last."""
    good = [state_of(engine) for engine in ENGINES.values()]
    bad = [EngineState(name, "", False, problem=told) for name, told in BROKEN.items()
           if name not in ENGINES]  # fmt: skip
    return [*good, *bad]
