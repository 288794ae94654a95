"""Who a run is on the private PostgreSQL server: a role made for it and dropped after it.

Nothing that a run sets for its role (a time limit, a password), and nothing that it owns, is there
for the next one. A role may enter the run's database alone; there it reads the loaded tables and
makes temporary ones, or owns the copy that a run which writes has. It cannot read files, start
programs, make roles or change the server.
"""

from collections.abc import Sequence

import psycopg
from psycopg import sql

from ivrell.core.run_users import RunUser, forsaken

OWNER = "ivrell_tables"
"""Whose loaded tables are, and nobody's to be."""

_FORMER = ("ivrell_reader", "ivrell_writer")
_MAY_NOT = (
    "NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION NOBYPASSRLS NOINHERIT CONNECTION LIMIT 30"
)
_LARGE_OBJECTS = (
    "lo_create(oid)", "lo_creat(integer)", "lo_from_bytea(oid, bytea)",
)  # fmt: skip
_END_S = 5


def ensure(address: str) -> None:
    """Make what every run's role needs, on a server that its superuser's address leads to, and
    drop roles of runs that nobody ended."""
    with psycopg.connect(address, autocommit=True) as server:
        names = [str(row[0]) for row in server.execute("SELECT rolname FROM pg_roles").fetchall()]
        if OWNER not in names:
            server.execute(
                sql.SQL("CREATE ROLE {} NOLOGIN " + _MAY_NOT).format(sql.Identifier(OWNER))
            )
        for role in set(names).intersection(_FORMER):
            server.execute(
                sql.SQL("ALTER ROLE {} NOLOGIN PASSWORD NULL").format(sql.Identifier(role))
            )
        for database in ("postgres", "template1"):
            server.execute(
                sql.SQL("REVOKE ALL ON DATABASE {} FROM PUBLIC").format(sql.Identifier(database))
            )
        databases = server.execute("SELECT datname FROM pg_database").fetchall()
        for copy in forsaken(row[0] for row in databases):
            server.execute(sql.SQL("DROP DATABASE {} WITH (FORCE)").format(sql.Identifier(copy)))
    for role in forsaken(names):
        drop(address, role)


def hand_over(db: "psycopg.Connection[object]", tables: Sequence[str]) -> None:
    """Make the tables of a database everybody's to read who may enter it, and the owner's, who
    hands on the copies that are made of it; its session is the superuser's."""
    owner = sql.Identifier(OWNER)
    db.execute("REVOKE ALL ON SCHEMA public FROM PUBLIC")
    db.execute("GRANT USAGE ON SCHEMA public TO PUBLIC")
    db.execute(sql.SQL("ALTER SCHEMA public OWNER TO {}").format(owner))
    for function in _LARGE_OBJECTS:
        # They would lie in the database for the next run to find.
        db.execute("REVOKE ALL ON FUNCTION " + function + " FROM PUBLIC")
    for table in tables:
        name = sql.Identifier(table)
        db.execute(sql.SQL("ALTER TABLE {} OWNER TO {}").format(name, owner))
        db.execute(sql.SQL("GRANT SELECT ON TABLE {} TO PUBLIC").format(name))


def close_to_all(address: str, database: str) -> None:
    """Let nobody into a database but those who are let in by name."""
    with psycopg.connect(address, autocommit=True) as server:
        server.execute(
            sql.SQL("REVOKE ALL ON DATABASE {} FROM PUBLIC").format(sql.Identifier(database))
        )


def make(address: str, user: RunUser) -> None:
    """Make a run's role."""
    with _soon(address) as server:
        server.execute(
            sql.SQL("CREATE ROLE {} LOGIN " + _MAY_NOT + " PASSWORD {}").format(
                sql.Identifier(user.name), sql.Literal(user.password)
            )
        )


def admit(address: str, database: str, role: str, *, owns: bool) -> None:
    """Let a run's role into its database, which is its own to change where it ``owns`` it;
    ``address`` leads there."""
    with _soon(address) as server:
        name, who = sql.Identifier(database), sql.Identifier(role)
        rights = "CONNECT, TEMPORARY" + (", CREATE" if owns else "")
        if owns:
            server.execute(sql.SQL("REVOKE ALL ON DATABASE {} FROM PUBLIC").format(name))
        server.execute(sql.SQL("GRANT " + rights + " ON DATABASE {} TO {}").format(name, who))
        if owns:
            server.execute(sql.SQL("REASSIGN OWNED BY {} TO {}").format(sql.Identifier(OWNER), who))


def drop(address: str, role: str) -> None:
    """End the sessions of a run's role and drop it, with all that it owned in the database that
    the address leads to and its rights in all; nothing where it is gone."""
    with _soon(address) as server:
        asked = "SELECT 1 FROM pg_roles WHERE rolname = %s"
        if not server.execute(asked, [role]).fetchone():
            return
        who = sql.Identifier(role)
        # Nobody comes in meanwhile.
        server.execute(sql.SQL("ALTER ROLE {} NOLOGIN").format(who))
        server.execute(
            "SELECT pg_terminate_backend(pid, %s) FROM pg_stat_activity WHERE usename = %s",
            [_END_S * 1000, role],
        )
        server.execute(sql.SQL("DROP OWNED BY {}").format(who))
        server.execute(sql.SQL("DROP ROLE {}").format(who))


def _soon(address: str) -> "psycopg.Connection[tuple[object, ...]]":
    """A session whose changes need not be on disk at once: lost ones are made anew."""
    session = psycopg.connect(address, autocommit=True)
    session.execute("SET synchronous_commit = off")
    return session
