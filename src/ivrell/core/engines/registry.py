"""The engines there are; a new one is a module and a line in ENGINES."""

from ivrell.core.engines.base import Engine
from ivrell.core.engines.command import CommandEngine
from ivrell.core.engines.duckdb import DuckdbEngine
from ivrell.core.engines.postgres import PostgresEngine
from ivrell.core.engines.python import PythonEngine
from ivrell.core.engines.remote import RemoteEngine
from ivrell.core.engines.sheet import SheetEngine
from ivrell.core.engines.sqlite import SqliteEngine

ENGINES: dict[str, Engine] = {
    engine.name: engine
    for engine in (
        PythonEngine(),
        DuckdbEngine(),
        SqliteEngine(),
        PostgresEngine(),
        CommandEngine(),
        RemoteEngine(),
        SheetEngine(),
    )
}
