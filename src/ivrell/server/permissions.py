"""Who may do what: by role, and what comes with a token also by its scopes."""

from typing import TYPE_CHECKING

from rest_framework.permissions import SAFE_METHODS, BasePermission
from rest_framework.request import Request

if TYPE_CHECKING:
    # It reads the settings, which name this module.
    from rest_framework.views import APIView

    from ivrell.server.accounts.models import Scope

_RUNS = frozenset(
    (
        "again", "challenge", "changed", "continue", "elsewhere", "launch", "making", "more",
        "noise", "resume",
        "schedule", "try", "try-all",
    )
)  # fmt: skip
"""Last parts of addresses at which something is made to run."""


class ByRole(BasePermission):
    """Viewers read, editors change and run, owners do what a view keeps for them.

    Of a view's attributes ``only_reads`` says that its questions come as POST and change nothing,
    ``for_owners`` that owners alone may change anything there, ``for_owners_only`` that they alone
    may read it, ``for_people`` that no token opens it, ``own`` that it is about one's own account.
    """

    message = "Your account may look but not change or run anything. Ask the owner."

    def has_permission(self, request: Request, view: "APIView") -> bool:
        from ivrell.server.accounts.models import ApiToken, Scope
        from ivrell.server.accounts.roles import Role, person, role_of

        user = request.user
        if not user or not user.is_authenticated:
            return False
        role, token = role_of(person(request)), request.auth
        reads = request.method in SAFE_METHODS or getattr(view, "only_reads", False)
        if isinstance(token, ApiToken):
            if getattr(view, "for_people", False):
                self.message = "No token opens this: sign in."
                return False
            wanted = Scope.READ if reads else _scope(request)
            if not token.allows(wanted):
                self.message = f'This token is not for that: its scopes lack "{wanted}".'
                return False
        needed = Role.VIEWER if reads or getattr(view, "own", False) else Role.EDITOR
        if getattr(view, "for_owners_only", False) or (
            not reads and getattr(view, "for_owners", False)
        ):
            needed = Role.OWNER
            self.message = "Only an owner may do that here. Ask one."
        return role.covers(needed)


def _scope(request: Request) -> "Scope":
    from ivrell.server.accounts.models import Scope

    last = request.path.rstrip("/").rpartition("/")[2]
    return Scope.RUN if last in _RUNS else Scope.CHANGE
