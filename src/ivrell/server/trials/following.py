"""What to look at next, of a trial's own figures."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.records.next_steps import NextSteps
from ivrell.server.replies import reply
from ivrell.server.trials.models import Trial
from ivrell.server.trials.points import given_point


class NextView(APIView):
    """What a trial leaves open."""

    @extend_schema(
        parameters=[OpenApiParameter("point", str, description="knob values as JSON")],
        responses=NextSteps,
        operation_id="next_steps",
    )
    def get(self, request: Request, trial: int) -> Response:
        """What to look at next, that first which may change most."""
        # Heavy, and wanted only here: a web server should stay small.
        from ivrell.core.trial.next_steps import next_of

        record = get_object_or_404(Trial, pk=trial)
        return reply(next_of(record.results, given_point(request.query_params.get("point"))))
