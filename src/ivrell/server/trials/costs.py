"""What lanes cost, by prices that the user keeps on this machine."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from pydantic import BaseModel
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.prices import PriceTables
from ivrell.core.records.cost import Assumed, CostFindings, Prices
from ivrell.core.records.points import Point
from ivrell.server.asking import asked
from ivrell.server.replies import reply
from ivrell.server.trials.models import Trial
from ivrell.server.trials.reports import now


class PricesView(APIView):
    """The price tables of this machine."""

    @extend_schema(responses=Prices, operation_id="prices")
    def get(self, request: Request) -> Response:
        """All prices that are kept."""
        return reply(PriceTables().all())

    @extend_schema(request=Prices, responses=Prices, operation_id="put_prices")
    def put(self, request: Request) -> Response:
        """Keep these in place of all that are there."""
        PriceTables().put(asked(Prices, request))
        return reply(PriceTables().all())


class CostAsked(BaseModel):
    """How often it runs and on what, and the point looked at; what the comparison says of it now,
    and the first point, where they are null."""

    assumed: Assumed | None = None
    point: Point | None = None


class CostView(APIView):
    """What the lanes of a trial cost."""

    only_reads = True

    @extend_schema(request=CostAsked, responses=CostFindings, operation_id="cost")
    def post(self, request: Request, trial: int) -> Response:
        """What the lanes of a trial that has ended cost a month."""
        # Heavy, and wanted only here: a web server should stay small.
        from ivrell.core.trial.costing import cost_of

        given = asked(CostAsked, request)
        record = get_object_or_404(Trial.objects.select_related("comparison"), pk=trial)
        return reply(cost_of(record.results, given.assumed, given.point, now(record)))
