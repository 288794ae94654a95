"""The API of environments: interpreters with packages of their own, made here."""

import datetime
from typing import Any

from django.conf import settings
from drf_spectacular.utils import OpenApiParameter, extend_schema
from pydantic import BaseModel, Field
from rest_framework import status
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core import environments
from ivrell.core.base.errors import BadInput
from ivrell.core.records.trouble import Trouble
from ivrell.core.runtimes import Runtime, Runtimes
from ivrell.server.asking import asked
from ivrell.server.jobs.models import Job
from ivrell.server.jobs.states import JobState
from ivrell.server.replies import reply

_TOLD = 10
"""Makings that ended without an environment are told back to this many."""


class EnvironmentAsked(BaseModel):
    """An environment to be made: packages as pip takes them, such as ``pandas==2.3.3``; ``python``
    is the path of another interpreter than Ivrell's own."""

    name: str = Field(min_length=1, max_length=40)
    packages: list[str] = Field(default=[], max_length=environments.MOST_PACKAGES)
    python: str = ""


class EnvironmentMaking(BaseModel):
    """An environment that is being made, or could not be: what was said last, what kept it."""

    job: int
    name: str
    packages: list[str]
    state: JobState
    lines: list[str]
    message: Trouble | None
    created_at: datetime.datetime

    @classmethod
    def of(cls, job: Job) -> "EnvironmentMaking":
        """A job of that kind."""
        given = EnvironmentAsked.model_validate(job.asked)
        progress: dict[str, Any] = job.progress or {}
        return cls(
            job=job.pk, name=given.name, packages=given.packages, state=job.state,
            lines=progress.get("lines", []), created_at=job.created_at,
            message=Trouble.model_validate(job.message) if job.message else None,
        )  # fmt: skip


class EnvironmentList(BaseModel):
    """The environments that there are, and those that are being made or could not be."""

    environments: list[Runtime]
    makings: list[EnvironmentMaking]


class EnvironmentsView(APIView):
    """Interpreters with packages of their own, made in the data folder."""

    for_owners = True

    @extend_schema(responses=EnvironmentList, operation_id="environments")
    def get(self, request: Request) -> Response:
        """Those that there are, looked at now, and those that are being made."""
        return self._all()

    @extend_schema(
        request=EnvironmentAsked, responses={202: EnvironmentList}, operation_id="make_environment"
    )
    def post(self, request: Request) -> Response:
        """Make one, when its turn comes."""
        given = asked(EnvironmentAsked, request)
        environments.check(given.name, given.packages)
        Runtimes().check_free(given.name)
        Job.objects.ask("environment", given.model_dump())
        return self._all(status.HTTP_202_ACCEPTED)

    @extend_schema(
        parameters=[OpenApiParameter("name", str, required=True)],
        responses={200: EnvironmentList},
        operation_id="remove_environment",
    )
    def delete(self, request: Request) -> Response:
        """Take one from the disk, or what is told of one that could not be made."""
        name = request.query_params.get("name", "")
        failed = Job.objects.filter(kind="environment", asked__name=name).exclude(
            pk__in=Job.objects.under_way()
        )
        running = Job.objects.filter(kind="trial", machine=None, state=Job.State.RUNNING)
        if environments.environment_folder(name).is_dir() and running.exists():
            raise BadInput(
                "A trial runs, and may use it.", where="name", hint="Wait for its end, or stop it."
            )
        if environments.environment_folder(name).is_dir() or not failed.exists():
            environments.remove(name)
        failed.delete()
        return self._all()

    def _all(self, code: int = status.HTTP_200_OK) -> Response:
        folder = settings.IVRELL_DATA / environments.FOLDER
        made = [one for one in Runtimes().all() if one.interpreter.startswith(f"{folder}/")]
        there = {one.name for one in made}
        jobs = Job.objects.filter(kind="environment").exclude(state=Job.State.DONE)[:_TOLD]
        makings = [EnvironmentMaking.of(job) for job in jobs]
        left = [one for one in makings if one.name not in there]
        return reply(EnvironmentList(environments=made, makings=left), code)
