"""``manage reindex``: records of trials made anew from their result folders."""

from typing import Any

from django.core.management.base import BaseCommand

from ivrell.server.trials.reindex import reindex


class Command(BaseCommand):
    help = "Make the records of trials anew from their result folders."

    def handle(self, *args: Any, **options: Any) -> None:
        done = reindex()
        self.stdout.write(f"{done.trials} trials with {done.runs} runs were taken up.")
        for folder, reason in done.refused.items():
            self.stdout.write(f"Not taken up: {folder}: {reason}")
