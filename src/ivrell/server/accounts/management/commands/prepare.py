"""``manage prepare [--demo FOLDER]``: all that a start needs of the records, in one process."""

import sys
from pathlib import Path
from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser


class Command(BaseCommand):
    help = "Bring the records up to date, load the demo, print a sign-in link's path."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--demo", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", interactive=False, verbosity=0)
        if options["demo"]:
            call_command("load_demo", str(options["demo"]), stdout=sys.stderr)
        call_command("sign_in_link", stdout=self.stdout)
