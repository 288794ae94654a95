"""The API of comparisons."""

from typing import Any

from django.db import transaction
from django.db.models import Count
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from django.utils.text import slugify
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import mixins, status, viewsets
from rest_framework.decorators import action
from rest_framework.request import Request
from rest_framework.response import Response

from ivrell.core.comparison import edit
from ivrell.core.comparison.file import parse
from ivrell.server.comparisons import serializers as shapes
from ivrell.server.comparisons.models import Comparison
from ivrell.server.comparisons.starting import NEW_RECIPE, fresh_id, new_comparison, starting_fields


def _checked(serializer_class: type, request: Request) -> dict[str, Any]:
    serializer = serializer_class(data=request.data)
    serializer.is_valid(raise_exception=True)
    return serializer.validated_data


def _replaced(text: str, lane: str, settings: dict[str, Any]) -> dict[str, Any]:
    """Settings of a lane as they are to be; what is there and not among them goes."""
    present = edit.fields_of(parse(text).lane(lane))
    gone = {key: None for key in present if key not in edit.NOT_SETTINGS}
    return {**gone, **settings}


class ComparisonViewSet(mixins.RetrieveModelMixin, viewsets.GenericViewSet):
    """Comparisons: list, make, change, delete and bring back."""

    queryset = Comparison.objects.all()
    serializer_class = shapes.ComparisonSerializer

    @extend_schema(responses=shapes.ComparisonLineSerializer(many=True))
    def list(self, request: Request) -> Response:
        """All comparisons, the last changed first."""
        records = (
            Comparison.objects.present()
            .annotate(trial_count=Count("trials"))
            .prefetch_related("trials")
            .order_by("-changed_at")
        )
        return Response(shapes.ComparisonLineSerializer(records, many=True).data)

    @extend_schema(request=None, responses={201: shapes.ComparisonSerializer})
    def create(self, request: Request) -> Response:
        """A new comparison with a small recipe to start from."""
        text = new_comparison(
            "New comparison", NEW_RECIPE, knobs="rows = [100_000, 10_000, 1_000_000]"
        )
        return self._shown(Comparison.objects.from_text(text), status.HTTP_201_CREATED)

    @extend_schema(request=shapes.TextSerializer, responses={201: shapes.ComparisonSerializer})
    @action(detail=False, methods=["post"], url_path="import")
    def import_file(self, request: Request) -> Response:
        """A new comparison from the text of a comparison file."""
        text = _checked(shapes.TextSerializer, request)["text"]
        return self._shown(Comparison.objects.from_text(text), status.HTTP_201_CREATED)

    @extend_schema(request=shapes.SettingsSerializer)
    def partial_update(self, request: Request, pk: str) -> Response:
        """Change name, question, baseline, answer, targets or knobs."""
        given = _checked(shapes.SettingsSerializer, request)

        def changed(text: str) -> str:
            top = {key: given[key] for key in ("name", "question", "baseline") if key in given}
            if top:
                text = edit.set_fields(text, None, top)
            for section in ("answer", "targets", "knobs"):
                if section in given:
                    text = edit.set_fields(text, section, given[section])
            return text

        return self._change(pk, changed)

    def destroy(self, request: Request, pk: str) -> Response:
        """Delete; it can be brought back."""
        record = self.get_object()
        record.deleted_at = timezone.now()
        record.save(update_fields=["deleted_at"])
        return Response(status=status.HTTP_204_NO_CONTENT)

    @extend_schema(request=None)
    @action(detail=True, methods=["post"])
    def restore(self, request: Request, pk: str) -> Response:
        """Bring a deleted comparison back."""
        record = self.get_object()
        record.deleted_at = None
        record.save(update_fields=["deleted_at"])
        return self._shown(record)

    @extend_schema(responses={(200, "application/toml"): OpenApiTypes.STR})
    @action(detail=True, methods=["get"])
    def file(self, request: Request, pk: str) -> HttpResponse:
        """The comparison file, exactly as it is kept."""
        record = self.get_object()
        name = slugify(record.name) or "comparison"
        return HttpResponse(
            record.text,
            content_type="application/toml; charset=utf-8",
            headers={"Content-Disposition": f'attachment; filename="{name}.toml"'},
        )

    @extend_schema(request=shapes.TextSerializer)
    @action(detail=True, methods=["put"], url_path="text")
    def text(self, request: Request, pk: str) -> Response:
        """Put another text in place of the whole file."""
        given = _checked(shapes.TextSerializer, request)["text"]
        return self._change(pk, lambda _: given)

    @extend_schema(request=shapes.TextSerializer)
    @action(detail=True, methods=["put"], url_path="recipe")
    def recipe(self, request: Request, pk: str) -> Response:
        """Put another recipe in place of ``[data]``."""
        given = _checked(shapes.TextSerializer, request)["text"]
        return self._change(pk, lambda text: edit.replace_data(text, given))

    @extend_schema(request=shapes.NewLaneSerializer, responses={201: shapes.ComparisonSerializer})
    @action(detail=True, methods=["post"], url_path="lanes")
    def add_lane(self, request: Request, pk: str) -> Response:
        """Add a lane with starting text, or as a branch of another."""
        given = _checked(shapes.NewLaneSerializer, request)

        def changed(text: str) -> str:
            comparison = parse(text)
            origin = given.get("branch_from") or given.get("copy_of")
            if origin:
                source = comparison.lane(origin)
                fields = {
                    key: value
                    for key, value in edit.fields_of(source).items()
                    if key not in ("id", "name", "parent", "note", "retired")
                }
                copied = "copy_of" in given
                name = given.get("name") or f"{source.label}, {'copy' if copied else 'changed'}"
                parent = source.parent if copied else origin
                fields = {"name": name, **fields, **({"parent": parent} if parent else {})}
            else:
                engine = given.get("engine", "python")
                name = given.get("name") or "New lane"
                fields = {"name": name, **starting_fields(engine, comparison)}
            fields = {"id": fresh_id(name, comparison), **fields}
            return edit.add_approach(text, fields, after=origin)

        return self._change(pk, changed, status.HTTP_201_CREATED)

    @extend_schema(request=shapes.OrderSerializer)
    @action(detail=True, methods=["put"], url_path="lane-order")
    def lane_order(self, request: Request, pk: str) -> Response:
        """Put the lanes in another order."""
        ids = _checked(shapes.OrderSerializer, request)["ids"]
        return self._change(pk, lambda text: edit.order_approaches(text, ids))

    @extend_schema(
        methods=["PATCH"],
        request=shapes.LaneChangeSerializer,
        responses=shapes.ComparisonSerializer,
    )
    @extend_schema(methods=["DELETE"], responses={200: shapes.ComparisonSerializer})
    @action(detail=True, methods=["patch", "delete"], url_path=r"lanes/(?P<lane>\w+)")
    def lane(self, request: Request, pk: str, lane: str) -> Response:
        """Change a lane's fields, or take it out."""
        if request.method == "DELETE":
            return self._change(pk, lambda text: edit.remove_approach(text, lane))
        fields = _checked(shapes.LaneChangeSerializer, request)
        if fields.get("retired") is False:
            fields["retired"] = None
        if "settings_text" in fields:
            settings = edit.settings_from(fields.pop("settings_text"))
            return self._change(
                pk, lambda text: edit.change_approach(text, lane, _replaced(text, lane, settings))
            )
        return self._change(pk, lambda text: edit.change_approach(text, lane, fields))

    def _change(self, pk: str, changed, code: int = status.HTTP_200_OK) -> Response:
        """Change the text of a comparison as one step; two changes at once queue up."""
        with transaction.atomic():
            record = get_object_or_404(Comparison.objects.select_for_update(), pk=pk)
            record.put_text(changed(record.text))
            record.save()
        return self._shown(record, code)

    def _shown(self, record: Comparison, code: int = status.HTTP_200_OK) -> Response:
        return Response(shapes.ComparisonSerializer(record).data, status=code)
