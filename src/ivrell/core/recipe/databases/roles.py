"""Who a run is on the private PostgreSQL server: a role made for it and dropped after it.

Nothing that a run sets for its role (a time limit, a password), and nothing that it owns, is there
for the next one. A role may enter the run's database alone; there it reads the loaded tables and
makes temporary ones, or owns the copy that a run which writes has. It cannot read files, start
programs, make roles or change the server.
"""

import base64
import hashlib
import hmac
import secrets
from collections.abc import Callable, Sequence
from typing import Any

import psycopg
from psycopg import sql

from ivrell.core.servers.postgresql import MAINTENANCE
from ivrell.core.servers.run_users import RunUser, forsaken

OWNER = "ivrell_tables"
"""Whose loaded tables are, and nobody's to be."""

_FORMER = ("ivrell_reader", "ivrell_writer")
_MAY_NOT = (
    "NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION NOBYPASSRLS NOINHERIT CONNECTION LIMIT 30"
)
_LARGE_OBJECTS = (
    "lo_create(oid)", "lo_creat(integer)", "lo_from_bytea(oid, bytea)",
)  # fmt: skip
_LEFT_IN = """
SELECT DISTINCT d.datname FROM pg_shdepend s JOIN pg_database d ON d.oid = s.dbid
WHERE s.refclassid = 'pg_authid'::regclass AND s.refobjid = %s
"""
_END_S = 5
_ROUNDS = 1

Session = psycopg.Connection[Any]


def ensure(address: Callable[[str], str]) -> None:
    """Make what every run's role needs, on a server that ``address`` leads to as the superuser,
    by database, and drop roles of runs that nobody ended."""
    with opened(address(MAINTENANCE)) as server:
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
            drop(server, role, address)


def hand_over(db: Session, tables: Sequence[str]) -> None:
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


def close_to_all(server: Session, database: str) -> None:
    """Let nobody into a database but those who are let in by name."""
    server.execute(
        sql.SQL("REVOKE ALL ON DATABASE {} FROM PUBLIC").format(sql.Identifier(database))
    )


def make(server: Session, user: RunUser) -> None:
    """Make a run's role."""
    server.execute(
        sql.SQL("CREATE ROLE {} LOGIN " + _MAY_NOT + " PASSWORD {}").format(
            sql.Identifier(user.name), sql.Literal(_verifier(user.password))
        )
    )


def admit(server: Session, database: str, role: str, *, owns: bool) -> None:
    """Let a run's role into its database; where it ``owns`` it, it may make what it likes there."""
    name, who = sql.Identifier(database), sql.Identifier(role)
    rights = "CONNECT, TEMPORARY" + (", CREATE" if owns else "")
    close_to_all(server, database)
    server.execute(sql.SQL("GRANT " + rights + " ON DATABASE {} TO {}").format(name, who))


def hand_on(db: Session, role: str) -> None:
    """Let a run's role own the tables of its copy, in which the session is."""
    names = sql.Identifier(OWNER), sql.Identifier(role)
    db.execute(sql.SQL("REASSIGN OWNED BY {} TO {}").format(*names))


def drop(server: Session, role: str, address: Callable[[str], str]) -> None:
    """End the sessions of a run's role and drop it, with its rights and all that it owns; nothing
    where it is gone. ``address`` leads to a database as the superuser."""
    asked = "SELECT oid FROM pg_roles WHERE rolname = %s"
    if not (found := server.execute(asked, [role]).fetchone()):
        return
    who = sql.Identifier(role)
    # Nobody comes in meanwhile.
    server.execute(sql.SQL("ALTER ROLE {} NOLOGIN").format(who))
    server.execute(
        "SELECT pg_terminate_backend(pid, %s) FROM pg_stat_activity WHERE usename = %s",
        [_END_S * 1000, role],
    )
    server.execute(sql.SQL("DROP OWNED BY {}").format(who))
    for (database,) in server.execute(_LEFT_IN, found).fetchall():
        with opened(address(database)) as there:
            there.execute(sql.SQL("DROP OWNED BY {}").format(who))
    server.execute(sql.SQL("DROP ROLE {}").format(who))


def opened(address: str) -> Session:
    """A session whose changes need not be on disk at once: lost ones are made anew."""
    session = psycopg.connect(address, autocommit=True)
    session.execute("SET synchronous_commit = off")
    return session


def _verifier(password: str) -> str:
    """What the server keeps of a password (RFC 5803). Many rounds of hashing would slow down those
    who guess, and each session that is opened; nobody guesses what was drawn by chance."""
    salt = secrets.token_bytes(16)
    salted = hashlib.pbkdf2_hmac("sha256", password.encode(), salt, _ROUNDS)

    def key(name: bytes) -> bytes:
        return hmac.digest(salted, name, "sha256")

    stored = hashlib.sha256(key(b"Client Key")).digest()
    told = (base64.b64encode(part).decode() for part in (salt, stored, key(b"Server Key")))
    return "SCRAM-SHA-256${}:{}${}:{}".format(_ROUNDS, *told)
