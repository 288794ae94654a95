"""What the API takes and gives of data."""

import datetime

from pydantic import BaseModel

from ivrell.core.recipe.edit import Edit
from ivrell.core.recipe.kinds.settings import Setting
from ivrell.core.records.data import MadeTable
from ivrell.core.records.points import Value
from ivrell.core.records.profile import LookTable, Profile
from ivrell.core.records.trouble import Trouble
from ivrell.server.jobs.states import JobState


class Written(BaseModel):
    """A recipe being written (the stored one when absent), at some knob values."""

    data_text: str | None = None
    knobs: dict[str, Value] = {}


class LookRequest(Written):
    """A recipe to look at, after some changes."""

    edits: list[Edit] = []


class Look(BaseModel):
    """All tables of a recipe at one point, and its text after the changes asked for."""

    seed: int
    data_text: str
    tables: list[LookTable]


class RowsRequest(Written):
    """Which rows of which table, from ``first`` (counted from 0) on."""

    table: str
    first: int
    count: int


class Rows(BaseModel):
    """Rows as text."""

    first: int
    rows: list[list[str | None]]


class Cost(BaseModel):
    """What a form of a table takes: estimated, or measured where it stands made."""

    form: str
    bytes: int
    seconds: float
    measured: bool


class TableCosts(BaseModel):
    """What each form of a table takes."""

    table: str
    forms: list[Cost]


class Costs(BaseModel):
    """What each form of each table takes, and the forms it can be loaded into."""

    tables: list[TableCosts]
    databases: list[str]


class KindOfColumn(BaseModel):
    """A kind of column, whether a table can be sorted by one, and all that can be set of it."""

    kind: str
    sortable: bool
    settings: list[Setting]


class Kinds(BaseModel):
    """Every kind of column."""

    kinds: list[KindOfColumn]


class MakeRequest(BaseModel):
    """Data to make ahead of a trial: forms (of all tables unless some are named), and
    whether to profile every row."""

    forms: list[str] = []
    tables: list[str] | None = None
    knobs: dict[str, Value] = {}
    profile: bool = False


class MakingProgress(BaseModel):
    """How far the table being made is."""

    table: str
    form: str
    rows: int
    total: int
    rows_per_second: float | None
    seconds_left: float | None


class MakingShape(BaseModel):
    """Data being made, or made."""

    id: int
    state: JobState
    forms: list[str]
    profile: bool
    progress: MakingProgress | None
    made: list[MadeTable]
    profiles: dict[str, list[Profile]]
    message: Trouble | None
    stop_asked: bool
    created_at: datetime.datetime


class Makings(BaseModel):
    """The newest making of a comparison, if any."""

    newest: MakingShape | None


class SampleColumn(BaseModel):
    """A column of a sample beside the generated one: the shapes of both, their distance (0
    the same, 1 nothing in common), and what was fitted in words."""

    table: str
    name: str
    note: str
    distance: float | None
    sample: Profile
    generated: Profile


class SampleShape(BaseModel):
    """The sample that a recipe was shaped after; ``recipe_changed`` since then."""

    columns: list[SampleColumn]
    recipe_changed: bool
