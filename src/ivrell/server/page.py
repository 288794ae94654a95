"""The page itself: the built index.html with this request's nonce."""

from functools import lru_cache
from pathlib import Path

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_safe

NONCE_MARK = "__IVRELL_NONCE__"


class PageRequest(HttpRequest):
    """A request as the middleware of the content security policy passes it on."""

    csp_nonce: object


@lru_cache(maxsize=1)
def _built(path: Path, changed: float) -> str:
    return path.read_text(encoding="utf-8")


@require_safe
@ensure_csrf_cookie
def page(request: PageRequest) -> HttpResponse:
    """The built page for every address the page itself routes."""
    path = settings.IVRELL_WEB / "index.html"
    if not path.exists():
        return HttpResponse(
            "The page is not built. Run ./start, or npm run build in web/.",
            status=503,
            content_type="text/plain; charset=utf-8",
        )
    html = _built(path, path.stat().st_mtime).replace(NONCE_MARK, str(request.csp_nonce))
    return HttpResponse(html, headers={"Cache-Control": "no-cache"})
