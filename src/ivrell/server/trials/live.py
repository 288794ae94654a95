"""Live events of a trial as server-sent events.

One database connection a process listens; it wakes the streams, each of which reads the
events that it has not sent. A stream that was cut goes on from ``Last-Event-ID``.
"""

import asyncio
import logging
import re
from collections import defaultdict
from collections.abc import AsyncIterator

import psycopg
from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import connections
from django.http import HttpRequest, JsonResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase

from ivrell.core.records.trouble import Trouble
from ivrell.server.trials.models import CHANNEL, Event, Trial

log = logging.getLogger("ivrell.live")
_KEEP_ALIVE_S = 15.0
_RETRY_S = 2.0
_BATCH = 500
_NUMBER = re.compile("[0-9]{1,18}")


class Hub:
    """Wakes the streams of a trial when the database says that something happened."""

    def __init__(self) -> None:
        self._waiting: dict[int, set[asyncio.Event]] = defaultdict(set)
        self._task: asyncio.Task[None] | None = None

    def join(self, trial: int) -> asyncio.Event:
        """A flag that is set whenever the trial has new events."""
        if self._task is None or self._task.done():
            self._task = asyncio.create_task(self._listen())
        flag = asyncio.Event()
        self._waiting[trial].add(flag)
        return flag

    def leave(self, trial: int, flag: asyncio.Event) -> None:
        """Wake that flag no more."""
        self._waiting[trial].discard(flag)
        if not self._waiting[trial]:
            del self._waiting[trial]

    async def _listen(self) -> None:
        db = {name: str(value) for name, value in settings.DATABASES["default"].items()}
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(
                    host=db["HOST"],
                    port=db["PORT"],
                    dbname=db["NAME"],
                    user=db["USER"],
                    password=db["PASSWORD"],
                    autocommit=True,
                ) as connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    self._wake_all()
                    async for notice in connection.notifies():
                        for flag in self._waiting.get(int(notice.payload), ()):
                            flag.set()
            except psycopg.OperationalError as error:
                log.warning("listening to the database was cut: %s", error)
                await asyncio.sleep(_RETRY_S)

    def _wake_all(self) -> None:
        """After a new start of listening: something may have been missed."""
        for flags in self._waiting.values():
            for flag in flags:
                flag.set()


hub = Hub()


# A stream may be open for hours: between two looks it must hold no connection of the records,
# of which there are some tens. A request's own thread would keep one until its end.
def _signed_in(request: HttpRequest) -> bool:
    try:
        return request.user.is_authenticated
    finally:
        connections.close_all()


def _after(trial: int, last: int) -> tuple[list[Event], bool]:
    """Events after one, and whether the trial can bring any more."""
    try:
        # In this order: what is told between the two looks is not lost.
        ended = not Trial.objects.under_way().filter(pk=trial).exists()
        events = list(Event.objects.filter(trial=trial, pk__gt=last).order_by("pk")[:_BATCH])
        return events, ended
    finally:
        connections.close_all()


async def _stream(trial: int, last: int) -> AsyncIterator[bytes]:
    flag = hub.join(trial)
    try:
        while True:
            flag.clear()
            events, ended = await sync_to_async(_after, thread_sensitive=False)(trial, last)
            for event in events:
                last = event.pk
                yield f"id: {event.pk}\ndata: {event.live.model_dump_json()}\n\n".encode()
            if len(events) == _BATCH:
                continue
            if ended:
                yield b"event: over\ndata: {}\n\n"
                return
            try:
                await asyncio.wait_for(flag.wait(), _KEEP_ALIVE_S)
            except TimeoutError:
                yield b": still here\n\n"
    finally:
        hub.leave(trial, flag)


def last_seen(request: HttpRequest) -> int:
    """Number of the event that a reader saw last, 0 where it tells none that there can be."""
    given = request.headers.get("Last-Event-ID", "")
    return int(given) if _NUMBER.fullmatch(given) else 0


async def events(request: HttpRequest, trial: int) -> HttpResponseBase:
    """Stream the events of a trial until it has ended."""
    if not await sync_to_async(_signed_in, thread_sensitive=False)(request):
        return JsonResponse(Trouble(what="Sign in first.").model_dump(), status=401)
    return StreamingHttpResponse(
        _stream(trial, last_seen(request)),
        content_type="text/event-stream",
        headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"},
    )
