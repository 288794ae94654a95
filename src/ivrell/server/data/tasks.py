"""Making data in the queue that trials wait in too, so that neither disturbs the other."""

import logging
import platform
import time

from django.conf import settings
from procrastinate.contrib.django import app

from ivrell.core.base.errors import BadInput, Stopped, room_on_disk
from ivrell.core.base.locks import in_use
from ivrell.core.comparison import looking
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.preview import whole_profile
from ivrell.core.recipe.store import DataStore
from ivrell.core.records.trouble import Trouble
from ivrell.server.comparisons.models import subject
from ivrell.server.data.models import Making
from ivrell.server.data.shapes import MakingProgress
from ivrell.server.queue import MACHINE_LOCK, QUEUE
from ivrell.server.troubles import told

log = logging.getLogger("ivrell.data")
_TELL_EVERY_S = 0.4


class _Watched:
    """Keeps a making's record up to date while blocks come, and asks it for a stop."""

    def __init__(self, making: Making) -> None:
        self.making = making
        self._what = ("", "")
        self._began = self._told = self._asked = 0.0

    def progress(self, table: str, form: str, rows: int, total: int) -> None:
        now = time.monotonic()
        if (table, form) != self._what:
            self._what, self._began, self._first = (table, form), now, rows
        if now - self._told < _TELL_EVERY_S and rows < total:
            return
        self._told = now
        taken, since = now - self._began, rows - self._first
        rate = since / taken if taken > 0 and since else None
        self.making.progress = MakingProgress(
            table=table,
            form=form,
            rows=rows,
            total=total,
            rows_per_second=rate,
            seconds_left=(total - rows) / rate if rate else None,
        ).model_dump()
        self.making.save(update_fields=["progress"])

    def stopped(self) -> bool:
        if time.monotonic() - self._asked >= _TELL_EVERY_S:
            self._asked = time.monotonic()
            self.making.refresh_from_db(fields=["stop_asked"])
        return self.making.stop_asked


@app.task(queue=QUEUE, lock=f"{MACHINE_LOCK}:{platform.node()}", name="make_data")
def make_data(making_id: int) -> None:
    """Make what a record asks for."""
    making = Making.objects.get(pk=making_id)
    if making.state not in (Making.State.WAITING, Making.State.RUNNING):
        return
    if making.stop_asked:
        making.finish(Making.State.STOPPED)
        return
    making.state = Making.State.RUNNING
    making.save(update_fields=["state"])

    def failed(trouble: Trouble) -> None:
        making.finish(Making.State.FAILED, trouble)

    with told(log, str(making), "Making the data", failed, "; what is made already is kept"):
        try:
            recipe = looking.resolved(subject(making.text, making.request.knobs))
            data = settings.IVRELL_DATA
            with room_on_disk(data), in_use(data / "made"), in_use(data / "loaded"):
                _make(making, recipe, _Watched(making))
            _trim()
            making.finish(Making.State.DONE)
        except Stopped:
            making.finish(Making.State.STOPPED)


def _make(making: Making, recipe: Recipe, watched: _Watched) -> None:
    wanted = making.request
    tables = wanted.tables or list(recipe.tables)
    store = DataStore(settings.IVRELL_DATA / "made")
    for form in wanted.forms:
        if form in DATABASES:
            _load(making, recipe, form, watched)
            continue
        for table in tables:
            made = store.ensure(
                recipe, table, form,
                workers=settings.CORES, progress=watched.progress, stopped=watched.stopped,
            )  # fmt: skip
            making.made = [*making.made, made.record().model_dump(mode="json")]
            making.save(update_fields=["made"])
    if wanted.profile:
        generator = Generator(recipe)
        for table in tables:
            profiles = whole_profile(
                generator, table, progress=watched.progress, stopped=watched.stopped
            )
            making.profiles[table] = [profile.model_dump(mode="json") for profile in profiles]


def _trim() -> None:
    try:
        DataStore(settings.IVRELL_DATA / "made").trim(settings.MADE_LIMIT_BYTES)
    except BadInput as error:
        log.info("made data was not trimmed: %s", error)


def _load(making: Making, recipe: Recipe, engine: str, watched: _Watched) -> None:
    databases = DatabaseStore(settings.IVRELL_DATA / "loaded")
    try:
        loaded = databases.ensure(
            recipe, engine, progress=watched.progress, stopped=watched.stopped
        )
    finally:
        databases.stop()
    tables = [table.model_dump(mode="json") for table in loaded.records()]
    making.made = [*making.made, *tables]
