"""``manage sign_in_link``: print the path of a fresh sign-in link for the owner."""

from typing import Any

from django.core.management.base import BaseCommand

from ivrell.server.accounts.models import SignInLink, owner


class Command(BaseCommand):
    help = "Print the path of a sign-in link that works once."

    def handle(self, *args: Any, **options: Any) -> None:
        self.stdout.write(f"/enter/{SignInLink.objects.issue(owner())}")
