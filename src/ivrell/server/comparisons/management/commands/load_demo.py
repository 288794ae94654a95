"""``manage load_demo FOLDER``: bring in the demo comparisons that were never loaded."""

from pathlib import Path

from django.core.management.base import BaseCommand

from ivrell.core.comparison.file import read_text
from ivrell.server.comparisons.models import Comparison


class Command(BaseCommand):
    help = "Load each comparison file of a folder once; deleted ones do not come back."

    def add_arguments(self, parser) -> None:
        parser.add_argument("folder", type=Path)

    def handle(self, *args, **options) -> None:
        for path in sorted(options["folder"].glob("*.toml")):
            if not Comparison.objects.filter(demo=path.stem).exists():
                Comparison.objects.from_text(read_text(path), demo=path.stem)
                self.stdout.write(f"loaded {path.name}")
