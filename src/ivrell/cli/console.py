"""Where the command line prints: results on standard output, all else on standard error."""

from rich.console import Console

OUT = Console(highlight=False, markup=False, soft_wrap=True)
ERR = Console(stderr=True, highlight=False, markup=False)
