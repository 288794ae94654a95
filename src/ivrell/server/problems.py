"""Errors as the API tells them: what, where, cure; the same shape for every error."""

from pydantic import ValidationError
from rest_framework import serializers, status
from rest_framework.exceptions import APIException
from rest_framework.response import Response
from rest_framework.views import exception_handler

from ivrell.core.errors import BadInput


class ProblemSerializer(serializers.Serializer):
    """What went wrong, where, and what to do about it."""

    what = serializers.CharField()
    where = serializers.CharField(allow_blank=True)
    cure = serializers.CharField(allow_blank=True)


def _problem(what: str, where: str = "", cure: str = "") -> dict[str, str]:
    return {"what": what, "where": where, "cure": cure}


def handle(error: Exception, context: dict) -> Response | None:
    """Turn errors into answers; what nobody foresaw is left to Django (status 500)."""
    if isinstance(error, BadInput):
        return Response(error.as_dict(), status.HTTP_400_BAD_REQUEST)
    if isinstance(error, ValidationError):
        first = error.errors(include_url=False)[0]
        where = ".".join(str(part) for part in first["loc"])
        return Response(_problem(first["msg"], where), status.HTTP_400_BAD_REQUEST)
    response = exception_handler(error, context)
    if response is None:
        return None
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
