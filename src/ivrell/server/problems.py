"""Errors as the API tells them: what, where, hint; the same shape for every error."""

import logging
from collections.abc import Mapping
from typing import Any

from django.db import DataError, InterfaceError, OperationalError
from django.http import HttpRequest, JsonResponse
from rest_framework import status
from rest_framework.exceptions import APIException
from rest_framework.response import Response
from rest_framework.views import exception_handler

from ivrell.core.base.errors import BadInput
from ivrell.core.base.logs import referred
from ivrell.core.records.trouble import Trouble
from ivrell.server.replies import reply

log = logging.getLogger("ivrell.api")
_AWAY = Trouble(
    what="The database of records does not answer; nothing was lost.",
    hint="Ivrell starts it again by itself. Try it again in a moment.",
)
_NOWHERE = Trouble(what="There is no such thing here.")


def nowhere(request: HttpRequest, exception: Exception) -> JsonResponse:
    """What stands where nothing is, for addresses that no view answers."""
    return JsonResponse(_NOWHERE.model_dump(), status=404)


def handle(error: Exception, context: Mapping[str, Any]) -> Response | None:
    """Turn errors into answers; what nobody foresaw is logged, and told as Ivrell's own error."""
    if isinstance(error, BadInput):
        return reply(Trouble.of(error), status.HTTP_400_BAD_REQUEST)
    if isinstance(error, DataError):
        # A number that no record can have, such as an id beyond what the column holds.
        return reply(_NOWHERE, status.HTTP_404_NOT_FOUND)
    if isinstance(error, InterfaceError | OperationalError):
        log.error("the records do not answer: %s", error)
        return reply(_AWAY, status.HTTP_503_SERVICE_UNAVAILABLE)
    response = exception_handler(error, dict(context))
    if response is None:
        reference = referred(log, "an error of Ivrell's own in %s", context["request"].path)
        trouble = Trouble(
            what="Something went wrong inside Ivrell; nothing was lost.",
            hint=f"Try it again. The web server's log has the details under {reference}.",
        )
        return reply(trouble, status.HTTP_500_INTERNAL_SERVER_ERROR)
    trouble = _NOWHERE
    if isinstance(error, APIException):
        detail = error.detail[0] if isinstance(error.detail, list) else error.detail
        hint = "Open the sign-in link that ./start prints." if response.status_code == 401 else ""
        trouble = Trouble(what=str(detail), hint=hint)
    response.data = trouble.model_dump()
    return response
