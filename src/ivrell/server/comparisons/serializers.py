"""What the API takes and gives of comparisons."""

from dataclasses import fields

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from ivrell.core.comparison import looking
from ivrell.core.comparison.edit import NOT_SETTINGS, data_text, settings_text
from ivrell.core.comparison.model import Comparison as ComparisonData
from ivrell.core.engines.registry import ENGINES
from ivrell.core.engines.sheet import SheetEngine
from ivrell.core.errors import BadInput
from ivrell.core.recipe.forms import FORMS
from ivrell.core.report.code_lines import code_lines
from ivrell.core.sheets import check as sheets
from ivrell.server.comparisons.models import Comparison, subject
from ivrell.server.looks import LOOKS


class LastTrialSerializer(serializers.Serializer):
    """A trial as the list of comparisons shows it."""

    id = serializers.IntegerField()
    state = serializers.CharField()
    conclusion = serializers.CharField()
    finished_at = serializers.DateTimeField(allow_null=True)


class LaneMarkSerializer(serializers.Serializer):
    """A lane's name and its place in the palette."""

    name = serializers.CharField()
    mark = serializers.IntegerField()


class ComparisonLineSerializer(serializers.ModelSerializer):
    """A comparison in the list; ``problem`` says why its file cannot be read, and is else empty."""

    problem = serializers.SerializerMethodField()
    question = serializers.SerializerMethodField()
    lanes = serializers.SerializerMethodField()
    trials = serializers.IntegerField(source="trial_count", read_only=True)
    last_trial = serializers.SerializerMethodField()

    class Meta:
        model = Comparison
        fields = [
            "id", "name", "problem", "question", "lanes", "trials", "last_trial", "changed_at",
            "demo",
        ]  # fmt: skip

    def to_representation(self, record: Comparison) -> dict:
        self.read, self.wrong = None, ""
        try:
            self.read = record.data
        except BadInput as error:
            # A file that an earlier version took must not take the list down.
            self.wrong = str(error)
        return super().to_representation(record)

    def get_problem(self, record: Comparison) -> str:
        return self.wrong

    def get_question(self, record: Comparison) -> str:
        return self.read.question if self.read else ""

    @extend_schema_field(LaneMarkSerializer(many=True))
    def get_lanes(self, record: Comparison) -> list[dict]:
        return [
            {"name": approach.label, "mark": record.marks.get(approach.id, 0)}
            for approach in (self.read.approach if self.read else [])
        ]

    @extend_schema_field(LastTrialSerializer(allow_null=True))
    def get_last_trial(self, record: Comparison):
        trial = record.trials.order_by("-id").first()
        return LastTrialSerializer(trial).data if trial else None


class SheetColumnSerializer(serializers.Serializer):
    """A column of an answer sheet."""

    name = serializers.CharField(max_length=60)
    formula = serializers.CharField(trim_whitespace=False, max_length=20_000)
    layout = serializers.ChoiceField(choices=["rows", "helper", "array", "cell"])
    kind = serializers.CharField(required=False, allow_null=True)


class SheetSerializer(serializers.Serializer):
    """What stands on an approach's sheets, and what it will ask of the engine at the usual size.

    ``scan_s`` are seconds of exact searches row by row, ``words`` what is to be said of them.
    ``wrong_name`` is the column or cell whose formula has a mistake, ``wrong_at`` its character.
    """

    columns = SheetColumnSerializer(many=True)
    cells = serializers.ListField(child=serializers.DictField())
    rows_of = serializers.CharField()
    rows = serializers.IntegerField()
    sorted = serializers.ListField(child=serializers.CharField())
    timed = serializers.ListField(child=serializers.CharField())
    formula_cells = serializers.IntegerField()
    scan_s = serializers.FloatField()
    words = serializers.CharField(allow_blank=True)
    random = serializers.BooleanField()
    wrong_name = serializers.CharField(allow_blank=True)
    wrong_at = serializers.IntegerField()


