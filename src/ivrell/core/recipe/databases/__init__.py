"""Tables loaded into an engine's own database; a new one is a loader and a word here."""

from ivrell.core.recipe.databases.base import Loader
from ivrell.core.recipe.databases.duckdb import DuckdbLoader
from ivrell.core.recipe.databases.postgres import PostgresLoader
from ivrell.core.recipe.databases.sql import MariaDbLoader, SqlLoader
from ivrell.core.recipe.databases.sqlite import SqliteLoader

DATABASES: dict[str, type[Loader]] = {
    loader.engine: loader
    for loader in (DuckdbLoader, SqliteLoader, PostgresLoader, MariaDbLoader, SqlLoader)
}

__all__ = ["DATABASES", "Loader"]
