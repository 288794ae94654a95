"""The session that client code of a lane is given; loaded where a run opens one."""

from typing import Any

import psycopg


class Session(psycopg.Connection[Any]):
    """A connection that knows the address of its database.

    Attributes:
        address: connection string with which more connections can be opened, in child processes
            too (psycopg hides the password in its own ``info.dsn``).
    """

    address: str = ""
