"""What comes out of a run is a stranger's word: cleaned and held to its shape once, here.
Standard library only."""

import json
import math
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ivrell.core.records.wire import EVENTS, RemoteUse, SetUpUse, Span, StageTime, Used, WorkerSays

_UNFIT = re.compile("[\x00\ud800-\udfff]")
_DEEPEST = 200
"""Levels: a plan of many steps within steps has dozens."""
_MOST = 1000
_LONGEST_NAME = 500
_LONGEST_TEXT = 100_000
LONGEST_LINE = 16 << 20
"""Bytes of a line: plans of large statements have a megabyte."""


@dataclass(frozen=True)
class Garbled:
    """Stands for an event with a name of Ivrell's and another shape: what it told."""

    what: str


def _number(value: Any) -> bool:
    return type(value) in (int, float) and 0 <= value < math.inf


def _numbers(value: Any) -> bool:
    return _few(value, dict) and all(type(n) in (int, float) for n in value.values())


def _few(value: Any, kind: type[dict[str, Any]] | type[list[Any]]) -> bool:
    """Whether a value is a dict or list that nobody has to wait for, with names that fit."""
    if not isinstance(value, kind) or len(value) > _MOST:
        return False
    return isinstance(value, list) or all(len(name) <= _LONGEST_NAME for name in value)


def _parted(*names: str) -> Callable[[Any], bool]:
    def fits(value: Any) -> bool:
        return isinstance(value, dict) and value.keys() == set(names) and _numbers(value)

    return fits


def _named(*names: str) -> Callable[[Any], bool]:
    """A list of records with a name and these numbers."""

    def fits(value: Any) -> bool:
        return _few(value, list) and all(
            isinstance(record, dict)
            and record.keys() == {"name", *names}
            and isinstance(record["name"], str)
            and len(record["name"]) <= _LONGEST_NAME
            and all(type(record[name]) in (int, float) for name in names)
            for record in value
        )

    return fits


_timed = _named("elapsed_s", "cpu_s", "times")


def _stages(value: Any) -> bool:
    if not _few(value, list) or not all(isinstance(one, dict) for one in value):
        return False
    plain = [{name: part for name, part in one.items() if name != "overlaps"} for one in value]
    return _timed(plain) and all(type(one.get("overlaps")) is bool for one in value)


def _texts(value: Any) -> bool:
    return _few(value, dict) and all(isinstance(text, str) for text in value.values())


def _is(kind: type) -> Callable[[Any], bool]:
    return lambda value: type(value) is kind


def _line(value: Any) -> bool:
    return value is None or type(value) is int


def _hot(value: Any) -> bool:
    """What samples say: each frame stands behind the one that called it, so that no path is without
    an end."""
    if value is None:
        return True
    frames = value.get("frames") if isinstance(value, dict) else None
    return (
        isinstance(frames, list)
        and len(frames) <= _MOST
        and all(
            isinstance(frame, dict)
            and type(frame.get("above")) is int
            and -1 <= frame["above"] < place
            for place, frame in enumerate(frames)
        )
    )


_of_remote = _parted("cpu_user_s", "cpu_system_s", "peak_memory_bytes")


def _remote(value: Any) -> bool:
    return value is None or (_of_remote(value) and all(map(_number, value.values())))


_SHAPES: dict[str, dict[str, Callable[[Any], bool]]] = {
    "ready": {"start_s": _number, "engine": _is(str)},
    "stopped": {
        "elapsed_s": _number,
        "repeats": lambda value: type(value) is int and value > 0,
        "used": _parted("user", "system", "faults", "faults_of_children"),
        "set_up": _parted("user", "system"),
        "stages": _stages,
        "spans": _named("start_s", "end_s"),
        "more": _is(bool),
        "joined": _is(bool),
    },
    "counted": {"counters": _numbers, "unknown": _texts, "remote": _remote},
    "restore": {},
    "exported": {
        "rows": _number, "columns": _number, "bytes": _number, "threads": _numbers,
        "plans": _is(list), "hot": _hot,
    },
    "failed": {
        "kind": _is(str), "message": _is(str), "line": _line, "trace": _is(str), "part": _is(str),
    },
}  # fmt: skip
"""What a worker may tell by the name of the event, with what each field holds; no other field is
taken over."""

_OPTIONAL = {("exported", "plans"), ("exported", "hot"), ("counted", "remote")}


def heard_from(line: bytes) -> WorkerSays | Garbled | None:
    """A line of a worker as what it tells; None where it tells nothing.

    Marks that no record can hold (NUL, lone surrogates) become U+FFFD, numbers without end
    None; what is nested deeper than any event of Ivrell's is left out, and so are the ends of texts
    of over 100,000 marks and fields that the event has not. Lists and maps of over 1,000 entries
    are none of Ivrell's. Plans of statements and where time went are held to their shape by who
    reads the run's end.
    """
    try:
        event = json.loads(line)
    except (ValueError, RecursionError):
        return None
    kind = event.get("event") if isinstance(event, dict) else None
    if not isinstance(kind, str) or kind not in _SHAPES:
        return None
    told = clean(event)
    shape = _SHAPES[kind]
    for name, fits in shape.items():
        if (kind, name) in _OPTIONAL and name not in told:
            continue
        if name not in told or not fits(told[name]):
            return Garbled(f'"{name}" of "{kind}"')
    fields = {name: told[name] for name in shape if name in told}
    if kind == "stopped":
        fields["used"], fields["set_up"] = Used(**fields["used"]), SetUpUse(**fields["set_up"])
        fields["stages"] = [StageTime(**stage) for stage in fields["stages"]]
        fields["spans"] = [Span(**span) for span in fields["spans"]]
    if fields.get("remote"):
        fields["remote"] = RemoteUse(**fields["remote"])
    says: WorkerSays = EVENTS[kind](**fields)
    return says


def clean(value: Any, depth: int = 0) -> Any:
    """A value that a record can hold, with every text and number in it."""
    if isinstance(value, str):
        return clean_text(value[:_LONGEST_TEXT])
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, dict):
        return {
            clean_text(key): clean(part, depth + 1)
            for key, part in value.items()
            if not _too_deep(part, depth)
        }
    if isinstance(value, list):
        return [clean(part, depth + 1) for part in value if not _too_deep(part, depth)]
    return value


def _too_deep(part: Any, depth: int) -> bool:
    return depth >= _DEEPEST and isinstance(part, dict | list)


def clean_text(text: str) -> str:
    """A text without marks that no record can hold."""
    return _UNFIT.sub("\ufffd", text)
