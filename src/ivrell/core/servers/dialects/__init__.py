"""Kinds of database servers; a new one is a class, and a word here."""

from ivrell.core.servers.dialects.base import NOT_TRIED, PREFIX, Ask, Dialect, Unknown
from ivrell.core.servers.dialects.mariadb import MariaDb, MySql
from ivrell.core.servers.dialects.others import PostgreSql, SqlServer

DIALECTS: dict[str, Dialect] = {
    dialect.name: dialect for dialect in (MariaDb(), PostgreSql(), MySql(), SqlServer())
}


def dialect_of(name: str) -> Dialect:
    """The dialect of a name that SQLAlchemy has for it."""
    return DIALECTS.get(name) or Unknown()


__all__ = ["DIALECTS", "NOT_TRIED", "PREFIX", "Ask", "Dialect", "Unknown", "dialect_of"]
