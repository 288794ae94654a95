"""Why a run ended as it did, in words for whoever wrote its approach. Standard library only."""

import re
import signal
from dataclasses import replace

from ivrell.core.base.waits import how_it_ended
from ivrell.core.contain.sandbox import SAYS
from ivrell.core.records.wire import DONE, FAILED, Failure, RunEnd

_PRINTED_LINES = 12
_PRINTED_CHARACTERS = 2000


def with_last_lines(failure: Failure, output: str) -> Failure:
    """The failure with the last lines that were printed: why a child failed may stand there
    alone."""
    lines = output.rstrip().splitlines()[-_PRINTED_LINES:]
    return replace(failure, printed="\n".join(lines)[-_PRINTED_CHARACTERS:])


def spoke_out_of_turn(what: str, phase: str) -> Failure:
    """The failure of a run whose code told something in its worker's place."""
    return Failure(
        "told what is not so",
        f"Something in the run told Ivrell {what}, which its worker does not tell.",
        part=phase,
    )


def sudden_end(code: int, phase: str, output: str, *, sandboxed: bool, begun: bool) -> Failure:
    """The failure of a worker that ended with nothing said.

    Args:
        code: its exit status; negative for a signal.
        phase: what it was doing.
        output: what it printed.
        sandboxed: whether it was in a sandbox.
        begun: whether it ever got ready.
    """
    said = output.strip()
    if sandboxed and not begun and said.startswith(SAYS):
        return Failure(
            "sandbox failed",
            f"The sandbox could not start the run: {said.splitlines()[0]}. The "
            "approach itself was not reached. Run ./ivrell machine to see whether the "
            "sandbox works here; --no-sandbox runs without it.",
            part=phase,
        )
    how = how_it_ended(code, sandboxed=sandboxed)
    hint = (
        "It was killed, perhaps by the system for want of memory."
        if how.endswith(signal.SIGKILL.name)
        else "It may have called exit, or crashed in compiled code; see what it printed."
    )
    return Failure(
        "ended early",
        f"The process ended while {phase} ({how}), without an answer. {hint}",
        part=phase,
    )


def without_its_service(end: RunEnd, why: str | None) -> RunEnd:
    """A run that failed after its remote service had ended is told with how that ended, if it did:
    what the lane says of it is a connection that was refused."""
    if end.state != FAILED or why is None:
        return end
    lane = f" The lane said: {end.failure.message}" if end.failure else ""
    failure = Failure(
        "its service ended",
        f"The remote service beside the run ended ({why}), so no call was answered any more. Look "
        f"at what its rule does; the system may have killed it for want of memory.{lane}",
        trace=end.failure.trace if end.failure else "",
    )
    return replace(end, failure=failure)


_WANTS_NETWORK = re.compile(
    "network is unreachable|name resolution|name or service not known|could not resolve host"
    "|failed to resolve|no address associated|getaddrinfo failed",
    re.IGNORECASE,
)


def asked_for_network(failure: Failure) -> Failure:
    """The failure of a sandboxed run, with a word where it seems to have wanted the network."""
    if not _WANTS_NETWORK.search(f"{failure.message} {failure.printed}"):
        return failure
    hint = "Runs have no network: read what it needs from the tables, or from a file of your own."
    return replace(failure, message=f"{failure.message} {hint}")


def without_its_load(end: RunEnd) -> RunEnd:
    """A run whose declared load ended before it did: what it measured is of another condition."""
    if end.state != DONE:
        return end
    failure = Failure(
        "its load ended",
        "What was to run beside it was ended by somebody before the run was done, so that its "
        "figures are not those of the condition. Do the run again.",
    )
    return replace(end, state=FAILED, parts=[], failure=failure)
