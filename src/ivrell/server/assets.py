"""The built files of the page, kept in memory and served with lasting cache headers."""

import gzip
import mimetypes
from pathlib import Path
from typing import Any

_WORTH_PACKING = ("text/", "application/javascript", "image/svg+xml", "application/json")


class Assets:
    """ASGI wrapper: answers ``/assets/...`` itself and passes all else on.

    Files there have a hash of their contents in their names, so they never change.
    """

    def __init__(self, app: Any, folder: Path) -> None:
        self._app = app
        self._files: dict[str, tuple[bytes, bytes | None, str]] = {}
        for path in folder.glob("assets/**/*"):
            if path.is_file():
                kind = mimetypes.guess_type(path.name)[0] or "application/octet-stream"
                body = path.read_bytes()
                packed = gzip.compress(body, 6) if kind.startswith(_WORTH_PACKING) else None
                self._files[f"/{path.relative_to(folder).as_posix()}"] = body, packed, kind

    async def __call__(self, scope: dict[str, Any], receive: Any, send: Any) -> None:
        if scope["type"] != "http" or not scope["path"].startswith("/assets/"):
            await self._app(scope, receive, send)
            return
        found = self._files.get(scope["path"])
        if found is None or scope["method"] not in ("GET", "HEAD"):
            await _answer(send, 404, [], b"")
            return
        body, packed, kind = found
        headers = [
            (b"content-type", kind.encode()),
            (b"cache-control", b"public, max-age=31536000, immutable"),
            (b"x-content-type-options", b"nosniff"),
            (b"vary", b"accept-encoding"),
        ]
        accepted = dict(scope["headers"]).get(b"accept-encoding", b"")
        if packed is not None and b"gzip" in accepted:
            body = packed
            headers.append((b"content-encoding", b"gzip"))
        headers.append((b"content-length", str(len(body)).encode()))
        await _answer(send, 200, headers, body if scope["method"] == "GET" else b"")


async def _answer(send: Any, status: int, headers: list[tuple[bytes, bytes]], body: bytes) -> None:
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
