"""The API of people: who may come in as what, passwords, and tokens for programs."""

import datetime

from django.contrib.auth import update_session_auth_hash
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from pydantic import BaseModel, Field
from rest_framework import status
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.base.errors import BadInput
from ivrell.server.accounts.models import ApiToken, ApiTokenQuerySet, Scope, SignInLink, owner
from ivrell.server.accounts.roles import Role, about, give, person, role_of
from ivrell.server.asking import asked, whole_number
from ivrell.server.replies import reply

_NAME = r"^[A-Za-z0-9][A-Za-z0-9._@-]*$"


class PersonAsked(BaseModel):
    """Somebody who is to come in, and as what."""

    name: str = Field(min_length=1, max_length=60, pattern=_NAME)
    role: Role


class PersonChange(BaseModel):
    """Another role for somebody, or a fresh link to sign in by."""

    name: str
    role: Role | None = None
    new_link: bool = False


class PersonShape(BaseModel):
    """Somebody who may come in; ``seen_at`` is when they last signed in, null for never."""

    name: str
    role: Role
    has_password: bool
    seen_at: datetime.datetime | None
    tokens: int


class People(BaseModel):
    """Everybody; ``link`` signs in once, within a day, whom it was just made for."""

    people: list[PersonShape]
    link: str = ""


class PeopleView(APIView):
    """Who may come in, and as what."""

    for_owners = True
    for_owners_only = True
    for_people = True

    @extend_schema(responses=People, operation_id="people")
    def get(self, request: Request) -> Response:
        """Everybody."""
        return _everybody()

    @extend_schema(request=PersonAsked, responses={201: People}, operation_id="add_person")
    def post(self, request: Request) -> Response:
        """Let somebody in; the link that signs them in is told now."""
        given = asked(PersonAsked, request)
        about(request, f"{given.name} as {given.role}")
        user = User.objects.filter(username__iexact=given.name).first()
        if user is not None and user.is_active:
            raise BadInput(f"There is somebody called {user.username} already.", where="name",
                           hint="Take another name.")  # fmt: skip
        if user is None:
            user = User.objects.create_user(given.name)
        # Who was let out and comes again has nothing of before.
        user.is_active = True
        user.set_unusable_password()
        user.save()
        give(user, given.role)
        return _everybody(_link(request, user), status.HTTP_201_CREATED)

    @extend_schema(request=PersonChange, responses=People, operation_id="change_person")
    def patch(self, request: Request) -> Response:
        """Give somebody another role, or a fresh link."""
        given = asked(PersonChange, request)
        about(request, f"{given.name} as {given.role}" if given.role else given.name)
        with transaction.atomic():
            user = _somebody(given.name)
            if given.role is not None:
                _refuse_the_first(user)
                give(user, given.role)
        return _everybody(_link(request, user) if given.new_link else "")

    @extend_schema(
        parameters=[OpenApiParameter("name", str, required=True)], responses={200: People},
        operation_id="remove_person",
    )  # fmt: skip
    def delete(self, request: Request) -> Response:
        """Let somebody out: sessions, links and tokens end, what they did stays."""
        about(request, request.query_params.get("name", ""))
        with transaction.atomic():
            user = _somebody(request.query_params.get("name", ""))
            _refuse_the_first(user)
            user.is_active = False
            user.save(update_fields=["is_active"])
            user.api_tokens.filter(revoked_at=None).update(revoked_at=timezone.now())
            SignInLink.objects.filter(user=user, used_at=None).delete()
        return _everybody()


def _somebody(name: str) -> User:
    user = User.objects.select_for_update().filter(username=name, is_active=True).first()
    if user is None:
        raise BadInput(f"Nobody here is called {name}.", where="name")
    return user


def _refuse_the_first(user: User) -> None:
    """Refuse to take the rights of the account that a start signs in: there is always an owner."""
    if user == owner():
        raise BadInput(
            f"{user.username} is the account of whoever starts Ivrell; it stays an owner.",
            where="name",
        )


def _link(request: Request, user: User) -> str:
    return request.build_absolute_uri(f"/enter/{SignInLink.objects.issue(user)}")


