"""Who lanes are on the private server: roles that may do what a lane needs and nothing else.

One reads the tables that all runs share, another owns the copy that a run which writes has for
itself. Neither can read files, start programs, make roles, change the server or enter another
kind of database.
"""

from collections.abc import Sequence

import psycopg
from psycopg import sql

READER, WRITER = "ivrell_reader", "ivrell_writer"
_MAY_NOT = "LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION NOBYPASSRLS NOINHERIT"


def ensure(address: str, passwords: dict[str, str]) -> None:
    """Make the roles, with these passwords, on a server that its superuser's address leads to."""
    with psycopg.connect(address, autocommit=True) as server:
        for role, password in passwords.items():
            there = server.execute("SELECT 1 FROM pg_roles WHERE rolname = %s", [role]).fetchone()
            word = sql.SQL("ALTER" if there else "CREATE")
            server.execute(
                sql.SQL("{} ROLE {} " + _MAY_NOT + " PASSWORD {}").format(
                    word, sql.Identifier(role), sql.Literal(password)
                )
            )
        for database in ("postgres", "template1"):
            server.execute(
                sql.SQL("REVOKE ALL ON DATABASE {} FROM PUBLIC").format(sql.Identifier(database))
            )


def hand_over(db: "psycopg.Connection[object]", tables: Sequence[str]) -> None:
    """Let the tables of a database be the writer's, for the copies that are made of it, and the
    reader's to read; its session is the superuser's."""
    role = {"reader": sql.Identifier(READER), "writer": sql.Identifier(WRITER)}
    db.execute(sql.SQL("ALTER SCHEMA public OWNER TO {writer}").format(**role))
    db.execute(sql.SQL("GRANT USAGE ON SCHEMA public TO {reader}").format(**role))
    for table in tables:
        name = sql.Identifier(table)
        db.execute(sql.SQL("ALTER TABLE {} OWNER TO {writer}").format(name, **role))
        db.execute(sql.SQL("GRANT SELECT ON TABLE {} TO {reader}").format(name, **role))


def admit(address: str, database: str, role: str) -> None:
    """Let one role alone into a database."""
    with psycopg.connect(address, autocommit=True) as server:
        name, who = sql.Identifier(database), sql.Identifier(role)
        server.execute(sql.SQL("REVOKE ALL ON DATABASE {} FROM PUBLIC").format(name))
        rights = "CONNECT, TEMPORARY" + (", CREATE" if role == WRITER else "")
        server.execute(sql.SQL("GRANT " + rights + " ON DATABASE {} TO {}").format(name, who))