class LaneSerializer(serializers.Serializer):
    """An approach with what can be told of its text without running it."""

    id = serializers.CharField()
    name = serializers.CharField()
    engine = serializers.CharField()
    language = serializers.CharField()
    input = serializers.CharField()
    parts = serializers.IntegerField()
    forms = serializers.ListField(child=serializers.CharField())
    parent = serializers.CharField(allow_null=True)
    note = serializers.CharField(allow_blank=True)
    code = serializers.CharField()
    setup = serializers.CharField(allow_null=True)
    settings_text = serializers.CharField(allow_blank=True)
    settings_known = serializers.ListField(child=serializers.CharField())
    code_lines = serializers.IntegerField()
    problem = serializers.DictField(allow_null=True)
    retired = serializers.BooleanField()
    runtime = serializers.CharField(allow_null=True)
    service = serializers.BooleanField()
    sheet = SheetSerializer(allow_null=True)


TableShapes = dict[str, tuple[list[str], int]]


def _shapes(record: Comparison, data: ComparisonData) -> TableShapes | None:
    """Columns and rows of each table at the first point; None where no approach asks for them or
    they cannot be told."""
    if not any(ENGINES[approach.engine].looks_at_tables for approach in data.approach):
        return None
    try:
        return LOOKS.ask(looking.table_shapes, subject(record.text))
    except BadInput:
        return None


def _sheet(approach, shapes: TableShapes | None, good: bool) -> dict | None:
    engine = ENGINES[approach.engine]
    if shapes is None or not isinstance(engine, SheetEngine):
        return None
    rows_of = approach.rows_of or list(shapes)[-1]
    asked = engine.cost(approach, shapes) if good else None
    return {
        "columns": [vars(column) for column in approach.columns],
        "cells": [vars(cell) for cell in approach.cells],
        "rows_of": rows_of,
        "rows": shapes[rows_of][1] if rows_of in shapes else 0,
        "sorted": list(approach.sorted),
        "timed": list(approach.timed),
        "formula_cells": asked.cells if asked else 0,
        "scan_s": asked.scan_s if asked else 0.0,
        "words": asked.words if asked else "",
        "random": bool(asked and asked.random),
        **_mistake(approach, shapes),
    }


def _mistake(approach, shapes: TableShapes) -> dict:
    """Where on the sheet the first mistake is."""
    wrong = sheets.problem(approach, shapes)
    if wrong is None or wrong.line is None or wrong.column is None:
        return {"wrong_name": "", "wrong_at": 0}
    label, _ = sheets.labelled(approach)[wrong.line - 1]
    name = label.split(" ")[0].rstrip(":")
    return {"wrong_name": name, "wrong_at": wrong.column - len(label) - 2}


def lane(approach, shapes: TableShapes | None) -> dict:
    """The fields of LaneSerializer for an approach of a comparison whose tables are so shaped."""
    engine = ENGINES[approach.engine]
    problem = engine.problem(approach)
    if problem is None and shapes is not None:
        problem = engine.problem_with(approach, shapes)
    server = getattr(approach, "server", None)
    return {
        "id": approach.id,
        "name": approach.label,
        "engine": approach.engine,
        "language": engine.language,
        "input": approach.wanted.form,
        "parts": approach.wanted.parts,
        "forms": [server] if server else list(engine.forms or FORMS),
        "parent": approach.parent,
        "note": approach.note,
        "code": approach.text(),
        "setup": getattr(approach, "setup", None),
        "settings_text": settings_text(approach),
        "settings_known": [f.name for f in fields(approach) if f.name not in NOT_SETTINGS],
        "code_lines": code_lines(approach.text(), engine.language),
        "problem": vars(problem) if problem else None,
        "retired": approach.retired,
        "runtime": getattr(approach, "runtime", None),
        "service": hasattr(approach, "service"),
        "sheet": _sheet(approach, shapes, problem is None),
    }


class AnswerSerializer(serializers.Serializer):
    """Shape of the answer and its tolerance."""

    key = serializers.ListField(child=serializers.CharField())
    order = serializers.BooleanField()
    exact_types = serializers.BooleanField()
    relative = serializers.FloatField()
    absolute = serializers.FloatField()
    reference = serializers.CharField(allow_null=True)
    expected = serializers.CharField(allow_null=True)


class TargetsSerializer(serializers.Serializer):
    """Targets in seconds and bytes."""

    elapsed = serializers.FloatField(allow_null=True)
    memory = serializers.IntegerField(allow_null=True)


