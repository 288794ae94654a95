"""Dialects that need little: PostgreSQL by its address alone, and one that nobody tried here."""

from collections.abc import Sequence

from ivrell.core.servers.dialects.base import PREFIX, Ask, Dialect

_FOLDER = "SELECT current_setting('data_directory')"
"""Asked so, since ADBC's driver copies what a query gives, and a SHOW is none."""


class PostgreSql(Dialect):
    """Copies a database by its template."""

    name = "postgresql"
    product = "PostgreSQL"
    driver = "psycopg"
    tried = "PostgreSQL 15 with psycopg 3.3 and ADBC 1.13"
    databases = "SELECT datname FROM pg_database"
    maintenance = "postgres"
    explain = "EXPLAIN (ANALYZE, BUFFERS) "
    explaining_runs = True

    def make(self, ask: Ask, database: str) -> None:
        ask(f"CREATE DATABASE {self.quoted(database)} TEMPLATE template0")

    def drop(self, ask: Ask, database: str) -> None:
        ask(f"DROP DATABASE IF EXISTS {self.quoted(database)} WITH (FORCE)")

    def copy(self, ask: Ask, database: str, copy: str, tables: Sequence[str]) -> None:
        ask(f"CREATE DATABASE {self.quoted(copy)} TEMPLATE {self.quoted(database)}")

    def warm(self, ask: Ask, database: str, tables: Sequence[str]) -> None:
        """A session sees one database only; a warm-up round does as much."""

    def version(self, ask: Ask) -> str:
        return str(ask("SELECT current_setting('server_version')")[0][0])

    def process_file(self, ask: Ask) -> str:
        return f"{ask(_FOLDER)[0][0]}/postmaster.pid"

    def limit(self, seconds: float) -> str:
        return f"SET statement_timeout = {seconds * 1000:.0f}"

    def session(self) -> str:
        return "SELECT pg_backend_pid()"

    def sessions(self, ask: Ask, database: str) -> int:
        rows = ask(f"SELECT count(*) FROM pg_stat_activity WHERE datname = '{database}'")
        return int(rows[0][0])

    def end_session(self, ask: Ask, number: int, database: str) -> None:
        if database.startswith(PREFIX):
            ask(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
                f"WHERE pid = {number} AND datname = '{database}'"
            )


class SqlServer(Dialect):
    """From its manual."""

    name = "mssql"
    product = "Microsoft SQL Server"
    driver = "pyodbc"
    explain = ""
    databases = "SELECT name FROM sys.databases"
    copies = False
    short_text = True
    maintenance = "master"

    def quoted(self, name: str) -> str:
        return "[" + name.replace("]", "]]") + "]"

    def analyse(self, ask: Ask, tables: Sequence[str]) -> None:
        for table in tables:
            ask(f"UPDATE STATISTICS {self.quoted(table)} WITH FULLSCAN")

    def version(self, ask: Ask) -> str:
        return str(ask("SELECT SERVERPROPERTY('ProductVersion')")[0][0])

    def session(self) -> str:
        return "SELECT @@SPID"
