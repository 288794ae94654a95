"""A new comparison whose recipe is shaped like files that somebody sends."""

from pathlib import Path

from drf_spectacular.utils import extend_schema
from rest_framework import status
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.base.errors import BadInput
from ivrell.core.base.temp_dirs import own_folder
from ivrell.core.comparison import edit
from ivrell.server.comparisons import shapes
from ivrell.server.comparisons.models import Comparison
from ivrell.server.comparisons.starting import new_comparison
from ivrell.server.data.models import Sample
from ivrell.server.data.shapes import SampleColumn
from ivrell.server.previews import SAMPLES
from ivrell.server.replies import reply

_SAMPLES = {
    "type": "object",
    "description": "Sample files to shape a recipe like.",
    "properties": {
        "files": {"type": "array", "items": {"type": "string", "format": "binary"}},
        "allow": {"type": "string"},
    },
    "required": ["files"],
}


class ProposeView(APIView):
    """Shaping a recipe like samples."""

    parser_classes = [MultiPartParser]

    @extend_schema(
        request={"multipart/form-data": _SAMPLES},
        responses={201: shapes.ComparisonShape},
        operation_id="comparisons_propose_create",
    )
    def post(self, request: Request) -> Response:
        """A new comparison with a recipe shaped like uploaded csv or parquet files.

        No value of the files stands in it, but for the categories that ``allow`` names
        ("table.column" with commas between); the files are not kept.
        """
        from ivrell.core.propose.recipe import propose, table_name

        files = request.FILES.getlist("files")
        if not files:
            raise BadInput("No file was sent.", hint="Choose csv or parquet files.")
        with own_folder() as folder:
            samples = {}
            for file in files:
                path = folder / Path(file.name).name
                with path.open("wb") as copy:
                    copy.writelines(file.chunks())
                samples[table_name(path)] = path
            allowed = [place.strip() for place in request.data.get("allow", "").split(",")]
            wanted = [place for place in allowed if place]
            proposal = SAMPLES.ask(propose, samples, allow_values=wanted)
        rows = proposal.with_rows_knob("rows")
        name = f"Shaped like {', '.join(samples)}"
        text = new_comparison(name, proposal.toml(), knobs=f"rows = [{rows}]")
        record = Comparison.objects.from_text(text)
        Sample.objects.create(
            comparison=record,
            recipe_text=edit.data_text(text),
            columns=[
                SampleColumn(
                    table=table,
                    name=name,
                    note=proposal.notes[table][name],
                    distance=proposal.distances[table].get(name),
                    sample=found.sample,
                    generated=found.generated,
                ).model_dump(mode="json")
                for table, columns in proposal.beside.items()
                for name, found in columns.items()
            ],
        )
        return reply(shapes.ComparisonShape.of(record), status.HTTP_201_CREATED)
