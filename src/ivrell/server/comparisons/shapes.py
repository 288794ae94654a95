"""What the API takes and gives of comparisons."""

import datetime
from dataclasses import fields
from typing import Annotated, Any, Self

from pydantic import BaseModel, Field, field_validator, model_validator

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import looking
from ivrell.core.comparison.claims import Claim
from ivrell.core.comparison.edit import NOT_SETTINGS, data_text, settings_text
from ivrell.core.comparison.model import MATTERS, Answer, Note, Targets
from ivrell.core.comparison.model import Comparison as ComparisonData
from ivrell.core.engines.base import Approach, Problem, Seen
from ivrell.core.engines.registry import ENGINES
from ivrell.core.engines.sheet import SheetApproach, SheetEngine
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.recipe.forms import FORMS
from ivrell.core.records.cost import Assumed
from ivrell.core.records.plan import NamedPlan
from ivrell.core.records.points import Value
from ivrell.core.report.code_lines import code_lines
from ivrell.core.sheets import check as sheets
from ivrell.core.sheets.model import Cell, Column
from ivrell.server.comparisons.models import Comparison, subject
from ivrell.server.jobs.states import JobState
from ivrell.server.previews import PREVIEWS

TableShapes = dict[str, tuple[list[str], int]]
"""Names of the columns, and rows, of each table."""


class LastTrial(BaseModel):
    """A trial as the list of comparisons shows it."""

    id: int
    state: JobState
    conclusion: str
    finished_at: datetime.datetime | None


def _last(trials: list[Any]) -> LastTrial | None:
    if not trials:
        return None
    newest = trials[0]
    return LastTrial(
        id=newest.pk,
        state=newest.job.state,
        conclusion=newest.conclusion,
        finished_at=newest.job.finished_at,
    )


class LaneMark(BaseModel):
    """A lane's name and its place in the palette."""

    name: str
    mark: int


class ComparisonLine(BaseModel):
    """A comparison in the list; ``problem`` says why its file cannot be read, and is else empty."""

    id: int
    name: str
    problem: str
    question: str
    lanes: list[LaneMark]
    trials: int
    last_trial: LastTrial | None
    changed_at: datetime.datetime
    demo: str
    labels: list[str]

    @classmethod
    def of(cls, record: Comparison) -> "ComparisonLine":
        """The line of a record, whose trials are there, the newest first."""
        read, problem = None, ""
        try:
            read = record.data
        except BadInput as error:
            # A file that an earlier version took must not take the list down.
            problem = str(error)
        trials = list(record.trials.all())
        return cls(
            id=record.pk,
            name=record.name,
            problem=problem,
            question=read.question if read else "",
            lanes=[
                LaneMark(name=approach.label, mark=record.marks.get(approach.id, 0))
                for approach in (read.approach if read else [])
            ],
            trials=len(trials),
            last_trial=_last(trials),
            changed_at=record.changed_at,
            demo=record.demo,
            labels=record.labels,
        )


class Labels(BaseModel):
    """Words that a comparison is sorted by."""

    labels: list[Annotated[str, Field(min_length=1, max_length=40)]] = Field(max_length=12)


class SheetShape(BaseModel):
    """What stands on an approach's sheets, and what it will ask of the engine at the usual size.

    ``scan_s`` are seconds of exact searches row by row, ``words`` what is to be said of them.
    ``wrong_name`` is the column or cell whose formula has a mistake, ``wrong_at`` its character.
    """

    columns: list[Column]
    cells: list[Cell]
    rows_of: str
    rows: int
    sorted: list[str]
    timed: list[str]
    formula_cells: int = 0
    scan_s: float = 0.0
    words: str = ""
    random: bool = False
    wrong_name: str = ""
    wrong_at: int = 0

    @classmethod
    def of(cls, approach: Approach, shapes: TableShapes | None, good: bool) -> "SheetShape | None":
        """The sheets of an approach that has some; ``good`` says that nothing is wrong there."""
        engine = ENGINES[approach.engine]
        if (
            shapes is None
            or not isinstance(engine, SheetEngine)
            or not isinstance(approach, SheetApproach)
        ):
            return None
        rows_of = approach.rows_of or list(shapes)[-1]
        cost = engine.cost(approach, shapes) if good else None
        shape = cls(
            columns=list(approach.columns),
            cells=list(approach.cells),
            rows_of=rows_of,
            rows=shapes[rows_of][1] if rows_of in shapes else 0,
            sorted=list(approach.sorted),
            timed=list(approach.timed),
        )
        if cost:
            shape.formula_cells, shape.scan_s = cost.cells, cost.scan_s
            shape.words, shape.random = cost.words, cost.random
        shape.wrong_name, shape.wrong_at = _mistake(approach, shapes)
        return shape


