"""Durations and sizes as people write and read them."""

import math
import re
from collections.abc import Callable

from ivrell.core.base.errors import BadInput

SECONDS = {"us": 1e-6, "µs": 1e-6, "ms": 1e-3, "s": 1.0, "min": 60.0, "h": 3600.0}
BYTES = {
    "b": 1,
    "kb": 10**3,
    "mb": 10**6,
    "gb": 10**9,
    "tb": 10**12,
    "kib": 2**10,
    "mib": 2**20,
    "gib": 2**30,
    "tib": 2**40,
}
_MOST_DIGITS = 18
_QUANTITY = re.compile(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([A-Za-zµ]*)\s*")


def _split(text: str, units: dict[str, float] | dict[str, int], example: str) -> tuple[float, str]:
    match = _QUANTITY.fullmatch(text)
    if not match or (match[2] and match[2].lower() not in units):
        raise BadInput(
            f"“{text}” is not a quantity that can be read here.",
            hint=f"Write a number and one of {', '.join(units)}, such as “{example}”.",
        )
    if len(match[1]) > _MOST_DIGITS:
        raise BadInput(
            f"A quantity of {len(match[1])} digits is none that can be meant.",
            hint=f"Write a number and one of {', '.join(units)}, such as “{example}”.",
        )
    return float(match[1]), match[2].lower()


def parse_seconds(text: str) -> float:
    """Read a duration such as ``"250 ms"`` or ``"2 s"``; a bare number is seconds.

    Returns seconds. Raises BadInput when it cannot be read.
    """
    number, unit = _split(text, SECONDS, "2 s")
    return number * SECONDS[unit or "s"]


def parse_bytes(text: str) -> int:
    """Read a size such as ``"1 GiB"`` or ``"500 MB"``; a bare number is bytes.

    Returns bytes. Raises BadInput when it cannot be read.
    """
    number, unit = _split(text, BYTES, "1 GiB")
    return round(number * BYTES[unit or "b"])


def three_figures(value: float) -> str:
    """A number with three significant figures and no exponent for ordinary sizes."""
    if value == 0 or not math.isfinite(value):
        return "0" if value == 0 else str(value)
    rounded = round(value, 2 - math.floor(math.log10(abs(value))))
    # Rounding may have carried into another figure: 0.9996 is 1.00, not 1.000.
    digits = 2 - math.floor(math.log10(abs(rounded)))
    return f"{rounded:,.{max(digits, 0)}f}"


def format_seconds(seconds: float) -> str:
    """A duration in the unit that fits, three figures: ``"41.3 ms"``, ``"2.05 s"``."""
    # The unit is chosen by the rounded value: 0.9996 s is 1.00 s and not 1,000 ms.
    seconds = float(f"{seconds:.3g}")
    if abs(seconds) >= 120:
        return f"{three_figures(seconds / 60)} min"
    for limit, scale, unit in ((1.0, 1.0, "s"), (1e-3, 1e3, "ms"), (0.0, 1e6, "µs")):
        if abs(seconds) >= limit:
            return f"{three_figures(seconds * scale)} {unit}"
    return f"{three_figures(seconds)} s"


def format_bytes(size: float) -> str:
    """A size in decimal units, three figures: ``"215 MB"``."""
    size = float(f"{size:.3g}") if abs(size) >= 1000 else size
    for limit, unit in ((10**12, "TB"), (10**9, "GB"), (10**6, "MB"), (10**3, "kB")):
        if abs(size) >= limit:
            return f"{three_figures(size / limit)} {unit}"
    # Bytes are whole; a part of one comes of a mean, such as bytes a row.
    return f"{size:.0f} B" if size == round(size) else f"{three_figures(size)} B"


def format_limit(size: float) -> str:
    """A size that somebody chose, in the unit that it is a whole number of: ``"300 MiB"``; else as
    ``format_bytes`` tells it."""
    for limit, unit in ((2**30, "GiB"), (2**20, "MiB")):
        if size >= limit and size % limit == 0:
            return f"{size / limit:,.0f} {unit}"
    return format_bytes(size)


_IN_UNIT: dict[str, Callable[[float], str]] = {
    "seconds": format_seconds,
    "bytes": format_bytes,
    "share": lambda value: f"{three_figures(100 * value)} %",
}
_BARE = ("count", "cores", "")


def in_unit(unit: str, value: float) -> str:
    """A value as people read it: in the unit that fits where that is known, else with its unit
    behind it; bare where it is counted."""
    if unit in _IN_UNIT:
        return _IN_UNIT[unit](value)
    told = f"{value:,.0f}" if value == round(value) else three_figures(value)
    return told if unit in _BARE else f"{told} {unit}"


def unit_named(name: str) -> str:
    """The unit that stands at the end of a counter's name; "count" where none does."""
    return next((unit for unit in ("bytes", "seconds") if name.lower().endswith(unit)), "count")
