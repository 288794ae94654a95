"""The Ivrell that runs on a data folder, as a command line finds and asks it."""

import json
import urllib.error
import urllib.request
from http import HTTPStatus
from pathlib import Path
from typing import Any

from ivrell.core.base.errors import BadInput
from ivrell.core.base.folders import data_folder

STATE = "running.json"
"""Tells of a start its process, port and key, to its owner alone."""

SCHEME = "Ivrell"
"""What stands before the key in a request."""

_WAIT_S = 60.0


def ask(method: str, path: str, body: object = None, *, data: Path | None = None) -> Any:
    """What the application that runs on a data folder answers.

    Args:
        method: of HTTP.
        path: below ``/api/``.
        body: JSON to be.
        data: the data folder; the usual one unless given.

    Raises BadInput where none runs there, and for what it refuses.
    """
    folder = data or data_folder()
    try:
        told = json.loads((folder / STATE).read_text())
        address, key = f"http://127.0.0.1:{int(told['port'])}", str(told["key"])
    except (OSError, ValueError, KeyError, TypeError):
        raise BadInput(
            "No Ivrell runs on this data folder.",
            where=str(folder),
            hint="Start it with ./start or ivrell serve, or name its folder with --data-dir.",
        ) from None
    asked = urllib.request.Request(
        f"{address}/api/{path}", method=method,
        data=None if body is None else json.dumps(body).encode(),
        headers={"Authorization": f"{SCHEME} {key}", "Content-Type": "application/json"},
    )  # fmt: skip
    try:
        # Never by way of a proxy: it is this machine.
        with urllib.request.build_opener(urllib.request.ProxyHandler({})).open(
            asked, timeout=_WAIT_S
        ) as answer:
            return json.loads(answer.read() or b"null")
    except urllib.error.HTTPError as error:
        raise _refused(error) from None
    except OSError as error:
        raise BadInput(
            f"The Ivrell of this data folder does not answer: {error}.",
            where=address,
            hint="Is it still running?",
        ) from None


def _refused(error: urllib.error.HTTPError) -> BadInput:
    try:
        told = json.loads(error.read())
        return BadInput(str(told["what"]), where=str(told.get("where", "")),
                        hint=str(told.get("hint", "")))  # fmt: skip
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        gone = error.code == HTTPStatus.NOT_FOUND
        return BadInput("There is no such thing." if gone else f"It answered {error.code}.")
