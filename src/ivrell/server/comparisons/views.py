"""The API of comparisons."""

from collections.abc import Callable
from typing import Any

from django.db import transaction
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from django.utils.text import slugify
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import status, viewsets
from rest_framework.decorators import action
from rest_framework.request import Request
from rest_framework.response import Response

from ivrell.core.comparison import edit
from ivrell.core.comparison.file import parse
from ivrell.core.records.cost import Assumed
from ivrell.server.asking import asked
from ivrell.server.comparisons import shapes
from ivrell.server.comparisons.models import Comparison
from ivrell.server.comparisons.starting import NEW_RECIPE, fresh_id, new_comparison, starting_fields
from ivrell.server.replies import reply, reply_all


def _replaced(text: str, lane: str, settings: dict[str, Any]) -> dict[str, Any]:
    """Settings of a lane as they are to be; what is there and not among them goes."""
    present = edit.fields_of(parse(text).approach_called(lane))
    gone = {key: None for key in present if key not in edit.NOT_SETTINGS}
    return {**gone, **settings}


def _with_lane(text: str, given: shapes.NewLane) -> str:
    """The text with a new lane."""
    comparison = parse(text)
    origin = given.branch_from or given.copy_of
    if origin:
        source = comparison.approach_called(origin)
        copied = given.copy_of is not None
        name = given.name or f"{source.label}, {'copy' if copied else 'changed'}"
        parent = source.parent if copied else origin
        taken = {
            key: value
            for key, value in edit.fields_of(source).items()
            if key not in ("id", "name", "parent", "note", "retired")
        }
        fields = {**taken, **({"parent": parent} if parent else {})}
    else:
        name = given.name or (given.way and given.way[0].upper() + given.way[1:]) or "New lane"
        fields = starting_fields(given.engine, comparison, given.way)
    fields = {"id": fresh_id(name, comparison), "name": name, **fields}
    return edit.add_approach(text, fields, after=origin)


def _record(number: int) -> Comparison:
    """A record, one that was deleted too."""
    return get_object_or_404(Comparison, pk=number)


