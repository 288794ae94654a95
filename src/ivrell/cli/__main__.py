"""``python -m ivrell.cli``."""

import sys

from ivrell.cli.main import main

sys.exit(main(sys.argv[1:]))
