"""What samples of a lane's threads say of its lines."""

from collections import defaultdict
from collections.abc import Iterator

from ivrell.core.base.quantities import format_seconds
from ivrell.core.records.hot import HotLine, HotNode
from ivrell.core.records.wire import HotProfile

_LEAST = 0.002
"""The share of a lane's time below which a line without memory is left out."""

_DIRECT = 0.3
_FEW = 30
_WAITS = 0.1


def lines_of(profile: HotProfile, code: str) -> list[HotLine]:
    """The lines that took time or memory, as they stand in the code."""
    own: dict[int, list[float]] = defaultdict(lambda: [0.0, 0.0, 0.0])
    direct: dict[int, float] = defaultdict(float)
    whole: dict[int, float] = defaultdict(float)
    for number, frame in enumerate(profile.frames):
        path = list(_path(profile, number))
        innermost = next((one for one in path if one), 0)
        if not innermost:
            continue
        spent = own[innermost]
        spent[0] += frame.elapsed_s
        spent[1] += frame.cpu_s
        spent[2] += frame.grown_bytes
        if frame.line:
            direct[innermost] += frame.elapsed_s + frame.cpu_s
        for line in set(path) - {0}:
            whole[line] += frame.elapsed_s
    texts = code.splitlines()
    seconds = sum(frame.elapsed_s for frame in profile.frames) or 1.0
    used = sum(frame.cpu_s for frame in profile.frames) or 1.0
    found = []
    for line in sorted(own.keys() | whole.keys()):
        elapsed, cpu, grown = own[line]
        if max(elapsed / seconds, cpu / used, whole[line] / seconds) < _LEAST and not grown:
            continue
        # What it called says by itself which line called it.
        alone = direct[line] < _DIRECT * (elapsed + cpu)
        found.append(
            HotLine(
                first=line if alone else profile.together.get(line, line), line=line,
                text=texts[line - 1].strip() if 0 < line <= len(texts) else "",
                elapsed_s=elapsed, share=elapsed / seconds, whole_s=whole[line], cpu_s=cpu,
                grown_bytes=grown,
            )
        )  # fmt: skip
    return found


def _path(profile: HotProfile, number: int) -> Iterator[int]:
    """Lines of the lane from a frame outwards."""
    while number >= 0:
        yield profile.frames[number].line
        number = profile.frames[number].above


def nodes_of(profile: HotProfile) -> list[HotNode]:
    """The tree of calls: seconds that went by, and CPU time of what ran elsewhere meanwhile."""
    roots = [_root(profile, number) for number in range(len(profile.frames))]
    # Time goes by in the thread that answers; of the others there is CPU time only.
    answers = {roots[at] for at, frame in enumerate(profile.frames) if frame.elapsed_s}
    own = [
        frame.elapsed_s if roots[number] in answers else frame.cpu_s
        for number, frame in enumerate(profile.frames)
    ]
    whole = list(own)
    for number in range(len(whole) - 1, -1, -1):
        if profile.frames[number].above >= 0:
            whole[profile.frames[number].above] += whole[number]
    return [
        HotNode(
            above=frame.above if frame.above >= 0 else None, what=frame.what,
            line=frame.line or None, own_s=own[number], whole_s=whole[number],
        )
        for number, frame in enumerate(profile.frames)
    ]  # fmt: skip


def _root(profile: HotProfile, number: int) -> int:
    while profile.frames[number].above >= 0:
        number = profile.frames[number].above
    return number


def unseen(profile: HotProfile, lines: list[HotLine]) -> Iterator[str]:
    """What the samples cannot tell."""
    if profile.samples < _FEW:
        yield f"It was looked at {profile.samples} times only: shares are rough. Take more rows."
    spans = [line for line in lines if line.first != line.line and line.share > _WAITS / 2]
    if spans:
        told = ", ".join(f"{line.first} to {line.line}" for line in spans)
        yield (
            f"Lines {told} cannot be told apart: Python can be looked at only at calls and at the "
            "ends of loops."
        )
    if profile.native_cpu_s > _WAITS * profile.cpu_s:
        yield (
            f"{format_seconds(profile.native_cpu_s)} of CPU time was used by threads that "
            "libraries started; it is told to the line that waited for them."
        )
    if profile.children_cpu_s > _WAITS * profile.cpu_s:
        seen = min(profile.children_seen_s, profile.children_cpu_s)
        yield (
            f"Child processes used {format_seconds(profile.children_cpu_s)} of CPU time, of which "
            f"{format_seconds(seen)} has lines: programs that are not Python have none."
        )
    waited = profile.elapsed_s - profile.cpu_s
    if waited > _WAITS * profile.elapsed_s:
        yield (
            f"{format_seconds(waited)} went by without CPU time: waiting for a disk, a server, "
            "another process, or for a time."
        )
