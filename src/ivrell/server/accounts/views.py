"""Signing in and out."""

from django.contrib.auth import authenticate, login, logout
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST
from drf_spectacular.utils import extend_schema
from pydantic import BaseModel, Field
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import AnonRateThrottle
from rest_framework.views import APIView

from ivrell.core.base.errors import BadInput
from ivrell.server.accounts.models import SignInLink
from ivrell.server.asking import asked
from ivrell.server.replies import reply


class Tries(AnonRateThrottle):
    """Few enough that passwords cannot be guessed."""

    rate = "10/min"


@require_GET
def enter(request: HttpRequest, token: str) -> HttpResponse:
    """Sign in by a link, then go to the page; a used or old link says what to do."""
    user = SignInLink.objects.redeem(token)
    if user is None:
        if request.user.is_authenticated:
            return redirect("/")
        return render(request, "link_used.html", status=403)
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    return redirect("/")


class SignIn(BaseModel):
    """A name and a password."""

    name: str = Field(max_length=150)
    password: str = Field(max_length=200)


class SignedIn(BaseModel):
    """Who is signed in now."""

    user: str


class SignInView(APIView):
    """Signing in by name and password; a few tries a minute from an address."""

    permission_classes = ()
    authentication_classes = ()
    throttle_classes = (Tries,)

    @extend_schema(request=SignIn, responses=SignedIn, operation_id="sign_in")
    def post(self, request: Request) -> Response:
        """Sign in."""
        given = asked(SignIn, request)
        user = authenticate(request._request, username=given.name, password=given.password)
        if user is None:
            # Which of the two is wrong is nobody's business.
            raise BadInput("Name and password do not go together.",
                           hint="Try again, or ask an owner for a fresh link.")  # fmt: skip
        login(request._request, user)
        return reply(SignedIn(user=user.get_username()))


@require_POST
def leave(request: HttpRequest) -> HttpResponse:
    """Sign out."""
    logout(request)
    return HttpResponse(status=204)