class ComparisonSerializer(serializers.ModelSerializer):
    """A comparison in full."""

    question = serializers.SerializerMethodField()
    baseline = serializers.SerializerMethodField()
    answer = serializers.SerializerMethodField()
    targets = serializers.SerializerMethodField()
    knobs = serializers.SerializerMethodField()
    lanes = serializers.SerializerMethodField()
    data_text = serializers.SerializerMethodField()
    tables = serializers.SerializerMethodField()
    columns = serializers.SerializerMethodField()
    marks = serializers.DictField(child=serializers.IntegerField(), read_only=True)

    class Meta:
        model = Comparison
        fields = [
            "id", "name", "question", "baseline", "answer", "targets", "knobs", "lanes",
            "data_text", "tables", "columns", "text", "marks", "changed_at", "demo",
        ]  # fmt: skip

    def to_representation(self, record: Comparison) -> dict:
        self.read: ComparisonData = record.data
        return super().to_representation(record)

    def get_question(self, record: Comparison) -> str:
        return self.read.question

    def get_baseline(self, record: Comparison) -> str | None:
        return self.read.baseline_id

    @extend_schema_field(AnswerSerializer)
    def get_answer(self, record: Comparison) -> dict:
        return self.read.answer.model_dump()

    @extend_schema_field(TargetsSerializer)
    def get_targets(self, record: Comparison) -> dict:
        return self.read.targets.model_dump()

    @extend_schema_field(
        {
            "type": "object",
            "additionalProperties": {
                "type": "array",
                "items": {"oneOf": [{"type": "number"}, {"type": "string"}, {"type": "boolean"}]},
            },
        }
    )
    def get_knobs(self, record: Comparison) -> dict:
        return self.read.knobs

    @extend_schema_field(LaneSerializer(many=True))
    def get_lanes(self, record: Comparison) -> list[dict]:
        shapes = _shapes(record, self.read)
        return [lane(approach, shapes) for approach in self.read.approach]

    def get_data_text(self, record: Comparison) -> str:
        return data_text(record.text)

    def get_tables(self, record: Comparison) -> list[str]:
        return list(self.read.data.tables)

    def get_columns(self, record: Comparison) -> dict[str, list[str]]:
        """Names of each table's columns; none of a table that is the user's own file."""
        tables = self.read.data.tables
        return {name: [column.name for column in table.columns] for name, table in tables.items()}


class SettingsSerializer(serializers.Serializer):
    """Settings of the question that may be changed one by one; absent ones stay."""

    name = serializers.CharField(required=False, max_length=200)
    question = serializers.CharField(required=False, allow_blank=True)
    baseline = serializers.CharField(required=False)
    answer = serializers.DictField(required=False)
    targets = serializers.DictField(required=False)
    knobs = serializers.DictField(required=False)


class TextSerializer(serializers.Serializer):
    """A comparison file, or its recipe."""

    text = serializers.CharField(max_length=2_000_000, trim_whitespace=False)


class SamplesSerializer(serializers.Serializer):
    """Sample files to shape a recipe like."""

    files = serializers.ListField(child=serializers.FileField())
    allow = serializers.CharField(required=False, allow_blank=True)


class LaneChangeSerializer(serializers.Serializer):
    """Fields of an approach to set; absent ones stay."""

    id = serializers.CharField(required=False)
    name = serializers.CharField(required=False, allow_blank=True)
    engine = serializers.ChoiceField(required=False, choices=list(ENGINES))
    input = serializers.CharField(required=False)
    parent = serializers.CharField(required=False, allow_null=True)
    note = serializers.CharField(required=False, allow_blank=True)
    code = serializers.CharField(required=False, allow_blank=True, trim_whitespace=False)
    setup = serializers.CharField(required=False, allow_blank=True, trim_whitespace=False)
    retired = serializers.BooleanField(required=False)
    columns = SheetColumnSerializer(many=True, required=False)
    settings_text = serializers.CharField(required=False, allow_blank=True, trim_whitespace=False)


class NewLaneSerializer(serializers.Serializer):
    """A new lane: of an engine, branched from another lane, or a copy of one beside it."""

    engine = serializers.ChoiceField(required=False, choices=list(ENGINES))
    branch_from = serializers.CharField(required=False)
    copy_of = serializers.CharField(required=False)
    name = serializers.CharField(required=False, allow_blank=True)


class OrderSerializer(serializers.Serializer):
    """Every lane's id in the order wanted."""

    ids = serializers.ListField(child=serializers.CharField())
