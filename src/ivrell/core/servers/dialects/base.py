"""What Ivrell has to know of a database server beyond what all of them share.

Standard library only: workers import it.
"""

from collections.abc import Callable, Mapping, Sequence
from typing import Any, ClassVar

Ask = Callable[[str], list[tuple[Any, ...]]]
"""Runs a statement and gives its rows; none where it has none."""

PREFIX = "ivrell_"
"""What names of Ivrell's databases on a server begin with."""

NOT_TRIED = "not tried here"


class Dialect:
    """One kind of server, by the name that SQLAlchemy has for it; as it is, one that knows nothing
    of its own.

    Attributes:
        name: the word before ``://`` in its address, without a driver.
        product: its name, for people.
        driver: the driver that is used where an address names none.
        tried: with what it was tried; NOT_TRIED for one that was written from its manual.
        databases: the query that lists its databases.
        maintenance: the database that a session which makes others is in; "" for none.
        copies: whether ``copy`` is known.
        short_text: whether a key cannot be over text of any length.
        explain: what stands before a statement that is explained as text; "" where there is none.
        explaining_runs: whether a statement that is explained so is carried out too.
    """

    name: ClassVar[str] = ""
    product: ClassVar[str] = ""
    driver: ClassVar[str] = ""
    tried: ClassVar[str] = NOT_TRIED
    explain: ClassVar[str] = "EXPLAIN "
    explaining_runs: ClassVar[bool] = False
    databases: ClassVar[str] = "SELECT schema_name FROM information_schema.schemata"
    maintenance: ClassVar[str] = ""
    copies: ClassVar[bool] = True
    short_text: ClassVar[bool] = False

    def quoted(self, name: str) -> str:
        """A name as its SQL writes it."""
        return '"' + name.replace('"', '""') + '"'

    def make(self, ask: Ask, database: str) -> None:
        """Make an empty database."""
        ask(f"CREATE DATABASE {self.quoted(database)}")

    def drop(self, ask: Ask, database: str) -> None:
        """Remove a database, whoever is in it."""
        ask(f"DROP DATABASE IF EXISTS {self.quoted(database)}")

    def copy(self, ask: Ask, database: str, copy: str, tables: Sequence[str]) -> None:
        """Make a database that holds what another one does, with keys and indexes."""
        raise NotImplementedError

    def analyse(self, ask: Ask, tables: Sequence[str]) -> None:
        """Gather statistics of tables in the session's database."""
        for table in tables:
            ask(f"ANALYZE {self.quoted(table)}")

    def warm(self, ask: Ask, database: str, tables: Sequence[str]) -> None:
        """Bring tables with their indexes into the server's memory."""
        for table in tables:
            ask(f"SELECT count(*) FROM {self.quoted(database)}.{self.quoted(table)}")

    def sizes(self, ask: Ask, database: str) -> dict[str, int]:
        """Bytes of each table with its indexes, where the server tells."""
        return {}

    def came_in(self, ask: Ask) -> tuple[float, ...]:
        """What changes when something comes into the server's memory; () where it tells none."""
        return ()

    def version(self, ask: Ask) -> str:
        """The server's version."""
        return str(ask("SELECT version()")[0][0])

    def process_file(self, ask: Ask) -> str:
        """Path of the file that holds the number of its first process; "" where it tells none."""
        return ""

    def limit(self, seconds: float) -> str:
        """The statement that lets statements of a session last so long at the most; "" where
        there is none."""
        return ""

    def setting(self, name: str, value: object) -> str:
        """The statement that gives a variable of the session a value."""
        if isinstance(value, int | float):
            return f"SET {name} = {value}"
        quoted = str(value).replace("'", "''")
        return f"SET {name} = '{quoted}'"

    def session(self) -> str:
        """The query that gives a session's number; "" where there is none."""
        return ""

    def sessions(self, ask: Ask, database: str) -> int:
        """Sessions on a database; 0 where the server does not tell."""
        return 0

    def end_session(self, ask: Ask, number: int, database: str) -> None:
        """End a session of that number, if it is there and in that database of Ivrell's."""

    def connections(self, ask: Ask) -> int:
        """Sessions that were ever opened on the server; 0 where it does not tell."""
        return 0

    def counts(self, ask: Ask) -> tuple[Mapping[str, float], Mapping[str, float]]:
        """What is counted of the session that asks, and of the whole server, by counter."""
        return {}, {}


class Unknown(Dialect):
    """A server of which nothing is known but what the standard says."""
