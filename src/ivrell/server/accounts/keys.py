"""Letting programs in: the command line of this machine by a key that only the owner's files tell,
others by tokens."""

import secrets

from django.conf import settings
from django.contrib.auth.models import User
from rest_framework.authentication import BaseAuthentication
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.request import Request

from ivrell.core.base.running import SCHEME
from ivrell.server.accounts.models import ApiToken, owner


class KeyAuthentication(BaseAuthentication):
    """Requests that carry the key which a start keeps for its owner act as the owner."""

    def authenticate(self, request: Request) -> tuple[User, None] | None:
        """The owner, where the key is the right one; None where there is none. Raises
        AuthenticationFailed for another one."""
        scheme, _, given = request.headers.get("Authorization", "").partition(" ")
        if scheme != SCHEME:
            return None
        key = settings.COMMAND_KEY
        if not key or not secrets.compare_digest(given.encode(), key.encode()):
            raise AuthenticationFailed("This key is none of this Ivrell's.")
        return owner(), None


_BEARER = "Bearer"


class TokenAuthentication(BaseAuthentication):
    """Requests that carry a token act as its owner, within its scopes."""

    def authenticate(self, request: Request) -> tuple[User, ApiToken] | None:
        """Whose token it is, and the token; None where there is none. Raises AuthenticationFailed
        for one that does not hold."""
        scheme, _, given = request.headers.get("Authorization", "").partition(" ")
        if scheme != _BEARER:
            return None
        token = ApiToken.objects.redeem(given.strip())
        if token is None:
            raise AuthenticationFailed("This token is none, or was taken back, or has run out.")
        return token.user, token
