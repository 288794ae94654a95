"""Signing in and out."""

from django.contrib.auth import login, logout
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from ivrell.server.accounts.models import SignInLink


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


@require_POST
def leave(request: HttpRequest) -> HttpResponse:
    """Sign out."""
    logout(request)
    return HttpResponse(status=204)
