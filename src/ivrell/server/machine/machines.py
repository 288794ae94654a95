"""The API of machines that have joined: names, tokens, labels, what they are."""

import datetime
import secrets
from typing import Annotated

from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from pydantic import BaseModel, Field
from rest_framework import status
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.base.errors import BadInput
from ivrell.core.records.machine import Machine
from ivrell.server.asking import asked
from ivrell.server.jobs.models import Job, JoinedMachine, digest
from ivrell.server.replies import reply
from ivrell.server.trials.joined import EVERYWHERE

Label = Annotated[str, Field(min_length=1, max_length=40)]


class MachineAsked(BaseModel):
    """A machine that may join, and words that trials may ask for it by."""

    name: str = Field(min_length=1, max_length=40, pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]*$")
    labels: list[Label] = Field(default=[], max_length=10)


class JoinedShape(BaseModel):
    """A machine that has joined, or may: when it was heard of last (null for never), whether it is
    away, what it is, and how many trials of it are under way."""

    name: str
    labels: list[str]
    seen_at: datetime.datetime | None
    away: bool
    words: str
    trials: int

    @classmethod
    def of(cls, record: JoinedMachine) -> "JoinedShape":
        """A record as it is told."""
        words = ""
        if record.told:
            told = Machine.model_validate(record.told)
            words = f"{told.cores} cores of {told.processor}, {told.system}, Ivrell {told.ivrell}"
        return cls(
            name=record.name, labels=record.labels, seen_at=record.seen_at, away=record.is_away,
            words=words, trials=Job.objects.under_way().filter(machine=record).count(),
        )  # fmt: skip


class JoinedList(BaseModel):
    """The machines; ``token`` is told once, of one that was just added."""

    machines: list[JoinedShape]
    token: str = ""


class MachinesView(APIView):
    """Machines that run trials of this Ivrell."""

    for_owners = True

    @extend_schema(responses=JoinedList, operation_id="machines")
    def get(self, request: Request) -> Response:
        """Those that have joined, or may."""
        return self._all()

    @extend_schema(request=MachineAsked, responses={201: JoinedList}, operation_id="add_machine")
    def post(self, request: Request) -> Response:
        """Let one join; its token is told now and never again."""
        given = asked(MachineAsked, request)
        taken = set(JoinedMachine.objects.values_list("name", flat=True))
        if given.name in taken or given.name == EVERYWHERE:
            raise BadInput(f"There is a machine called {given.name} already.", where="name",
                           hint="Take another name.")  # fmt: skip
        token = secrets.token_urlsafe(32)
        JoinedMachine.objects.create(name=given.name, labels=given.labels, digest=digest(token))
        return self._all(token, status.HTTP_201_CREATED)

    @extend_schema(
        parameters=[OpenApiParameter("name", str, required=True)],
        responses={200: JoinedList},
        operation_id="remove_machine",
    )
    def delete(self, request: Request) -> Response:
        """Take its token back; its trials that ended stay."""
        name = request.query_params.get("name", "")
        record = JoinedMachine.objects.filter(name=name, removed_at=None).first()
        if record is None:
            raise BadInput(f"No machine is called {name}.", where="name")
        if Job.objects.under_way().filter(machine=record).exists():
            raise BadInput(
                "Trials of this machine have not ended.", where="name",
                hint="Stop them, or run them elsewhere.",
            )  # fmt: skip
        record.removed_at = timezone.now()
        record.save(update_fields=["removed_at"])
        return self._all()

    def _all(self, token: str = "", code: int = status.HTTP_200_OK) -> Response:
        found = [JoinedShape.of(one) for one in JoinedMachine.objects.filter(removed_at=None)]
        return reply(JoinedList(machines=found, token=token), code)
