"""The engines that come with Ivrell; a new one is a module and a line in BUILTIN.

Standard library only when loaded: the worker imports this in the process that is measured.
"""

from typing import Any

from ivrell.core.engines.base import Engine
from ivrell.core.engines.command import CommandEngine
from ivrell.core.engines.duckdb import DuckdbEngine
from ivrell.core.engines.postgres import PostgresEngine
from ivrell.core.engines.python import PythonEngine
from ivrell.core.engines.remote import RemoteEngine
from ivrell.core.engines.server_sql import MariaDbEngine, ServerSqlEngine
from ivrell.core.engines.sheet import SheetEngine
from ivrell.core.engines.spark import SparkEngine
from ivrell.core.engines.sqlite import SqliteEngine

BUILTIN: dict[str, Engine[Any]] = {
    engine.name: engine
    for engine in (
        PythonEngine(),
        DuckdbEngine(),
        SqliteEngine(),
        PostgresEngine(),
        MariaDbEngine(),
        ServerSqlEngine(),
        CommandEngine(),
        RemoteEngine(),
        SheetEngine(),
        SparkEngine(),
    )
}

GROUP = "ivrell.engines"
"""Entry points by which other packages bring an engine: each names an object that is an Engine,
under the engine's own name."""


def engine_called(name: str) -> Engine[Any]:
    """The engine of that name. Other packages are looked through only for one that is none of
    Ivrell's own: that takes time and memory in the process that is measured. Raises KeyError."""
    if name in BUILTIN:
        return BUILTIN[name]
    from importlib.metadata import entry_points

    for point in entry_points(group=GROUP, name=name):
        engine: Engine[Any] = point.load()
        return engine
    raise KeyError(name)
