"""Bundles by the API: a trial as one file, and one that somebody sends."""

import shutil
import tempfile
from pathlib import Path

from django.db import transaction
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import status
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import format_bytes
from ivrell.core.base.temp_dirs import own_folder
from ivrell.core.bundles.layout import MOST_BYTES
from ivrell.server.comparisons.models import Comparison
from ivrell.server.jobs.models import Job
from ivrell.server.replies import reply
from ivrell.server.trials import shapes
from ivrell.server.trials.models import Trial
from ivrell.server.trials.reindex import take_up
from ivrell.server.trials.reports import now

_BUNDLE = {
    "type": "object",
    "properties": {"file": {"type": "string", "format": "binary"}},
    "required": ["file"],
}


class BundlesView(APIView):
    """Bundles that somebody sends."""

    parser_classes = [MultiPartParser]

    @extend_schema(
        request={"multipart/form-data": _BUNDLE},
        responses={201: shapes.TrialShape},
        operation_id="bring_bundle",
    )
    def post(self, request: Request) -> Response:
        """A trial that came as a bundle, of a new comparison whose code runs only once somebody has
        said that it was read."""
        file = request.FILES.get("file")
        if file is None:
            raise BadInput("No file was sent.", hint="Choose a file that ivrell bundle has made.")
        if (file.size or 0) > MOST_BYTES:
            raise BadInput(f"The file is larger than {format_bytes(MOST_BYTES)}.", where="file")
        with own_folder() as folder:
            path = folder / "bundle.zip"
            with path.open("wb") as copy:
                copy.writelines(file.chunks())
            trial = _taken_in(path)
        return reply(shapes.TrialShape.of(trial), status.HTTP_201_CREATED)


def _taken_in(path: Path) -> Trial:
    """The record of a bundle's trial, with its result folder. Raises BadInput."""
    # Heavy, and wanted only here: a web server should stay small.
    from ivrell.core.bundles.unpack import look, unpack

    bundle = look(path)
    with transaction.atomic():
        comparison = Comparison.objects.from_text(bundle.text)
        comparison.unread = True
        comparison.save(update_fields=["unread"])
        packed = bundle.manifest.made_at
        trial = Trial.objects.create(
            job=Job.objects.create(
                kind="trial", state=Job.State.STOPPED, started_at=packed, finished_at=packed
            ),
            comparison=comparison,
            text=bundle.text,
            plan={},
            planned_runs=0,
        )
        results = unpack(path, trial.folder)
        try:
            take_up(trial.pk, results)
        except BaseException:
            shutil.rmtree(trial.folder, ignore_errors=True)
            raise
    return get_object_or_404(Trial.objects.select_related("comparison", "job"), pk=trial.pk)


class BundleView(APIView):
    """A trial as one file."""

    @extend_schema(
        parameters=[
            OpenApiParameter("answers", bool, description="with the answers that were kept")
        ],
        responses={(200, "application/zip"): OpenApiTypes.BINARY},
        operation_id="bundle",
    )
    def get(self, request: Request, trial: int) -> HttpResponse:
        """A trial that has ended, to be looked at and run again elsewhere."""
        # Heavy, and wanted only here: a web server should stay small.
        from ivrell.core.bundles.pack import pack

        record = get_object_or_404(Trial, pk=trial)
        with tempfile.TemporaryDirectory(prefix="ivrell-bundle-") as folder:
            path = Path(folder) / "bundle.zip"
            answers = request.query_params.get("answers") == "true"
            pack(record.results, path, answers=answers, now=now(record))
            content = path.read_bytes()
        name = f"trial-{trial}.zip"
        return HttpResponse(
            content,
            content_type="application/zip",
            headers={"Content-Disposition": f'attachment; filename="{name}"'},
        )
