"""Addresses of database servers: URLs as SQLAlchemy writes them, or ADBC's with the driver
``adbc``; passwords by reference."""

import os
import re
import stat
from dataclasses import dataclass
from pathlib import Path

import sqlalchemy as sa
from sqlalchemy.engine import URL

from ivrell.core.base.errors import BadInput
from ivrell.core.records.wire import Client
from ivrell.core.servers.dialects import DIALECTS, dialect_of
from ivrell.core.servers.dialects.base import Dialect

ADBC = "adbc"
_FROM = ("env", "file")
_SECRET_HINT = (
    "Name where it stands: env:NAME for a variable of Ivrell's environment, or file:PATH for a "
    "file that only its owner can read."
)


def is_url(text: str) -> bool:
    """Whether an address is a URL."""
    return "://" in text


def secret(reference: str) -> str:
    """The password that ``env:NAME`` or ``file:PATH`` leads to. Raises BadInput where it leads to
    none, or to a file that others can read."""
    kind, _, place = reference.partition(":")
    where = "password-from"
    if kind not in _FROM or not place:
        raise BadInput(f'"{reference}" tells no place.', where=where, hint=_SECRET_HINT)
    if kind == "env":
        if place not in os.environ:
            raise BadInput(
                f"Ivrell was started without the variable {place}.",
                where=where,
                hint="Set it, and start Ivrell again.",
            )
        return os.environ[place]
    path = Path(place).expanduser()
    try:
        if stat.S_IMODE(path.stat().st_mode) & 0o077:
            raise BadInput(
                f"{path} can be read by others than its owner.",
                where=where,
                hint=f"Take their rights: chmod 600 {path}",
            )
        return path.read_text().rstrip("\n")
    except OSError as error:
        raise BadInput(
            f"{path} cannot be read: {error.strerror}.", where=where, hint=_SECRET_HINT
        ) from error


@dataclass(frozen=True)
class Address:
    """A server's address, with a driver and with its password in place.

    Attributes:
        url: of the server; its database is whichever is asked for.
    """

    url: URL

    @property
    def dialect(self) -> Dialect:
        """What is known of its kind."""
        return dialect_of(self.url.get_backend_name())

    @property
    def by_adbc(self) -> bool:
        """Whether it is reached by an ADBC driver."""
        return self.url.get_driver_name() == ADBC

    @property
    def shown(self) -> str:
        """As people may see it."""
        return self.url.render_as_string(hide_password=True)

    def client(self, database: str) -> Client:
        """How a session on one of its databases is opened. Raises BadInput where the driver is
        not installed."""
        url = self.url.set(database=database or None)
        name = url.get_backend_name()
        if self.by_adbc:
            plain = url.set(drivername=name).render_as_string(hide_password=False)
            return Client(f"adbc_driver_{name}.dbapi", [plain], {"autocommit": True}, name)
        dialect = self.engine_dialect()
        given, named = dialect.create_connect_args(url)
        driver = dialect.import_dbapi().__name__
        # What is no plain value is SQLAlchemy's own way with a driver's types.
        plain_ones = {key: value for key, value in named.items() if isinstance(value, str | int)}
        return Client(driver, list(given), plain_ones, name)

    def engine_dialect(self) -> sa.Dialect:
        """SQLAlchemy's own of its kind, with the driver loaded unless that is ADBC's. Raises
        BadInput."""
        if self.by_adbc:
            return self.url.set(drivername=self.url.get_backend_name()).get_dialect()()
        try:
            return sa.create_engine(self.url).dialect
        except (ImportError, sa.exc.ArgumentError) as error:
            raise BadInput(
                f"The driver of {self.url.drivername} cannot be loaded: {error}.",
                where="address",
                hint="Install it into Ivrell's environment with pip, or name another one.",
            ) from error


def read(text: str, password_from: str = "") -> Address:
    """The address that a URL and a reference to its password make. Raises BadInput, which names
    the form of an address of another kind."""
    _refuse_other_forms(text)
    try:
        url = sa.make_url(text)
        url.get_dialect() if url.get_driver_name() != ADBC else None
    except sa.exc.NoSuchModuleError as error:
        raise _not_known(text) from error
    except (sa.exc.ArgumentError, ValueError) as error:
        if not text.split("+", 1)[-1].startswith(f"{ADBC}://"):
            raise BadInput(
                f"That is no address of a server: {str(error).splitlines()[0]}.",
                where="address",
                hint=_WRITE_IT,
            ) from error
        url = sa.make_url(text)
    if "+" not in url.drivername:
        usual = dialect_of(url.get_backend_name()).driver
        url = url.set(drivername=f"{url.drivername}+{usual}") if usual else url
    if password_from:
        url = url.set(password=secret(password_from))
    return Address(url)


_WRITE_IT = (
    "Write it as mariadb://user@host:3306, with the driver's name after a + where it is not the "
    "usual one."
)
_EMBEDDED = ("sqlite", "duckdb")
_OTHER_FORMS = (
    (re.compile("jdbc:", re.I), "That is an address as Java's drivers take it."),
    (
        re.compile(r"(driver|dsn|server|data source|provider)\s*=", re.I),
        "That is a connection string as ODBC's drivers take it.",
    ),
    (re.compile("https?://", re.I), "That is an address of the web."),
)


def _refuse_other_forms(text: str) -> None:
    for form, what in _OTHER_FORMS:
        if form.match(text.strip()):
            raise BadInput(what, where="address", hint=_WRITE_IT)
    scheme = text.partition("://")[0].partition("+")[0]
    if scheme in _EMBEDDED:
        raise BadInput(
            f"{scheme} is no server: it works in the process of whoever uses it.",
            where="address",
            hint=f'Write lanes with engine = "{scheme}"; they need no address.',
        )


def _not_known(text: str) -> BadInput:
    """What is told of a URL whose kind of server, or driver, SQLAlchemy has none for."""
    scheme, _, driver = text.partition("://")[0].partition("+")
    if driver and scheme in {name.partition(".")[0] for name in sa.dialects.__all__}:
        return BadInput(
            f'There is no driver "{driver}" of {scheme} for SQLAlchemy.',
            where="address",
            hint="Check its name, or leave it out for the usual one.",
        )
    usual = " It is called postgresql here." if scheme == "postgres" else ""
    return BadInput(
        f'There is no kind of server "{scheme}" for SQLAlchemy here.{usual}',
        where="address",
        hint="Install a dialect for it into Ivrell's environment with pip, or name another kind: "
        f"{', '.join(DIALECTS)}.",
    )


def shown(text: str) -> str:
    """A URL as people may see it."""
    try:
        return sa.make_url(text).render_as_string(hide_password=True)
    except (sa.exc.ArgumentError, ValueError):
        return ""


def without_password(text: str) -> None:
    """Refuse a URL that holds a password. Raises BadInput."""
    if is_url(text) and ":***@" in shown(text):
        raise BadInput(
            "A password in an address would be shown and kept with it.",
            where="address",
            hint=f"Leave it out of the address. {_SECRET_HINT}",
        )
