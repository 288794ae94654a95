"""Signing in by a link that works once."""

import datetime
import hashlib
import secrets

from django.contrib.auth.models import User
from django.db import models, transaction
from django.utils import timezone

_LIFETIME = datetime.timedelta(hours=24)


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
                .filter(digest=_digest(token), used_at=None, expires_at__gt=timezone.now())
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