class ComparisonViewSet(viewsets.ViewSet):
    """Comparisons: list, make, change, delete and bring back."""

    lookup_url_kwarg = "id"
    lookup_value_converter = "number"

    @extend_schema(responses=shapes.ComparisonLine)
    def list(self, request: Request) -> Response:
        """All comparisons, the last changed first."""
        records = Comparison.objects.listed()
        return reply_all(shapes.ComparisonLine.of(record) for record in records)

    @extend_schema(responses=shapes.ComparisonShape)
    def retrieve(self, request: Request, id: int) -> Response:
        """A comparison in full."""
        return self._shown(_record(id))

    @extend_schema(request=None, responses={201: shapes.ComparisonShape})
    def create(self, request: Request) -> Response:
        """A new comparison, with one table that is to be named and filled."""
        text = new_comparison(
            "New comparison", NEW_RECIPE, knobs="rows = [100_000, 10_000, 1_000_000]"
        )
        return self._shown(Comparison.objects.from_text(text), status.HTTP_201_CREATED)

    @extend_schema(request=shapes.Text, responses={201: shapes.ComparisonShape})
    @action(detail=False, methods=["post"], url_path="import")
    def import_file(self, request: Request) -> Response:
        """A new comparison from the text of a comparison file."""
        text = asked(shapes.Text, request).text
        return self._shown(Comparison.objects.from_text(text), status.HTTP_201_CREATED)

    @extend_schema(request=shapes.SettingsChange, responses=shapes.ComparisonShape)
    def partial_update(self, request: Request, id: int) -> Response:
        """Change name, question, baseline, what matters, answer, targets or knobs."""
        given = asked(shapes.SettingsChange, request).model_dump(exclude_unset=True)

        def changed(text: str) -> str:
            top: dict[str, Any] = {
                key: given[key]
                for key in ("name", "question", "baseline", "matters")
                if key in given
            }
            if top:
                text = edit.set_fields(text, None, top)
            for section in ("answer", "targets", "knobs"):
                if section in given:
                    text = edit.set_fields(text, section, given[section])
            return text

        return self._change(id, changed)

    @extend_schema(request=None, responses=shapes.ComparisonShape)
    @action(detail=True, methods=["post"], url_path="code-is-read")
    def code_is_read(self, request: Request, id: int) -> Response:
        """Say that the code was read that came with somebody's trial; it may run from now on."""
        record = _record(id)
        record.unread = False
        record.save(update_fields=["unread"])
        return self._shown(record)

    @extend_schema(responses={204: None})
    def destroy(self, request: Request, id: int) -> Response:
        """Delete; it can be brought back."""
        record = _record(id)
        record.deleted_at = timezone.now()
        record.save(update_fields=["deleted_at"])
        return Response(status=status.HTTP_204_NO_CONTENT)

    @extend_schema(request=None, responses=shapes.ComparisonShape)
    @action(detail=True, methods=["post"])
    def restore(self, request: Request, id: int) -> Response:
        """Bring a deleted comparison back."""
        record = _record(id)
        record.deleted_at = None
        record.save(update_fields=["deleted_at"])
        return self._shown(record)

    @extend_schema(responses={(200, "application/toml"): OpenApiTypes.STR})
    @action(detail=True, methods=["get"])
    def file(self, request: Request, id: int) -> HttpResponse:
        """The comparison file, exactly as it is kept."""
        record = _record(id)
        name = slugify(record.name) or "comparison"
        return HttpResponse(
            record.text,
            content_type="application/toml; charset=utf-8",
            headers={"Content-Disposition": f'attachment; filename="{name}.toml"'},
        )

    @extend_schema(request=shapes.Text, responses=shapes.ComparisonShape)
    @action(detail=True, methods=["put"], url_path="text")
    def text(self, request: Request, id: int) -> Response:
        """Put another text in place of the whole file."""
        given = asked(shapes.Text, request).text
        return self._change(id, lambda _: given)

    @extend_schema(request=shapes.Text, responses=shapes.ComparisonShape)
    @action(detail=True, methods=["put"], url_path="recipe")
    def recipe(self, request: Request, id: int) -> Response:
        """Put another recipe in place of ``[data]``."""
        given = asked(shapes.Text, request).text
        return self._change(id, lambda text: edit.replace_data(text, given))

    @extend_schema(request=shapes.Remarks, responses=shapes.ComparisonShape)
    @action(detail=True, methods=["put"], url_path="remarks")
    def remarks(self, request: Request, id: int) -> Response:
        """Put other notes and claims in place of those that are there."""
        given = asked(shapes.Remarks, request)
        notes, claims = (
            [one.model_dump(exclude_defaults=True) for one in some]
            for some in (given.notes, given.claims)
        )
        return self._beside(id, lambda text: edit.set_remarks(text, notes, claims))

    @extend_schema(request=Assumed, responses=shapes.ComparisonShape)
    @action(detail=True, methods=["put"], url_path="cost")
    def cost(self, request: Request, id: int) -> Response:
        """Say anew what costs rest on: how often it runs, and on what."""
        given = asked(Assumed, request).model_dump(exclude_defaults=True)
        return self._beside(id, lambda text: edit.set_table(text, "cost", given))

    @extend_schema(request=shapes.Board, responses=shapes.ComparisonShape)
    @action(detail=True, methods=["put"], url_path="board")
    def board(self, request: Request, id: int) -> Response:
        """Choose the columns of the board of findings."""
        given = asked(shapes.Board, request)
        record = _record(id)
        record.board = [column.model_dump(exclude_none=True) for column in given.columns]
        # Nothing of the comparison itself has changed.
        Comparison.objects.filter(pk=id).update(board=record.board)
        return self._shown(record)

    @extend_schema(request=shapes.Labels, responses=shapes.Labels)
    @action(detail=True, methods=["put"], url_path="labels")
    def labels(self, request: Request, id: int) -> Response:
        """Give it other labels."""
        given = asked(shapes.Labels, request).labels
        labels = list(dict.fromkeys(label.strip() for label in given if label.strip()))
        # Nothing of the comparison itself has changed.
        Comparison.objects.filter(pk=_record(id).pk).update(labels=labels)
        return reply(shapes.Labels(labels=labels))

    @extend_schema(request=shapes.NewLane, responses={201: shapes.ComparisonShape})
    @action(detail=True, methods=["post"], url_path="lanes")
    def add_lane(self, request: Request, id: int) -> Response:
        """Add a lane with starting text, or as a branch of another."""
        given = asked(shapes.NewLane, request)

        return self._change(id, lambda text: _with_lane(text, given), status.HTTP_201_CREATED)

    @extend_schema(request=shapes.LaneOrder, responses=shapes.ComparisonShape)
    @action(detail=True, methods=["put"], url_path="lane-order")
    def lane_order(self, request: Request, id: int) -> Response:
        """Put the lanes in another order."""
        ids = asked(shapes.LaneOrder, request).ids
        return self._change(id, lambda text: edit.order_approaches(text, ids))

    @extend_schema(
        methods=["PATCH"],
        request=shapes.LaneChange,
        responses=shapes.ComparisonShape,
    )
    @extend_schema(methods=["DELETE"], responses={200: shapes.ComparisonShape})
    @action(detail=True, methods=["patch", "delete"], url_path="lanes/<str:lane>")
    def lane(self, request: Request, id: int, lane: str) -> Response:
        """Change a lane's fields, or take it out."""
        if request.method == "DELETE":
            return self._change(id, lambda text: edit.remove_approach(text, lane))
        fields = asked(shapes.LaneChange, request).given
        if fields.get("retired") is False:
            fields["retired"] = None
        if "settings_text" in fields:
            settings = edit.settings_from(fields.pop("settings_text"))
            return self._change(
                id, lambda text: edit.change_approach(text, lane, _replaced(text, lane, settings))
            )
        return self._change(id, lambda text: edit.change_approach(text, lane, fields))

    def _change(
        self, id: int, changed: Callable[[str], str], code: int = status.HTTP_200_OK
    ) -> Response:
        """Change the text of a comparison as one step; two changes at once queue up."""
        with transaction.atomic():
            record = get_object_or_404(Comparison.objects.select_for_update(), pk=id)
            record.put_text(changed(record.text))
            record.save()
        return self._shown(record, code)

    def _beside(self, id: int, changed: Callable[[str], str]) -> Response:
        """Change what is said of figures, which makes none of them old: the time of change
        stays."""
        with transaction.atomic():
            record = get_object_or_404(Comparison.objects.select_for_update(), pk=id)
            record.put_text(changed(record.text))
            record.save(update_fields=["text"])
        return self._shown(record)

    def _shown(self, record: Comparison, code: int = status.HTTP_200_OK) -> Response:
        return reply(shapes.ComparisonShape.of(record), code)
