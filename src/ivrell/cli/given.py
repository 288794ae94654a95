"""What commands share: options as values, outcomes for machines or for people, exit statuses."""

import argparse
import json
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from ivrell.core.base.errors import BadInput

if TYPE_CHECKING:
    from ivrell.core.comparison.model import Comparison

DONE, TROUBLE = 0, 1
CANNOT_TELL, WEAKENED = 3, 4
CLAIM_STATUS = {
    "contradicted": TROUBLE, "weakened": WEAKENED,
    "cannot tell": CANNOT_TELL, "not measured": CANNOT_TELL,
}  # fmt: skip
"""Exit status of a claim that does not hold, the worst first."""

SIGNALLED = 128
"""Exit statuses above it name the signal that stopped the command, as a shell's do."""

BAD_INPUT = 2
STATUSES = {
    DONE: "done",
    TROUBLE: "an approach failed, hit a limit or disagreed; with `--strict` also where a claim is "
    "contradicted or no lane surely meets a target; with `gate` something is slower or wrong; with "
    "`rerun` what held there does not hold here",
    BAD_INPUT: "something given cannot be used: what, where and how to mend it stand on standard "
    "error",
    CANNOT_TELL: "a claim (`--claims`) or a gate cannot be told in the rounds or the time given",
    WEAKENED: "a claim is weakened: its direction holds, its strength does not",
    SIGNALLED + 2: "Ctrl-C stopped it; what was measured is kept, and it says how to go on",
    SIGNALLED + 15: "a signal to terminate stopped it, likewise",
}
"""Exit statuses, and when a command ends with each."""


def knobs_given(given: Sequence[str], comparison: "Comparison") -> dict[str, list[Any]]:
    """``rows=1000,10000`` as knob values; what is no number or truth value is text."""
    found: dict[str, list[Any]] = {}
    for entry in given:
        name, equals, values = entry.partition("=")
        if not equals or not values:
            raise BadInput(f"--set {entry} cannot be read.", hint="Write --set knob=value,value.")
        words = [value.strip() for value in values.split(",")]
        for word in words[1:]:
            other, equals, _ = word.partition("=")
            if equals and other.strip() in comparison.knobs:
                first = entry[: entry.index(f",{word}")] if f",{word}" in entry else name
                raise BadInput(
                    f"--set {entry} names two knobs.",
                    hint=f"Say --set for each of them: --set {first} --set {word}",
                )
        found[name] = [_read(word) for word in words]
    return found


def points_given(given: Sequence[str]) -> list[dict[str, Any]]:
    """``rows=1000,width=2`` as a point each."""
    found = []
    for entry in given:
        pairs = [pair.partition("=") for pair in entry.split(",")]
        if not all(equals and name.strip() and value for name, equals, value in pairs):
            raise BadInput(
                f"--point {entry} cannot be read.", hint="Write --point knob=value,knob=value."
            )
        found.append({name.strip(): _read(value.strip()) for name, _, value in pairs})
    return found


def _read(text: str) -> Any:
    try:
        return json.loads(text.replace("_", "") if text.replace("_", "").isdigit() else text)
    except json.JSONDecodeError:
        return text


def tell(args: argparse.Namespace, found: object, shown: Callable[[], None]) -> None:
    """Print an outcome for machines or for people."""
    if args.json:
        print(as_json(found))
    else:
        shown()


def as_json(found: object) -> str:
    from pydantic_core import to_json

    return to_json(found, indent=2, fallback=str).decode()
