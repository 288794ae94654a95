"""Who may do what: everyone signed in may read; only owners may change and run."""

from typing import TYPE_CHECKING

from rest_framework.permissions import SAFE_METHODS, BasePermission
from rest_framework.request import Request

if TYPE_CHECKING:
    # It reads the settings, which name this module.
    from rest_framework.views import APIView


class ReadOrOwn(BasePermission):
    """Signed in to read; staff to change anything or to run code."""

    message = "Your account may look but not change or run anything. Ask the owner."

    def has_permission(self, request: Request, view: "APIView") -> bool:
        user = request.user
        if not user or not user.is_authenticated:
            return False
        # Some questions are too long for an address and come as POST; they change nothing.
        only_reads = request.method in SAFE_METHODS or getattr(view, "only_reads", False)
        return only_reads or bool(user.is_staff)
