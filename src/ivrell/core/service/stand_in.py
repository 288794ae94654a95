"""The stand-in: an HTTP server on loopback that computes a rule for rows. Standard library only.

Started by path with a settings file; writes the port it listens on to standard output, and ends
when its standard input closes.

``POST /answers`` with ``{"rows": [...]}`` gives ``{"results": [...]}``; where calls come too
fast it gives 429 and says in ``Retry-After`` after how many seconds to come again. ``POST
/later`` takes the rows and gives ``{"ticket": n}`` at once; ``GET /answers/n`` gives 202 until
the results are there. ``GET /counters`` tells what it has done.
"""

from __future__ import annotations

import hashlib
import json
import os
import random
import sys
import threading
import time
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any


class Service:
    """Computes the rule with the delays that are asked for, and counts.

    Each call is delayed by ``latency_ms``, and by up to ``jitter_ms`` more: how much depends
    on ``seed`` and the call's own rows alone, so that it repeats whatever the order of calls.
    """

    def __init__(self, settings: dict[str, Any]) -> None:
        module: dict[str, Any] = {"__name__": "rule"}
        exec(compile(settings["rule"], "<rule>", "exec"), module)  # noqa: S102 - the user's own
        self._rule: Callable[[dict[str, Any]], Any] = module["rule"]
        self._latency = settings["latency_ms"] / 1000
        self._jitter = settings["jitter_ms"] / 1000
        self._gap = 1 / settings["calls_per_second"] if settings["calls_per_second"] else 0.0
        self._most_rows = settings["most_rows"]
        self._seed = settings["seed"]
        self._cache: dict[str, Any] | None = {} if settings["cache"] else None
        self._next_call = 0.0
        self._tickets: list[Any] = []
        self._lock = threading.Lock()
        self.counts = {
            "calls": 0,
            "rows": 0,
            "found in cache": 0,
            "turned away": 0,
            "asked early": 0,
        }

    def counters(self) -> dict[str, float]:
        """Calls answered, rows, rows found in the cache, calls turned away, looks at a ticket
        that came too early, CPU seconds of this process."""
        with self._lock:
            return {**self.counts, "CPU seconds": time.process_time()}

    def turned_away(self) -> float:
        """Seconds to wait before the next call is taken; 0 takes this one."""
        with self._lock:
            now = time.monotonic()
            if now < self._next_call:
                self.counts["turned away"] += 1
                return self._next_call - now
            self._next_call = max(now, self._next_call) + self._gap
            return 0.0

    def answer(self, rows: list[dict[str, Any]]) -> list[Any]:
        """Results of the rule for each row, after the delay; a call whose rows are all in the
        cache has none. Raises ValueError for too many rows."""
        if len(rows) > self._most_rows:
            raise ValueError(f"{len(rows)} rows in one call; at most {self._most_rows}")
        keys = [json.dumps(row, sort_keys=True) for row in rows]
        known = self._cache
        found = 0 if known is None else sum(key in known for key in keys)
        with self._lock:
            self.counts["calls"] += 1
            self.counts["rows"] += len(rows)
            self.counts["found in cache"] += found
        if found < len(rows) or not rows:
            time.sleep(self.delay(keys))
        if known is None:
            return [self._rule(row) for row in rows]
        for key, row in zip(keys, rows):  # noqa: B905 - read by Python 3.9 too
            if key not in known:
                known[key] = self._rule(row)
        return [known[key] for key in keys]

    def delay(self, keys: list[str]) -> float:
        """Seconds that a call of these rows, each as JSON, is held back."""
        digest = hashlib.blake2b(repr((self._seed, keys)).encode(), digest_size=8).digest()
        share = random.Random(digest).random()
        return float(self._latency + self._jitter * share)

    def take(self, rows: list[dict[str, Any]]) -> int:
        """Begin with rows and give a ticket for their results."""
        with self._lock:
            ticket = len(self._tickets)
            self._tickets.append(None)

        def work() -> None:
            try:
                self._tickets[ticket] = ("results", self.answer(rows))
            except Exception as error:
                self._tickets[ticket] = ("error", f"{type(error).__name__}: {error}")

        threading.Thread(target=work, daemon=True).start()
        return ticket

    def ready(self, ticket: int) -> tuple[str, Any] | None:
        """What a ticket stands for, or None while it is not there."""
        found: tuple[str, Any] | None = self._tickets[ticket]
        if found is None:
            with self._lock:
                self.counts["asked early"] += 1
        return found


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    # Without this an answer waits for the client's delayed acknowledgement, some 40 ms.
    disable_nagle_algorithm = True
    wbufsize = -1
    service: Service

    def do_POST(self) -> None:
        rows = json.loads(self.rfile.read(int(self.headers["Content-Length"])))["rows"]
        if wait := self.service.turned_away():
            self._send(429, {"error": "too fast"}, {"Retry-After": f"{wait:.6f}"})
            return
        try:
            if self.path == "/later":
                self._send(202, {"ticket": self.service.take(rows)})
            else:
                self._send(200, {"results": self.service.answer(rows)})
        except Exception as error:
            self._send(400, {"error": f"{type(error).__name__}: {error}"})

    def do_GET(self) -> None:
        if self.path == "/counters":
            self._send(200, self.service.counters())
            return
        try:
            found = self.service.ready(int(self.path.rsplit("/", 1)[-1]))
        except (ValueError, IndexError):
            self._send(404, {"error": "there is no such ticket"})
            return
        if found is None:
            self._send(202, {})
        else:
            self._send(200 if found[0] == "results" else 400, {found[0]: found[1]})

    def _send(self, status: int, told: Any, headers: dict[str, str] | None = None) -> None:
        body = json.dumps(told).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        for name, value in (headers or {}).items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)
        self.wfile.flush()

    def log_message(self, *_: object) -> None:
        pass


def main(settings: str) -> None:
    """Serve until standard input closes."""
    _Handler.service = Service(json.loads(Path(settings).read_text()))
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Handler)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    print(server.server_address[1], flush=True)
    # Nobody reads on: what a rule prints would fill the pipe and hold it up.
    with open(os.devnull, "w") as nowhere:  # noqa: PTH123 - plain and old
        sys.stdout = sys.stderr = nowhere
        sys.stdin.read()


if __name__ == "__main__":
    main(sys.argv[1])
