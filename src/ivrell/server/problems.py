"""Errors as the API tells them: what, where, cure; the same shape for every error."""

import logging

from django.db import DataError, InterfaceError, OperationalError
from django.http import HttpRequest, JsonResponse
from rest_framework import serializers, status
from rest_framework.exceptions import APIException
from rest_framework.response import Response
from rest_framework.views import exception_handler

from ivrell.core.errors import BadInput
from ivrell.core.logs import referred

log = logging.getLogger("ivrell.api")
_OWN_ERROR = (
    "Something went wrong inside Ivrell; nothing was lost.",
    "",
    "Try it again. The web server's log has the details under {reference}.",
)


_AWAY = (
    "The database of records does not answer; nothing was lost.",
    "",
    "Ivrell starts it again by itself. Try it again in a moment.",
)


class ProblemSerializer(serializers.Serializer):
    """What went wrong, where, and what to do about it."""

    what = serializers.CharField()
    where = serializers.CharField(allow_blank=True)
    cure = serializers.CharField(allow_blank=True)


def _problem(what: str, where: str = "", cure: str = "") -> dict[str, str]:
    return {"what": what, "where": where, "cure": cure}


def nowhere(request: HttpRequest, exception: Exception) -> JsonResponse:
    """What stands where nothing is, for addresses that no view answers."""
    return JsonResponse(_problem("There is no such thing here."), status=404)


def handle(error: Exception, context: dict) -> Response | None:
    """Turn errors into answers; what nobody foresaw is logged, and told as Ivrell's own error."""
    if isinstance(error, BadInput):
        return Response(error.as_dict(), status.HTTP_400_BAD_REQUEST)
    if isinstance(error, DataError):
        # A number that no record can have, such as an id beyond what the column holds.
        return Response(_problem("There is no such thing here."), status.HTTP_404_NOT_FOUND)
    if isinstance(error, InterfaceError | OperationalError):
        log.error("the records do not answer: %s", error)
        return Response(_problem(*_AWAY), status.HTTP_503_SERVICE_UNAVAILABLE)
    response = exception_handler(error, context)
    if response is None:
        reference = referred(log, "an error of Ivrell's own in %s", context["request"].path)
        what, where, cure = (part.format(reference=reference) for part in _OWN_ERROR)
        return Response(_problem(what, where, cure), status.HTTP_500_INTERNAL_SERVER_ERROR)
    if isinstance(error, serializers.ValidationError) and isinstance(error.detail, dict):
        field, messages = next(iter(error.detail.items()))
        message = messages[0] if isinstance(messages, list) else str(messages)
        response.data = _problem(str(message), str(field))
    elif isinstance(error, APIException):
        detail = error.detail[0] if isinstance(error.detail, list) else error.detail
        cure = "Open the sign-in link that ./start prints." if response.status_code == 401 else ""
        response.data = _problem(str(detail), cure=cure)
    else:
        response.data = _problem("There is no such thing here.")
    return response
