"""Letting workers of other machines in: by the token that was made for each."""

from typing import TYPE_CHECKING

from django.contrib.auth.models import AnonymousUser
from rest_framework.authentication import BaseAuthentication
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.permissions import BasePermission
from rest_framework.request import Request

from ivrell.core.records.joined import WORKER_SCHEME
from ivrell.server.jobs.models import JoinedMachine

if TYPE_CHECKING:
    from rest_framework.views import APIView


class WorkerAuthentication(BaseAuthentication):
    """Requests that carry a machine's token act for that machine, and may do nothing else."""

    def authenticate(self, request: Request) -> "tuple[AnonymousUser, JoinedMachine] | None":
        """The machine of the token; None where there is none. Raises AuthenticationFailed for one
        that was never made, or was taken back."""
        scheme, _, token = request.headers.get("Authorization", "").partition(" ")
        if scheme != WORKER_SCHEME:
            return None
        machine = JoinedMachine.of_token(token)
        if machine is None:
            raise AuthenticationFailed("This token is of no machine that may join.")
        return AnonymousUser(), machine


class IsWorker(BasePermission):
    """A machine that has joined."""

    def has_permission(self, request: Request, view: "APIView") -> bool:
        return request.auth is not None
