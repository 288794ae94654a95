"""Files of the page served by Ivrell's own wrapper and by WhiteNoise: python -m tests.bench.assets.

Requests go to the ASGI application in this process, so that what is timed is the serving alone;
medians of rounds in turns. A request of the API is timed too, before which either stands.

WhiteNoise is not among Ivrell's packages: install it first.
"""

import asyncio
import logging
import os
import statistics
import tempfile
import time
from typing import Any

from ivrell.core.base.folders import package_folder

ROUNDS, REQUESTS = 15, 60


async def _asked(app: Any, path: str) -> int:
    """One GET; the bytes of the answer."""
    scope = {
        "type": "http", "method": "GET", "path": path, "raw_path": path.encode(),
        "query_string": b"", "headers": [(b"accept-encoding", b"gzip"), (b"host", b"localhost")],
        "http_version": "1.1", "scheme": "http", "server": ("localhost", 80),
        "client": ("127.0.0.1", 1), "asgi": {"version": "3.0"},
    }  # fmt: skip
    sent = 0
    over = asyncio.Event()

    async def receive() -> dict[str, Any]:
        if not over.is_set():
            over.set()
            return {"type": "http.request", "body": b"", "more_body": False}
        await asyncio.sleep(3600)
        raise AssertionError

    async def send(message: dict[str, Any]) -> None:
        nonlocal sent
        sent += len(message.get("body", b""))

    await app(scope, receive, send)
    return sent


def main() -> None:
    web = package_folder() / "web"
    os.environ["DJANGO_SETTINGS_MODULE"] = "ivrell.server.settings"
    os.environ["IVRELL_DATA"] = tempfile.mkdtemp(prefix="ivrell-bench-")
    from django.conf import settings
    from django.core.asgi import get_asgi_application
    from django.core.handlers.asgi import ASGIHandler
    from whitenoise import compress

    plain = get_asgi_application()
    compress.main(["--quiet", str(web / "assets")])
    settings.STATIC_URL, settings.STATIC_ROOT = "/assets/", str(web / "assets")
    settings.MIDDLEWARE.insert(1, "whitenoise.middleware.WhiteNoiseMiddleware")
    noise = ASGIHandler()

    from ivrell.server.assets import Assets

    apps = {"Ivrell's": Assets(plain, web), "WhiteNoise": noise}
    largest = max((web / "assets").glob("*.js"), key=lambda path: path.stat().st_size)
    logging.disable(logging.WARNING)
    for what, path in (("a file", f"/assets/{largest.name}"), ("the API", "/api/now/")):
        took: dict[str, list[float]] = {name: [] for name in apps}
        sizes = {}
        for _ in range(ROUNDS):
            for name, app in apps.items():
                began = time.perf_counter()

                async def ask(app: Any = app, path: str = path) -> int:
                    for _ in range(REQUESTS):
                        size = await _asked(app, path)
                    return size

                sizes[name] = asyncio.run(ask())
                took[name].append((time.perf_counter() - began) / REQUESTS)
        told = {name: statistics.median(times) for name, times in took.items()}
        ratio = told["WhiteNoise"] / told["Ivrell's"]
        shown = ", ".join(f"{n} {1e3 * t:.3f} ms ({sizes[n]:,} bytes)" for n, t in told.items())
        print(f"{what}: {shown}; ratio {ratio:.2f}")


if __name__ == "__main__":
    main()
