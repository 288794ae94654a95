"""What may stand in a bundle, and how much of it."""

import re

from ivrell.core.results.folder import (
    AGREEMENT,
    COMPARISON,
    DATA,
    PLAN,
    REMARKS,
    RUNS,
    SESSIONS,
)

MANIFEST = "manifest.json"
PACKAGES = "packages.txt"
"""A list of packages as pip takes it, of what the lanes ran on."""

NEEDED = (COMPARISON, PLAN.name, SESSIONS.name, DATA.name, AGREEMENT.name, RUNS)
OPTIONAL = (REMARKS.name, PACKAGES)
CURVE = re.compile(r"curves/[1-9][0-9]{0,8}\.json")
ANSWER = re.compile(r"answers/[A-Za-z0-9_-]{1,200}\.arrow")

MOST_BYTES = 2 << 30
"""Of all files together, unpacked."""

MOST_FILE_BYTES = 512 << 20
MOST_MANIFEST_BYTES = 64 << 20


def is_known(name: str) -> bool:
    """Whether a file of that name may stand in a bundle."""
    return name in (*NEEDED, *OPTIONAL) or bool(CURVE.fullmatch(name) or ANSWER.fullmatch(name))
