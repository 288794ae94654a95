"""Addresses in the help: where a caution and an error are explained. Standard library only."""

import re
from types import TracebackType

_PACKAGE = "ivrell."
_PLACES = (
    ("core.recipe.databases", "engines/"),
    ("core.recipe", "file/#columns"),
    ("core.propose", "guide/#shape-like-a-sample"),
    ("core.comparison", "file/"),
    ("core.sheets", "sheets/"),
    ("core.spark", "spark/"),
    ("core.engines", "engines/"),
    ("core.servers", "engines/"),
    ("core.tasks", "programs/"),
    ("core.service", "programs/"),
    ("core.runtimes", "guide/#machine"),
    ("core.environments", "guide/#machine"),
    ("core.agreement", "agreement/"),
    ("core.contain", "security/"),
    ("core.bundles", "file/#bundle"),
    ("core.results", "file/#result-folder"),
    ("core.gate", "file/#gate"),
    ("core.stats", "measuring/"),
    ("core.measure", "measuring/"),
    ("core.trial.plan", "file/#plans"),
    ("core.trial", "measuring/"),
    ("core.run", "measuring/"),
    ("core.prices", "file/#cost"),
    ("core.report.costs", "file/#cost"),
    ("gating", "file/#gate"),
    ("sharing", "file/#bundle"),
    ("approaches", "library/"),
    ("api", "library/"),
    ("cli", "reference/commands/"),
    ("", "guide/"),
)
"""Where a package's errors are explained; of two that fit the one that stands first."""


def slug(words: str) -> str:
    """Words as the last part of an address."""
    return re.sub(r"[^a-z0-9]+", "-", words.lower()).strip("-")


def caution_place(word: str) -> str:
    """Where a caution is explained."""
    return f"reference/cautions/#{slug(word)}"


def command(place: str) -> str:
    """What to type for a place of the help."""
    return f"ivrell help {place}"


def error_place(trace: TracebackType | None) -> str:
    """Where an error is explained, by the part of Ivrell that it arose in; "" where none did."""
    module = ""
    while trace is not None:
        name = trace.tb_frame.f_globals.get("__name__", "")
        # What only raises it for others tells less than who asked.
        if name.startswith(_PACKAGE) and not name.startswith(f"{_PACKAGE}core.base."):
            module = name.removeprefix(_PACKAGE)
        trace = trace.tb_next
    if not module:
        return ""
    return next(page for part, page in _PLACES if _within(module, part))


def _within(module: str, part: str) -> bool:
    return not part or module == part or module.startswith(f"{part}.")
