"""The API of data: looking at a recipe while it is written, and making its tables."""

from itertools import groupby
from operator import attrgetter

from django.conf import settings
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import status
from rest_framework.exceptions import PermissionDenied
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import edit, looking
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.recipe.forms import form_called
from ivrell.core.recipe.kinds import KINDS
from ivrell.core.recipe.kinds.settings import settings_of
from ivrell.server.asking import asked
from ivrell.server.comparisons.models import Comparison, subject
from ivrell.server.data import shapes
from ivrell.server.data.models import Making
from ivrell.server.permissions import ByRole
from ivrell.server.previews import PREVIEWS
from ivrell.server.replies import reply


def _present(comparison: int) -> Comparison:
    return get_object_or_404(Comparison.objects.present(), pk=comparison)


def _check_own(request: Request, given: shapes.Written, text: str) -> None:
    """A recipe that somebody sends may name files of the machine: only owners send another than
    the one that is kept. Raises PermissionDenied."""
    other = given.data_text is not None and given.data_text != edit.data_text(text)
    edits = isinstance(given, shapes.LookRequest) and given.edits
    if (other or edits) and not request.user.is_staff:
        raise PermissionDenied(ByRole.message)


def _written(request: Request, comparison: int, given: shapes.Written) -> looking.Subject:
    """What a request looks at: the recipe that it sends, else the one that is kept."""
    text = _present(comparison).text
    _check_own(request, given, text)
    if given.data_text is not None:
        text = edit.replace_data(text, given.data_text)
    return subject(text, given.knobs)


class LookView(APIView):
    """Looking at a recipe."""

    only_reads = True

    @extend_schema(request=shapes.LookRequest, responses=shapes.Look, operation_id="look")
    def post(self, request: Request, comparison: int) -> Response:
        """The tables of a recipe as they will be, with its text after some changes."""
        given = asked(shapes.LookRequest, request)
        look = PREVIEWS.ask(looking.look, _written(request, comparison, given), given.edits)
        return reply(shapes.Look.model_validate(look, from_attributes=True))


class RowsView(APIView):
    """Rows of a table."""

    only_reads = True

    @extend_schema(request=shapes.RowsRequest, responses=shapes.Rows, operation_id="rows")
    def post(self, request: Request, comparison: int) -> Response:
        """Some rows of a table as they will be made, from anywhere in it."""
        given = asked(shapes.RowsRequest, request)
        seen = _written(request, comparison, given)
        first, rows = PREVIEWS.ask(looking.some_rows, seen, given.table, given.first, given.count)
        return reply(shapes.Rows(first=first, rows=rows))


class CostsView(APIView):
    """What data takes."""

    only_reads = True

    @extend_schema(request=shapes.Written, responses=shapes.Costs, operation_id="costs")
    def post(self, request: Request, comparison: int) -> Response:
        """Bytes and seconds of each table in each form: measured where it stands made,
        estimated from a sample elsewhere."""
        given = asked(shapes.Written, request)
        seen = _written(request, comparison, given)
        found = PREVIEWS.ask(looking.all_costs, seen, settings.IVRELL_DATA / "made")
        tables = [
            shapes.TableCosts(
                table=table,
                forms=[shapes.Cost.model_validate(one, from_attributes=True) for one in costs],
            )
            for table, costs in groupby(found, attrgetter("table"))
        ]
        return reply(shapes.Costs(tables=tables, databases=list(DATABASES)))


class KindsView(APIView):
    """Kinds of columns."""

    @extend_schema(responses=shapes.Kinds)
    def get(self, request: Request) -> Response:
        """Every kind of column and what can be set of it."""
        kinds = [
            shapes.KindOfColumn(kind=name, sortable=kind.sortable(), settings=settings_of(name))
            for name, kind in KINDS.items()
        ]
        return reply(shapes.Kinds(kinds=kinds))


def _shown(making: Making | None, code: int = status.HTTP_200_OK) -> Response:
    newest = making and shapes.MakingShape(
        id=making.pk,
        state=making.job.state,
        forms=making.request.forms,
        profile=making.request.profile,
        progress=making.job.progress or None,
        made=making.made,
        profiles=making.profiles,
        message=making.trouble,
        stop_asked=making.job.stop_asked,
        created_at=making.job.created_at,
    )
    return reply(shapes.Makings(newest=newest), code)


class MakingView(APIView):
    """Making data ahead of a trial."""

    @extend_schema(responses=shapes.Makings, operation_id="making")
    def get(self, request: Request, comparison: int) -> Response:
        """The newest making of the comparison's data, with how far it is."""
        return _shown(_present(comparison).makings.first())

    @extend_schema(request=shapes.MakeRequest, responses=shapes.Makings, operation_id="make")
    def post(self, request: Request, comparison: int) -> Response:
        """Make tables in some forms, or read them through for a profile; it waits its turn
        among the trials."""
        given = asked(shapes.MakeRequest, request)
        record = _present(comparison)
        for form in given.forms:
            if form not in DATABASES:
                form_called(form)
        first = next(record.data.points({}))
        PREVIEWS.ask(looking.check_points, subject(record.text), [{**first, **given.knobs}])
        for table in given.tables or []:
            if table not in record.data.data.tables:
                raise BadInput(f'There is no table "{table}".')
        making = Making.objects.launch(record, given)
        return _shown(making, status.HTTP_201_CREATED)

    @extend_schema(request=None, responses={200: shapes.Makings}, operation_id="stop_making")
    def delete(self, request: Request, comparison: int) -> Response:
        """Stop it; what is half made is gone on with the next time."""
        making = _present(comparison).makings.first()
        if making:
            making.job.stop()
        return _shown(making)


class SampleView(APIView):
    """The sample beside the generated data."""

    @extend_schema(responses={200: shapes.SampleShape, 204: None})
    def get(self, request: Request, comparison: int) -> Response:
        """Column by column, the shapes of the sample and of what was generated after it;
        nothing (204) where the recipe was not shaped after a sample."""
        record = _present(comparison)
        sample = getattr(record, "sample", None)
        if sample is None:
            return Response(status=status.HTTP_204_NO_CONTENT)
        changed_since = edit.data_text(record.text) != sample.recipe_text
        shape = shapes.SampleShape(columns=sample.columns, recipe_changed=changed_since)
        return reply(shape)
