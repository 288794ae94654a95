"""Making data in the queue that trials wait in too, so that neither disturbs the other."""

import logging
import time
from collections.abc import Iterable

from django.conf import settings

from ivrell.core.base.errors import BadInput, room_on_disk
from ivrell.core.base.locks import in_use
from ivrell.core.comparison import looking
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.recipe.generate import Generator
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.preview import whole_profile
from ivrell.core.recipe.store import DataStore
from ivrell.core.records.data import MadeTable
from ivrell.server.comparisons.models import subject
from ivrell.server.data.models import Making
from ivrell.server.data.shapes import MakingProgress
from ivrell.server.jobs.handlers import HANDLERS, Handler, Hold
from ivrell.server.jobs.models import Job

log = logging.getLogger("ivrell.data")
_TELL_EVERY_S = 0.4


class _Watched:
    """Keeps a making's record up to date while blocks come, and asks it for a stop."""

    def __init__(self, making: Making, hold: Hold) -> None:
        self.making = making
        self.stopped = hold.stopped
        self._what = ("", "")
        self._began = self._told = 0.0

    def progress(self, table: str, form: str, rows: int, total: int) -> None:
        now = time.monotonic()
        if (table, form) != self._what:
            self._what, self._began, self._first = (table, form), now, rows
        if now - self._told < _TELL_EVERY_S and rows < total:
            return
        self._told = now
        taken, since = now - self._began, rows - self._first
        rate = since / taken if taken > 0 and since else None
        self.making.job.progress = MakingProgress(
            table=table,
            form=form,
            rows=rows,
            total=total,
            rows_per_second=rate,
            seconds_left=(total - rows) / rate if rate else None,
        ).model_dump()
        self.making.job.save(update_fields=["progress"])


def _work(job: Job, hold: Hold) -> None:
    """Make what a record asks for."""
    making = job.subject_of(Making)
    recipe = looking.resolved(subject(making.text, making.request.knobs))
    data = settings.IVRELL_DATA
    with room_on_disk(data), in_use(data / "made"), in_use(data / "loaded"):
        _make(making, recipe, _Watched(making, hold))
    _trim()


def _make(making: Making, recipe: Recipe, watched: _Watched) -> None:
    wanted = making.request
    making.made, making.profiles = [], {}
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
            _keep(making, [made.record()])
    if wanted.profile:
        generator = Generator(recipe)
        for table in tables:
            profiles = whole_profile(
                generator, table, progress=watched.progress, stopped=watched.stopped
            )
            making.profiles[table] = [profile.model_dump(mode="json") for profile in profiles]
            making.save(update_fields=["profiles"])


def _keep(making: Making, tables: Iterable[MadeTable]) -> None:
    making.made = [*making.made, *(table.model_dump(mode="json") for table in tables)]
    making.save(update_fields=["made"])


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
    _keep(making, loaded.records())


HANDLERS["making"] = Handler("Making the data", _work, "; what is made already is kept")
