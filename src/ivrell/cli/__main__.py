"""``python -m ivrell.cli``."""

import sys

if __name__ == "__main__":
    # Loaded here alone: processes that this one starts to make data load this file again.
    from ivrell.cli.main import main

    sys.exit(main(sys.argv[1:]))
