"""What Spark says of an error, in words: no trace of the JVM's, and executors that were lost."""

import re

from ivrell.core.spark.event_log import Tally

_CALLING = re.compile(r"^An error occurred while calling [^\n]*\n: ([\w.$]+: )?")
_WRAPPER = re.compile(r"^Exception thrown in \w+:?\s*$")
_CAUSE = re.compile(
    r"\nCaused by: (?:[\w.$]+: )?(.*?)(?=\n\tat |\nDriver stacktrace|\nCaused by|\Z)", re.DOTALL
)
_ENDS = ("\n\tat ", "\nJVM stacktrace", "\nDriver stacktrace")
_LOST = re.compile(r"ExecutorLostFailure|FetchFailed")
_STAGE = re.compile(r"[Ss]tage (\d+)")
_REASON = re.compile(r"\(executor \S+ exited[^)]*\) Reason: ([^\n]*)")
_EXIT = re.compile(r"exited with code (\d+)")
_EXITS = {
    52: "its heap was full",
    137: "killed, as the system does where memory runs out",
    143: "asked to end",
}
_LONGEST = 300


def said(error: Exception) -> str:
    """What an error says, without the trace of the JVM's; the cause where it only wraps one."""
    whole = str(error)
    text = whole
    for end in _ENDS:
        text = text.split(end)[0]
    text = _CALLING.sub("", text.strip())
    if _WRAPPER.match(text) and (causes := _CAUSE.findall(whole)):
        text = str(causes[-1]).strip()
    return text or type(error).__name__


def lost_executors(text: str, tally: Tally | None) -> str | None:
    """That a query was given up since its executors ended again and again: at which stage, how
    many, and what was last heard of one. None where an error is of another kind.

    Args:
        text: the whole error with its trace.
        tally: what the session's log told; None where the driver is elsewhere.
    """
    if not _LOST.search(text):
        return None
    number = _STAGE.search(text)
    name = (tally.group_of(int(number[1])) if tally and number else "") or ""
    place = f"Stage “{name}”" if name else f"Spark's stage {number[1]}" if number else "The query"
    lost = tally.lost if tally else []
    count = f"{len(lost)} executor{'' if len(lost) == 1 else 's'}" if lost else "its executors"
    heard = lost[-1] if lost else ""
    # What the master says of a process that ended is more than that its connection broke.
    if found := _REASON.search(text):
        heard = found[1].strip()
    code = _EXIT.search(heard)
    meaning = _EXITS.get(int(code[1])) if code else None
    last = f" Last heard of one: {heard[:_LONGEST].rstrip('. ')}" if heard else ""
    return f"{place} lost {count}, and Spark gave it up.{last}{f' ({meaning})' if meaning else ''}."
