"""Who changed or ran what: a line for each request that was not only to look."""

import datetime
import logging
from collections.abc import Callable, Mapping

from django.db import DatabaseError, transaction
from django.db.models import F
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from pydantic import BaseModel
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.base.running import SCHEME
from ivrell.server.accounts.models import ApiToken, AuditEntry
from ivrell.server.accounts.roles import SUBJECT
from ivrell.server.replies import reply

log = logging.getLogger("ivrell.audit")
_ONE_WITHIN = datetime.timedelta(minutes=10)
_KEPT = datetime.timedelta(days=400)
_PAGE = 100
_LOOKS = ("GET", "HEAD", "OPTIONS")
_OF_WORKERS = "/api/worker/"
_REFUSED = 400


class AuditTrail:
    """Middleware that keeps an entry of each request to the API which changes or runs something,
    also of one that was refused. What repeats within minutes is one entry that counts."""

    def __init__(self, answer_of: Callable[[HttpRequest], HttpResponse]) -> None:
        self._answer_of = answer_of

    def __call__(self, request: HttpRequest) -> HttpResponse:
        answer = self._answer_of(request)
        if _counts(request):
            try:
                with transaction.atomic():
                    _keep(request, answer)
            except DatabaseError as error:
                # What was asked for was done: its answer does not hang on this.
                log.error("an entry of %s %s was not kept: %s", request.method, request.path, error)
        return answer


def _counts(request: HttpRequest) -> bool:
    path = request.path
    if request.method in _LOOKS or not path.startswith("/api/") or path.startswith(_OF_WORKERS):
        return False
    match = request.resolver_match
    if match is None:
        return False
    view, given = getattr(match.func, "cls", None), getattr(match.func, "initkwargs", {})
    looks = getattr(view, "only_reads", False) or given.get("only_reads", False)
    return view is not None and not looks


def _keep(request: HttpRequest, answer: HttpResponse) -> None:
    user, auth = request.user, getattr(request, "auth", None)
    by = "the page"
    if isinstance(auth, ApiToken):
        by = f"token {auth.name}"
    elif request.headers.get("Authorization", "").startswith(f"{SCHEME} "):
        by = "the command line"
    told = {
        "who": user.get_username() if user.is_authenticated else "", "by": by,
        "method": request.method or "", "path": request.path.replace("\x00", "")[:200],
        "status": answer.status_code,
    }  # fmt: skip
    now = timezone.now()
    subject = _subject(request, answer)
    before = AuditEntry.objects.filter(at__gt=now - _ONE_WITHIN).first()
    same = before is not None and subject == before.subject
    if before is not None and same and all(getattr(before, k) == v for k, v in told.items()):
        AuditEntry.objects.filter(pk=before.pk).update(times=F("times") + 1, at=now)
        return
    AuditEntry.objects.create(at=now, subject=subject, **told)
    AuditEntry.objects.filter(at__lt=now - _KEPT).delete()


def _subject(request: HttpRequest, answer: HttpResponse) -> str:
    """What it was about, in words that hold when the record is gone."""
    from ivrell.server.comparisons.models import Comparison
    from ivrell.server.trials.models import Trial

    match = request.resolver_match
    assert match
    found = match.kwargs
    data: object = getattr(answer, "data", None)
    told: Mapping[str, object] = data if isinstance(data, dict) else {}
    name = str(request.META.get(SUBJECT, ""))
    of_trial = found.get("trial") or (
        found.get("id") if match.route.startswith("api/trials") else 0
    )
    if of_trial:
        trial = Trial.objects.filter(pk=of_trial).select_related("comparison").first()
        name = f"trial {of_trial}" + (f" of {trial.comparison.name}" if trial else "")
    elif key := found.get("comparison") or found.get("id"):
        record = Comparison.objects.filter(pk=key).first()
        name = record.name if record else f"comparison {key}"
    if answer.status_code < _REFUSED and match.route.endswith("launch/"):
        started = told.get("trials") or told.get("id")
        name += f": trial {started}" if isinstance(started, int) else ""
    elif answer.status_code < _REFUSED and not name and isinstance(told.get("name"), str):
        name = str(told["name"])
    # The records hold no such character, wherever somebody put one.
    return name.replace("\x00", "")[:300]


class AuditShape(BaseModel):
    """That somebody changed or ran something: ``by`` says by the page, the command line or which
    token; ``what`` is the request, ``subject`` what it was about, ``status`` 400 and more where it
    was refused; ``times`` how often in a row, ``at`` the last time."""

    id: int
    at: datetime.datetime
    who: str
    by: str
    what: str
    subject: str
    status: int
    times: int


class AuditPage(BaseModel):
    """Entries, the newest first; ``more`` where older ones follow."""

    entries: list[AuditShape]
    more: bool


class AuditView(APIView):
    """The audit log."""

    for_owners_only = True

    @extend_schema(
        responses=AuditPage, operation_id="audit",
        parameters=[OpenApiParameter("before", int, description="id of the last one told")],
    )  # fmt: skip
    def get(self, request: Request) -> Response:
        """Who changed or ran what."""
        found = AuditEntry.objects.all()
        before = request.query_params.get("before", "")
        if before.isdigit() and len(before) < len(str(2**63)):
            last = found.filter(pk=int(before)).first()
            found = found.filter(at__lt=last.at) if last else found.none()
        rows = list(found[: _PAGE + 1])
        entries = [
            AuditShape(
                id=one.pk, at=one.at, who=one.who, by=one.by, subject=one.subject,
                what=f"{one.method} {one.path.removeprefix('/api')}", status=one.status,
                times=one.times,
            )
            for one in rows[:_PAGE]
        ]  # fmt: skip
        return reply(AuditPage(entries=entries, more=len(rows) > _PAGE))
