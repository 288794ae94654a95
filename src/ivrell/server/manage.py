"""``python -m ivrell.server.manage``: Django's commands with Ivrell's settings."""

import os
import sys

from django.core.management import execute_from_command_line

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ivrell.server.settings")
    execute_from_command_line(sys.argv)
