"""``manage load_demo FOLDER``: bring in the demo comparisons that were never loaded."""

from datetime import timedelta
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandParser
from django.utils import timezone

from ivrell.core.comparison.file import read_text
from ivrell.server.comparisons.models import Comparison

FIRST = ("tolls-per-lock", "transits-of-one-lock")
"""Those that stand on top of a list that shows the last changed first."""


def _place(path: Path) -> tuple[int, str]:
    return (FIRST.index(path.stem) if path.stem in FIRST else len(FIRST), path.stem)


class Command(BaseCommand):
    help = "Load each comparison file of a folder once; deleted ones do not come back."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("folder", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        now = timezone.now()
        for place, path in enumerate(sorted(options["folder"].glob("*.toml"), key=_place)):
            if not Comparison.objects.filter(demo=path.stem).exists():
                record = Comparison.objects.from_text(read_text(path), demo=path.stem)
                changed = now - timedelta(seconds=place)
                Comparison.objects.filter(pk=record.pk).update(changed_at=changed)
                self.stdout.write(f"loaded {path.name}")
