"""Content security policy: a fresh nonce for every page, nothing from elsewhere."""

import secrets
from collections.abc import Callable

from asgiref.sync import iscoroutinefunction, markcoroutinefunction
from django.http import HttpRequest, HttpResponse


class ContentSecurityPolicy:
    """Middleware that gives a request its ``csp_nonce`` and the answer its policy."""

    sync_capable = True
    async_capable = True

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response
        if iscoroutinefunction(get_response):
            markcoroutinefunction(self)

    def __call__(self, request):
        request.csp_nonce = secrets.token_urlsafe(16)
        if iscoroutinefunction(self):
            return self._later(request)
        return self._with_policy(request, self.get_response(request))

    async def _later(self, request):
        return self._with_policy(request, await self.get_response(request))

    def _with_policy(self, request, response: HttpResponse) -> HttpResponse:
        response.headers.setdefault(
            "Content-Security-Policy",
            "default-src 'none'; connect-src 'self'; img-src 'self' data:; font-src 'self'; "
            f"script-src 'nonce-{request.csp_nonce}' 'strict-dynamic'; "
            f"style-src 'self' 'nonce-{request.csp_nonce}'; style-src-attr 'unsafe-inline'; "
            "base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
        )
        return response