def _everybody(link: str = "", code: int = status.HTTP_200_OK) -> Response:
    tokens = ApiToken.objects.valid()
    people = [
        PersonShape(
            name=user.username, role=role_of(user), has_password=user.has_usable_password(),
            seen_at=user.last_login, tokens=tokens.filter(user=user).count(),
        )
        for user in User.objects.filter(is_active=True).order_by("username")
    ]  # fmt: skip
    return reply(People(people=people, link=link), code)


class PasswordAsked(BaseModel):
    """A new password, and the one until now ("" where there was none)."""

    old: str = Field(default="", max_length=200)
    new: str = Field(min_length=1, max_length=200)


class Me(BaseModel):
    """Who is signed in."""

    name: str
    role: Role
    has_password: bool


class PasswordView(APIView):
    """One's own password."""

    own = True
    for_people = True

    @extend_schema(responses=Me, operation_id="me")
    def get(self, request: Request) -> Response:
        """Who is signed in."""
        return _me(request)

    @extend_schema(request=PasswordAsked, responses=Me, operation_id="change_password")
    def put(self, request: Request) -> Response:
        """Set or change it; other sessions of one's own end."""
        given, user = asked(PasswordAsked, request), person(request)
        if user.has_usable_password() and not user.check_password(given.old):
            raise BadInput("The password until now is another one.", where="old")
        try:
            validate_password(given.new, user)
        except ValidationError as error:
            raise BadInput(" ".join(error.messages), where="new") from None
        user.set_password(given.new)
        user.save(update_fields=["password"])
        update_session_auth_hash(request._request, user)
        return _me(request)


def _me(request: Request) -> Response:
    user = person(request)
    found = Me(name=user.username, role=role_of(user), has_password=user.has_usable_password())
    return reply(found)


class TokenAsked(BaseModel):
    """A token: a name, what it is for, and for how many days (null: until it is taken back)."""

    name: str = Field(min_length=1, max_length=60)
    scopes: list[Scope] = Field(min_length=1, max_length=len(Scope))
    days: int | None = Field(default=90, ge=1, le=3660)


class TokenShape(BaseModel):
    """A token without its text."""

    id: int
    name: str
    of: str
    scopes: list[Scope]
    created_at: datetime.datetime
    expires_at: datetime.datetime | None
    used_at: datetime.datetime | None


class TokenList(BaseModel):
    """Tokens that hold: one's own, and an owner sees everybody's; ``token`` is told once, of one
    that was just made."""

    tokens: list[TokenShape]
    token: str = ""


class TokensView(APIView):
    """Tokens for programs."""

    own = True
    for_people = True

    @extend_schema(responses=TokenList, operation_id="tokens")
    def get(self, request: Request) -> Response:
        """Those that hold."""
        return self._all(request)

    @extend_schema(request=TokenAsked, responses={201: TokenList}, operation_id="make_token")
    def post(self, request: Request) -> Response:
        """Make one; its text is told now and never again. It may what its scopes name, and never
        more than whom it is of."""
        given = asked(TokenAsked, request)
        about(request, f"{given.name}: {', '.join(given.scopes)}")
        scopes = list(dict.fromkeys(given.scopes))
        _, text = ApiToken.objects.issue(person(request), given.name, scopes, given.days)
        return self._all(request, text, status.HTTP_201_CREATED)

    @extend_schema(
        parameters=[OpenApiParameter("id", int, required=True)], responses={200: TokenList},
        operation_id="take_token_back",
    )  # fmt: skip
    def delete(self, request: Request) -> Response:
        """Take one back."""
        found = _tokens_of(request).filter(pk=whole_number(request, "id")).first()
        if found is None:
            raise BadInput("There is no such token.", where="id")
        about(request, f"{found.name} of {found.user}")
        found.revoked_at = timezone.now()
        found.save(update_fields=["revoked_at"])
        return self._all(request)

    def _all(self, request: Request, text: str = "", code: int = status.HTTP_200_OK) -> Response:
        found = [
            TokenShape(
                id=one.pk, name=one.name, of=one.user.username, scopes=one.scopes,
                created_at=one.created_at, expires_at=one.expires_at, used_at=one.used_at,
            )
            for one in _tokens_of(request).select_related("user").order_by("pk")
        ]  # fmt: skip
        return reply(TokenList(tokens=found, token=text), code)


def _tokens_of(request: Request) -> ApiTokenQuerySet:
    valid, user = ApiToken.objects.valid(), person(request)
    return valid if role_of(user) is Role.OWNER else valid.filter(user=user)
