"""Replies of the API: a shape as JSON."""

from collections.abc import Iterable

from django.http import HttpResponse
from pydantic import BaseModel
from rest_framework import status
from rest_framework.response import Response


def reply_all(shapes: Iterable[BaseModel]) -> Response:
    """A reply that holds a list of shapes."""
    return Response([shape.model_dump(mode="json") for shape in shapes])


def reply(shape: BaseModel, code: int = status.HTTP_200_OK) -> Response:
    """A reply that holds a shape."""
    return Response(shape.model_dump(mode="json"), status=code)


def reply_kept(text: str) -> HttpResponse:
    """A reply that was put into JSON already."""
    return HttpResponse(text, content_type="application/json")