def _mistake(approach: SheetApproach, shapes: TableShapes) -> tuple[str, int]:
    """Where on the sheet the first mistake is: the column or cell, and the character."""
    wrong = sheets.problem(approach, shapes)
    if wrong is None or wrong.line is None or wrong.column is None:
        return "", 0
    label, _ = sheets.labelled(approach)[wrong.line - 1]
    return label.split(" ")[0].rstrip(":"), wrong.column - len(label) - 2


class FormChoice(BaseModel):
    """A form that an approach can read its tables in, and how that is said."""

    form: str
    words: str


class Lane(BaseModel):
    """An approach with what can be told of its text without running it; ``how``, ``answer`` and
    ``sees`` help whoever writes it."""

    id: str
    name: str
    engine: str
    language: str
    explains: bool
    input: str
    parts: int
    forms: list[FormChoice]
    how: str
    answer: str
    sees: list[Seen]
    parent: str | None
    note: str
    code: str
    setup: str | None
    settings_text: str
    settings_known: list[str]
    code_lines: int
    problem: Problem | None
    retired: bool
    runtime: str
    service: bool
    sheet: SheetShape | None

    @classmethod
    def of(cls, approach: Approach, data: ComparisonData, shapes: TableShapes | None) -> "Lane":
        """An approach of a comparison whose tables are so shaped."""
        engine, needs = ENGINES[approach.engine], approach.needs
        problem = engine.problem(approach)
        if problem is None and shapes is not None:
            problem = engine.problem_with(approach, shapes)
        return cls(
            id=approach.id,
            name=approach.label,
            engine=approach.engine,
            language=engine.language_of(approach),
            explains=engine.explains(approach),
            input=approach.wanted.form,
            parts=approach.wanted.parts,
            forms=[
                FormChoice(form=form, words=f"tables of {form}" if form in DATABASES else form)
                for form in ([needs.server] if needs.server else engine.forms or FORMS)
            ],
            how=engine.how,
            answer=engine.answer,
            sees=engine.sees(approach, data.data.tables, data.knobs),
            parent=approach.parent,
            note=approach.note,
            code=approach.text(),
            setup=needs.setup,
            settings_text=settings_text(approach),
            settings_known=[f.name for f in fields(approach) if f.name not in NOT_SETTINGS],
            code_lines=code_lines(approach.text(), engine.language_of(approach)),
            problem=problem,
            retired=approach.retired,
            runtime=needs.runtime,
            service=needs.service is not None,
            sheet=SheetShape.of(approach, shapes, problem is None),
        )


class BoardColumn(BaseModel):
    """A column of the board in its place: the ``key`` of a measure, or of a part that the board
    always has; the width in pixels, and whether its axis is logarithmic; null leaves what is
    usual."""

    model_config = {"extra": "forbid"}

    key: Annotated[str, Field(min_length=1, max_length=200)]
    width: Annotated[int, Field(ge=40, le=2000)] | None = None
    log: bool | None = None


class Board(BaseModel):
    """The columns of the board in their order; none are the usual ones."""

    columns: Annotated[list[BoardColumn], Field(max_length=60)]


class Remarks(BaseModel):
    """All notes and claims of a comparison, to be put in place of those that are there."""

    notes: Annotated[list[Note], Field(max_length=500)]
    claims: Annotated[list[Claim], Field(max_length=200)]


