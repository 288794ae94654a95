"""Bounds of what requests bring, kept before anything of it is written down.

Django keeps a whole body, on disk where it is large, before it looks at who sends it.
"""

from typing import Any

from asgiref.sync import sync_to_async

from ivrell.core.base.quantities import format_bytes
from ivrell.core.records.trouble import Trouble

MOST_BYTES = 4 * 2**20
MOST_SAMPLE_BYTES = 256 * 2**20
_SAMPLES = "/api/comparisons/propose/"


class Bodies:
    """ASGI wrapper: refuses bodies that are too long, and those of samples from nobody.

    Samples, which may be long, are taken from those alone who are signed in and may make
    something of them; all other bodies are short.
    """

    def __init__(self, app: Any) -> None:
        self._app = app

    async def __call__(self, scope: dict[str, Any], receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        most = MOST_BYTES
        if scope["path"] == _SAMPLES and await _may_bring_samples(scope):
            most = MOST_SAMPLE_BYTES
        headers = dict(scope["headers"])
        told = headers.get(b"content-length", b"0")
        if not told.isdigit() or int(told) > most:
            await _refuse(send, most)
            return
        taken, refused = 0, False

        async def bounded() -> dict[str, Any]:
            nonlocal taken, refused
            message: dict[str, Any] = await receive()
            taken += len(message.get("body", b""))
            if taken > most:
                # As if the sender had gone: whoever reads stops, and nothing is kept.
                refused = True
                return {"type": "http.disconnect"}
            return message

        async def answer(message: dict[str, Any]) -> None:
            if not refused:
                await send(message)

        await self._app(scope, bounded, answer)
        if refused:
            await _refuse(send, most)


async def _may_bring_samples(scope: dict[str, Any]) -> bool:
    from django.conf import settings
    from django.http import parse_cookie

    cookies = dict(scope["headers"]).get(b"cookie", b"").decode("latin-1")
    key = parse_cookie(cookies).get(settings.SESSION_COOKIE_NAME, "")
    return bool(key) and await sync_to_async(_is_owner)(key)


def _is_owner(session_key: str) -> bool:
    from django.contrib.auth import SESSION_KEY, get_user_model
    from django.contrib.sessions.backends.db import SessionStore
    from django.db import close_old_connections

    try:
        user = str(SessionStore(session_key).get(SESSION_KEY) or "")
        return get_user_model().objects.filter(pk=user, is_staff=True, is_active=True).exists()
    except ValueError:
        return False
    finally:
        close_old_connections()


async def _refuse(send: Any, most: int) -> None:
    trouble = Trouble(
        what=f"The request is longer than {format_bytes(most)}.",
        hint="Send less; sign in first where you bring samples.",
    )
    body = trouble.model_dump_json().encode()
    headers = [
        (b"content-type", b"application/json"),
        (b"content-length", str(len(body)).encode()),
        # What is still coming is not read.
        (b"connection", b"close"),
    ]
    await send({"type": "http.response.start", "status": 413, "headers": headers})
    await send({"type": "http.response.body", "body": body})
