"""Calling the service from an approach. Standard library only."""

import http.client
import json
import time
from collections.abc import Sequence
from typing import Any
from urllib.parse import urlsplit

_LOOK_AGAIN_S = 0.001
_TOO_FAST = 429
_NOT_YET = 202


class ServiceError(Exception):
    """The service refused a call, or its rule failed."""


class Connection:
    """One connection to the service, kept open; a thread needs one of its own.

    ``url`` is where any other client can call it.
    """

    def __init__(self, url: str) -> None:
        self.url = url
        place = urlsplit(url)
        assert place.hostname
        self._http = http.client.HTTPConnection(place.hostname, place.port)

    def call(self, rows: Sequence[dict[str, Any]]) -> list[Any]:
        """Results for these rows, waited for. A call that is turned away is made again after
        the time that the service tells. Raises ServiceError."""
        found: list[Any] = self._posted("/answers", rows)["results"]
        return found

    def later(self, rows: Sequence[dict[str, Any]]) -> int:
        """Hand rows in; a ticket for their results. Raises ServiceError."""
        return int(self._posted("/later", rows)["ticket"])

    def wait(self, ticket: int) -> list[Any]:
        """Results of a ticket, waited for. Raises ServiceError."""
        while True:
            status, told, _ = self._request("GET", f"/answers/{ticket}")
            if status != _NOT_YET:
                found: list[Any] = _good(status, told)["results"]
                return found
            time.sleep(_LOOK_AGAIN_S)

    def another(self) -> "Connection":
        """A further connection to the same service, for another thread."""
        return Connection(self.url)

    def counters(self) -> dict[str, float]:
        """What the service has counted since it was started."""
        found: dict[str, float] = self._request("GET", "/counters")[1]
        return found

    def close(self) -> None:
        """Close it."""
        self._http.close()

    def _posted(self, path: str, rows: Sequence[dict[str, Any]]) -> Any:
        body = json.dumps({"rows": list(rows)}).encode()
        while True:
            status, told, again = self._request("POST", path, body)
            if status != _TOO_FAST:
                return _good(status, told)
            time.sleep(again)

    def _request(self, method: str, path: str, body: bytes | None = None) -> tuple[int, Any, float]:
        self._http.request(method, path, body, {"Content-Type": "application/json"})
        answer = self._http.getresponse()
        told = json.loads(answer.read())
        return answer.status, told, float(answer.headers.get("Retry-After", 0))


def _good(status: int, told: Any) -> Any:
    if status >= http.client.BAD_REQUEST:
        raise ServiceError(told.get("error", f"status {status}"))
    return told
