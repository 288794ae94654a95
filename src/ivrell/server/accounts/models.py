"""Signing in by a link that works once; tokens for programs; who did what."""

import datetime
import hashlib
import secrets
from collections.abc import Sequence
from typing import Self

from django.contrib.auth.models import User
from django.db import models, transaction
from django.utils import timezone

_LIFETIME = datetime.timedelta(hours=24)
_USED_EVERY = datetime.timedelta(minutes=1)


class SignInLinkQuerySet(models.QuerySet["SignInLink"]):
    """Making and using links."""

    def issue(self, user: User) -> str:
        """A new token for a user; only its hash is kept."""
        token = secrets.token_urlsafe(32)
        self.create(user=user, digest=_digest(token), expires_at=timezone.now() + _LIFETIME)
        return token

    def redeem(self, token: str) -> User | None:
        """The user a token was made for, or None; a token works once."""
        with transaction.atomic():
            link = (
                self.select_for_update()
                .filter(
                    digest=_digest(token),
                    used_at=None,
                    expires_at__gt=timezone.now(),
                    user__is_active=True,
                )
                .first()
            )
            if link is None:
                return None
            link.used_at = timezone.now()
            link.save(update_fields=["used_at"])
            return link.user


class SignInLink(models.Model):
    """A link that signs a user in once, within a day."""

    user = models.ForeignKey(User, on_delete=models.CASCADE)
    digest = models.CharField(max_length=64, unique=True)
    expires_at = models.DateTimeField()
    used_at = models.DateTimeField(null=True)

    objects = SignInLinkQuerySet.as_manager()

    def __str__(self) -> str:
        return f"sign-in link of {self.user}"


class Scope(models.TextChoices):
    """What a token lets a program do, within what its owner may."""

    READ = "read"
    CHANGE = "change"
    RUN = "run"


class ApiTokenQuerySet(models.QuerySet["ApiToken"]):
    """Making and using tokens."""

    def valid(self) -> Self:
        """Those that neither were taken back nor have run out."""
        now = timezone.now()
        in_time = models.Q(expires_at=None) | models.Q(expires_at__gt=now)
        return self.filter(in_time, revoked_at=None, user__is_active=True)

    def issue(
        self, user: User, name: str, scopes: Sequence[Scope], days: int | None
    ) -> tuple["ApiToken", str]:
        """A new token, and its text, of which only a hash is kept."""
        text = secrets.token_urlsafe(32)
        expires_at = None if days is None else timezone.now() + datetime.timedelta(days=days)
        made = self.create(
            user=user, name=name, digest=_digest(text), scopes=[str(one) for one in scopes],
            expires_at=expires_at,
        )  # fmt: skip
        return made, text

    def redeem(self, text: str) -> "ApiToken | None":
        """The token of this text, or None where there is none that holds."""
        found = self.valid().filter(digest=_digest(text)).select_related("user").first()
        if found is not None:
            now = timezone.now()
            # Told by the minute: each request would write a row else.
            if found.used_at is None or now - found.used_at > _USED_EVERY:
                self.filter(pk=found.pk).update(used_at=now)
        return found


class ApiToken(models.Model):
    """What lets a program act as somebody, within scopes."""

    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="api_tokens")
    name = models.CharField(max_length=60)
    digest = models.CharField(max_length=64, unique=True)
    scopes = models.JSONField(default=list)
    created_at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField(null=True)
    used_at = models.DateTimeField(null=True)
    revoked_at = models.DateTimeField(null=True)

    objects = ApiTokenQuerySet.as_manager()

    def __str__(self) -> str:
        return f"token {self.name} of {self.user}"

    def allows(self, scope: Scope) -> bool:
        """Whether it lets a program do that."""
        return scope in self.scopes


class AuditEntry(models.Model):
    """That somebody changed or ran something, or tried to: several of a kind in a row are one."""

    at = models.DateTimeField(default=timezone.now, db_index=True)
    who = models.CharField(max_length=150)
    by = models.CharField(max_length=80)
    method = models.CharField(max_length=8)
    path = models.CharField(max_length=200)
    subject = models.CharField(max_length=300)
    status = models.IntegerField()
    times = models.IntegerField(default=1)

    class Meta:
        ordering = ["-at", "-pk"]

    def __str__(self) -> str:
        return f"{self.who}: {self.method} {self.path}"


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def owner() -> User:
    """The account of whoever started Ivrell on this machine; made when there is none."""
    user, created = User.objects.get_or_create(
        username="owner", defaults={"is_staff": True, "is_superuser": True}
    )
    if created:
        user.set_unusable_password()
        user.save()
    return user
