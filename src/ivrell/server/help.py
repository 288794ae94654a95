"""The help: pages that are built beforehand of docs/, served as they are and without a network."""

from csp.constants import SELF, UNSAFE_INLINE
from csp.decorators import csp_replace
from django.conf import settings
from django.http import Http404, HttpRequest, HttpResponseBase, HttpResponseRedirect
from django.http import HttpResponse as Answer
from django.views.decorators.http import require_safe
from django.views.static import serve

# The generator's theme has a few lines of script in its pages; no page holds anything of a user.
_POLICY = {
    "default-src": [SELF],
    "script-src": [SELF, UNSAFE_INLINE],
    "style-src": [SELF, UNSAFE_INLINE],
    "worker-src": [SELF],
}


@csp_replace(_POLICY)  # type: ignore[arg-type]  # it is typed for views without a part of the path
@require_safe
def help_page(request: HttpRequest, place: str) -> HttpResponseBase:
    """A file of the help; a folder is its index."""
    folder = settings.IVRELL_HELP
    if not (folder / "index.html").exists():
        return Answer(
            "The help is not built here. Run ./start; it is also in docs/, and: ivrell help",
            status=503,
            content_type="text/plain; charset=utf-8",
        )
    if not place or place.endswith("/"):
        place += "index.html"
    elif (folder / place).is_dir():
        return HttpResponseRedirect(f"{request.path}/")
    try:
        answer = serve(request, place, document_root=str(folder))
    except Http404:
        answer = serve(request, "404.html", document_root=str(folder))
        answer.status_code = 404
    answer["Cache-Control"] = "no-cache"
    return answer
