"""MariaDB, and what is compatible with it."""

from collections.abc import Mapping, Sequence

from ivrell.core.servers.dialects.base import PREFIX, Ask, Dialect

_OF_SESSION = {
    "rows scanned": ("Handler_read_rnd_next",),
    "rows fetched by index": (
        "Handler_read_key", "Handler_read_next", "Handler_read_prev", "Handler_read_first",
        "Handler_read_last",
    ),
    "rows inserted": ("Handler_write",),
    "rows updated": ("Handler_update",),
    "rows deleted": ("Handler_delete",),
    "rows put into temporary tables": ("Handler_tmp_write",),
    "temporary tables": ("Created_tmp_tables",),
    "temporary tables on disk": ("Created_tmp_disk_tables",),
}  # fmt: skip
_OF_SERVER = {
    "blocks asked of buffers": ("Innodb_buffer_pool_read_requests",),
    "blocks read": ("Innodb_buffer_pool_reads", "Innodb_buffer_pool_read_ahead"),
    "log bytes": ("Innodb_lsn_current",),
    "log writes": ("Innodb_log_writes",),
    "log flushes": ("Innodb_os_log_fsyncs",),
}
"""Sums of status variables; the log's are told by its end, which moves with each change."""

_NAMES = "({})".format(
    ", ".join(f"'{name}'" for names in (*_OF_SESSION.values(), *_OF_SERVER.values())
              for name in names)
)  # fmt: skip


def _sums(rows: Sequence[tuple[str, str]], of: Mapping[str, Sequence[str]]) -> dict[str, float]:
    told = {name.lower(): float(value) for name, value in rows}
    return {
        counter: sum(told[name.lower()] for name in names)
        for counter, names in of.items()
        if all(name.lower() in told for name in names)
    }


class MariaDb(Dialect):
    """Copies table by table, since a database has no template."""

    name = "mariadb"
    product = "MariaDB"
    driver = "mariadbconnector"
    tried = "MariaDB 10.11 with mariadb 1.1"
    short_text = True
    explain = "ANALYZE FORMAT=JSON "
    explaining_runs = True

    def quoted(self, name: str) -> str:
        return "`" + name.replace("`", "``") + "`"

    def make(self, ask: Ask, database: str) -> None:
        # Equal is what is equal to the byte, as on other engines; the usual order of this one
        # knows no capitals and no blanks at the end.
        ask(
            f"CREATE DATABASE {self.quoted(database)} CHARACTER SET utf8mb4 "
            "COLLATE utf8mb4_nopad_bin"
        )

    def copy(self, ask: Ask, database: str, copy: str, tables: Sequence[str]) -> None:
        self.make(ask, copy)
        for table in tables:
            there = f"{self.quoted(copy)}.{self.quoted(table)}"
            here = f"{self.quoted(database)}.{self.quoted(table)}"
            ask(f"CREATE TABLE {there} LIKE {here}")
            ask(f"INSERT INTO {there} SELECT * FROM {here}")
            ask(f"ANALYZE TABLE {there}")

    def analyse(self, ask: Ask, tables: Sequence[str]) -> None:
        for table in tables:
            ask(f"ANALYZE TABLE {self.quoted(table)} PERSISTENT FOR ALL")

    def warm(self, ask: Ask, database: str, tables: Sequence[str]) -> None:
        for table in tables:
            place = f"{self.quoted(database)}.{self.quoted(table)}"
            # Reads every row; counting would take the smallest index.
            ask(f"CHECKSUM TABLE {place} EXTENDED")
            indexes = ask(
                "SELECT DISTINCT index_name FROM information_schema.statistics "
                f"WHERE table_schema = '{database}' AND table_name = '{table}'"
            )
            for (index,) in indexes:
                ask(f"SELECT count(*) FROM {place} FORCE INDEX ({self.quoted(index)})")

    def came_in(self, ask: Ask) -> tuple[float, ...]:
        names = "('Innodb_pages_read', 'Innodb_pages_created')"
        told = ask(f"SHOW GLOBAL STATUS WHERE variable_name IN {names}")
        return tuple(float(value) for _, value in told)

    def version(self, ask: Ask) -> str:
        return super().version(ask).split("-")[0]

    def sizes(self, ask: Ask, database: str) -> dict[str, int]:
        rows = ask(
            "SELECT table_name, data_length + index_length FROM information_schema.tables "
            f"WHERE table_schema = '{database}'"
        )
        return {str(name): int(size or 0) for name, size in rows}

    def process_file(self, ask: Ask) -> str:
        return str(ask("SELECT @@pid_file")[0][0])

    def limit(self, seconds: float) -> str:
        return f"SET SESSION max_statement_time = {seconds:.3f}"

    def setting(self, name: str, value: object) -> str:
        return super().setting(f"SESSION {name}", value)

    def session(self) -> str:
        return "SELECT CONNECTION_ID()"

    def sessions(self, ask: Ask, database: str) -> int:
        rows = ask(f"SELECT count(*) FROM information_schema.processlist WHERE db = '{database}'")
        return int(rows[0][0])

    def end_session(self, ask: Ask, number: int, database: str) -> None:
        there = ask(f"SELECT db FROM information_schema.processlist WHERE id = {number}")
        if there and there[0][0] == database and database.startswith(PREFIX):
            ask(f"KILL {number}")

    def connections(self, ask: Ask) -> int:
        return int(ask("SHOW GLOBAL STATUS LIKE 'Connections'")[0][1])

    def counts(self, ask: Ask) -> tuple[Mapping[str, float], Mapping[str, float]]:
        of_session = ask(f"SHOW SESSION STATUS WHERE variable_name IN {_NAMES}")
        of_server = ask(f"SHOW GLOBAL STATUS WHERE variable_name IN {_NAMES}")
        return _sums(of_session, _OF_SESSION), _sums(of_server, _OF_SERVER)


class MySql(MariaDb):
    """The same with another word for the most time, which is in milliseconds and for reading."""

    name = "mysql"
    product = "MySQL"
    driver = "mysqldb"
    tried = Dialect.tried
    explain = "EXPLAIN FORMAT=TREE "
    explaining_runs = False

    def make(self, ask: Ask, database: str) -> None:
        ask(f"CREATE DATABASE {self.quoted(database)} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")

    def analyse(self, ask: Ask, tables: Sequence[str]) -> None:
        for table in tables:
            ask(f"ANALYZE TABLE {self.quoted(table)}")

    def version(self, ask: Ask) -> str:
        # Whole: the other of the two says so in it.
        return str(ask("SELECT version()")[0][0])

    def limit(self, seconds: float) -> str:
        return f"SET SESSION max_execution_time = {seconds * 1000:.0f}"