class ComparisonShape(BaseModel):
    """A comparison in full; ``columns`` are the names of each table's, none of a table that is
    the user's own file; ``marks`` each lane's place in the palette; ``board`` the columns that
    were chosen, none for the usual ones. The code of one that is ``unread`` came from somebody else
    and runs only once it is said to be read."""

    id: int
    name: str
    question: str
    baseline: str | None
    answer: Answer
    targets: Targets
    knobs: dict[str, list[Value]]
    lanes: list[Lane]
    data_text: str
    tables: list[str]
    columns: dict[str, list[str]]
    text: str
    marks: dict[str, int]
    matters: float
    notes: list[Note]
    claims: list[Claim]
    cost: Assumed | None
    plans: list[NamedPlan]
    board: list[BoardColumn]
    changed_at: datetime.datetime
    demo: str
    unread: bool

    @classmethod
    def of(cls, record: Comparison) -> "ComparisonShape":
        """A record in full. Raises BadInput where its text cannot be read any more."""
        read = record.data
        shapes = _shapes(record, read)
        return cls(
            id=record.pk,
            name=record.name,
            question=read.question,
            baseline=read.baseline_id,
            answer=read.answer,
            targets=read.targets,
            knobs=read.knobs,
            lanes=[Lane.of(approach, read, shapes) for approach in read.approach],
            data_text=data_text(record.text),
            tables=list(read.data.tables),
            columns={
                name: [column.name for column in table.columns]
                for name, table in read.data.tables.items()
            },
            text=record.text,
            marks=record.marks,
            matters=read.matters,
            notes=read.note,
            claims=read.claim,
            cost=read.cost,
            plans=read.plan,
            board=[BoardColumn.model_validate(column) for column in record.board],
            changed_at=record.changed_at,
            demo=record.demo,
            unread=record.unread,
        )


def _shapes(record: Comparison, data: ComparisonData) -> TableShapes | None:
    """Columns and rows of each table at the first point; None where no approach asks for them or
    they cannot be told."""
    if not any(ENGINES[approach.engine].looks_at_tables for approach in data.approach):
        return None
    try:
        return PREVIEWS.ask(looking.table_shapes, subject(record.text))
    except BadInput:
        return None


class AnswerChange(BaseModel):
    """Fields of the answer to set; null takes one out, absent ones stay."""

    model_config = {"extra": "forbid"}

    key: list[str] | None = None
    order: bool | None = None
    exact_types: bool | None = None
    relative: float | None = None
    absolute: float | None = None
    reference: str | None = None
    expected: str | None = None


class TargetsChange(BaseModel):
    """Targets to set, as numbers or as they are written ("1 s"); null takes one out."""

    model_config = {"extra": "forbid"}

    elapsed: float | str | None = None
    memory: int | str | None = None


class SettingsChange(BaseModel):
    """Settings of the question that may be changed one by one; absent ones stay."""

    name: Annotated[str, Field(min_length=1, max_length=200)] = "unnamed"
    question: str = ""
    baseline: str = ""
    matters: float = MATTERS
    answer: AnswerChange = AnswerChange()
    targets: TargetsChange = TargetsChange()
    knobs: dict[str, list[Value] | None] = {}


class Text(BaseModel):
    """A comparison file, or its recipe."""

    text: Annotated[str, Field(max_length=2_000_000)]


class LaneChange(BaseModel):
    """Fields of an approach to set; absent ones stay."""

    id: str = ""
    name: str = ""
    engine: str = ""
    input: str = ""
    parent: str | None = None
    note: str = ""
    code: str = ""
    setup: str = ""
    retired: bool = False
    columns: list[Column] = []
    settings_text: str = ""

    @property
    def given(self) -> dict[str, Any]:
        """The fields that are to be set."""
        given = self.model_dump(exclude_unset=True)
        if "columns" in given:
            given["columns"] = [
                {name: value for name, value in vars(column).items() if value is not None}
                for column in self.columns
            ]
        return given


class NewLane(BaseModel):
    """A new lane: of an engine, in one of its ways where that is named, branched from another
    lane, or a copy of one beside it."""

    engine: str = "python"
    way: str = ""
    branch_from: str | None = None
    copy_of: str | None = None
    name: str = ""

    @field_validator("engine")
    @classmethod
    def _known(cls, name: str) -> str:
        if name not in ENGINES:
            raise ValueError(f'there is no engine "{name}"; engines: {", ".join(ENGINES)}')
        return name

    @model_validator(mode="after")
    def _known_way(self) -> Self:
        ways = ENGINES[self.engine].ways
        if self.way and self.way not in ways:
            known = ", ".join(ways) or "none"
            raise ValueError(f'{self.engine} has no way "{self.way}"; ways: {known}')
        return self


class LaneOrder(BaseModel):
    """Every lane's id in the order wanted."""

    ids: list[str]
