"""Roles: what somebody may do here, one behind the other."""

from enum import StrEnum

from django.contrib.auth.models import User
from rest_framework.request import Request


class Role(StrEnum):
    """A viewer reads; an editor also changes comparisons and runs trials; an owner also lets in
    people, machines, servers and interpreters."""

    VIEWER = "viewer"
    EDITOR = "editor"
    OWNER = "owner"

    def covers(self, other: "Role") -> bool:
        """Whether it may all that another role may."""
        order = list(Role)
        return order.index(self) >= order.index(other)


def person(request: Request) -> User:
    """Who is signed in, where a permission has seen to it that somebody is."""
    assert isinstance(request.user, User)
    return request.user


SUBJECT = "ivrell.subject"


def about(request: Request, words: str) -> None:
    """Say for the log of who did what, what a request is about where its address does not."""
    request.META[SUBJECT] = words


def role_of(user: User) -> Role:
    """The role of somebody's account, which two of Django's own marks say."""
    if user.is_superuser:
        return Role.OWNER
    return Role.EDITOR if user.is_staff else Role.VIEWER


def give(user: User, role: Role) -> None:
    """Give an account a role."""
    user.is_superuser = role is Role.OWNER
    user.is_staff = role.covers(Role.EDITOR)
    user.save(update_fields=["is_superuser", "is_staff"])
